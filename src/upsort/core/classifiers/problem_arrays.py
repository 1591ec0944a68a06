"""What a classifier learns from: the label of each document, and how much each document counts.

The two products that training is made of: scores from weights, and sums over documents from residuals.

Both come in float64, for values and gradients, and in float32, for the inner steps that need no more than a direction. The rows
are worked on in two halves, by two threads where that pays. The halves are the same on every machine, so that the result does not
depend on the number of processors."""

import os
from collections.abc import Callable
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt
from scipy.sparse import csc_array, csr_array

from upsort.core import plan
from upsort.core.arrays import Bools, Floats, Ints
from upsort.core.executors import map_threads
from upsort.core.lazy import record
from upsort.core.matrices.partitioned import rows_of


@record(frozen=True)
class Targets:
    """labels: (n,) numbers below n_labels. weights: (n,) > 0, how much each document counts; 1 on average as a rule.

    sets: (n, n_labels) where a document may have several labels or none; the labels then mean nothing."""

    labels: Ints
    n_labels: int
    weights: Floats
    sets: Bools | None = None

    @property
    def own(self) -> Bools:
        """(n, n_labels) which labels a document has."""
        return self.sets if self.sets is not None else as_sets(self.labels, self.n_labels)

    def rows(self, chosen: Ints | Bools) -> "Targets":
        """The targets of some of the documents."""
        sets = self.sets[chosen] if self.sets is not None else None
        return Targets(self.labels[chosen], self.n_labels, self.weights[chosen], sets)


def as_sets(labels: Ints, n_labels: int) -> Bools:
    """(n, n_labels) the sets that hold one label each. labels: (n,) numbers."""
    sets: Bools = labels[:, None] == np.arange(n_labels)
    return sets


def targets_of(
    labels: Ints, names: tuple[str, ...], settings: plan.Classifier, row_weights: Floats | None = None, sets: Bools | None = None
) -> Targets:
    """Labels with the weights that a plan gives to documents and to labels.

    Balanced label weights are n / (k · documents of the label) (King & Zeng 2001). row_weights: (n,), scaled to a mean of 1."""
    n, k = labels.size, len(names)
    weights = np.ones(n) if row_weights is None else row_weights * (n / row_weights.sum())
    if sets is None:
        if settings.label_weights == "even":
            sizes = np.maximum(np.bincount(labels, minlength=k), 1)
            weights = weights * (n / (k * sizes))[labels]
        elif isinstance(settings.label_weights, dict):
            for name, weight in settings.label_weights.items():
                if name in names:
                    weights = np.where(labels == names.index(name), weights * weight, weights)
    return Targets(labels, k, weights, sets)


Singles = npt.NDArray[np.float32]
_THREADS = min(2, os.cpu_count() or 1)
_WORTH_A_THREAD = 1 << 22  # multiplications
_WORTH_HALVING = 1 << 18  # entries
_Part = tuple[slice, csr_array, csc_array]


class Products:
    """Products with a matrix, (n, p), whose last weight is an intercept: every document has a 1 there.

    scale: (p, k) what each weight is multiplied by beforehand, where labels see the terms differently."""

    def __init__(self, matrix: csr_array, scale: Floats | None = None) -> None:
        self.matrix = matrix
        self.scale = scale
        self.rows = matrix.shape[0]
        self.width = matrix.shape[1] + 1

    @cached_property
    def _double(self) -> "_SplitMatrix":
        return _SplitMatrix(self.matrix)

    @cached_property
    def _single(self) -> "_SplitMatrix":
        return _SplitMatrix(_with_data(self.matrix, self.matrix.data.astype(np.float32)))

    @cached_property
    def _squared(self) -> "_SplitMatrix":
        return _SplitMatrix(_with_data(self.matrix, np.square(self.matrix.data, dtype=np.float32, casting="unsafe")))

    def scores(self, weights: Floats, columns: Any = slice(None)) -> Floats:
        """(p + 1, c) weights → (n, c) float64."""
        terms = weights[:-1] if self.scale is None else weights[:-1] * self.scale[:, columns]
        scores: Floats = self._double.times(np.ascontiguousarray(terms))
        scores += weights[-1]
        return scores

    def sums(self, residuals: Floats, columns: Any = slice(None)) -> Floats:
        """(n, c) residuals → (p + 1, c) float64."""
        sums: Floats = self._double.transposed_times(residuals)
        if self.scale is not None:
            sums[:-1] *= self.scale[:, columns]
        return sums

    def fast_scores(self, weights: Singles, columns: Any = slice(None)) -> Singles:
        """As `scores`, in float32."""
        terms = weights[:-1] if self.scale is None else weights[:-1] * self.scale[:, columns].astype(np.float32)
        scores: Singles = self._single.times(np.ascontiguousarray(terms))
        scores += weights[-1]
        return scores

    def fast_sums(self, residuals: Singles, columns: Any = slice(None)) -> Singles:
        """As `sums`, in float32."""
        sums: Singles = self._single.transposed_times(residuals)
        if self.scale is not None:
            sums[:-1] *= self.scale[:, columns].astype(np.float32)
        return sums

    def squared_sums(self, values: Singles, columns: Any = slice(None)) -> Floats:
        """(n, c) ≥ 0 → (p + 1, c): sums over documents of value² · entry, in float32."""
        sums: Floats = self._squared.transposed_times(values).astype(np.float64)
        if self.scale is not None:
            sums[:-1] *= self.scale[:, columns] ** 2
        return sums


def frobenius(values: Floats) -> float:
    """The square root of the sum of squares. One thread adds up, in one order: the processors of a machine change no digit, and
    none is woken for little."""
    flat = values.ravel()
    return float(np.sqrt(np.einsum("i,i->", flat, flat)))


def _with_data(matrix: csr_array, data: npt.NDArray[Any]) -> csr_array:
    return csr_array((data, matrix.indices, matrix.indptr), shape=matrix.shape)


class _SplitMatrix:
    """A matrix whose rows are in two parts with about the same number of entries, a small one's in one. The parts, and what they
    are transposed, share its memory."""

    def __init__(self, matrix: csr_array) -> None:
        rows = matrix.shape[0]
        middle = int(np.searchsorted(matrix.indptr, matrix.nnz // 2)) if matrix.nnz >= _WORTH_HALVING else rows
        halves = [(0, middle), (middle, rows)] if middle < rows else [(0, rows)]
        parts = [(slice(begin, end), rows_of(matrix, begin, end)) for begin, end in halves]
        self.matrix = matrix
        self.parts = [(place, part, part.T) for place, part in parts]

    def times(self, dense: npt.NDArray[Any]) -> Any:
        """matrix @ dense."""
        product = np.empty((self.matrix.shape[0], dense.shape[1]), dtype=dense.dtype)

        def work(half: _Part) -> None:
            rows, part, _ = half
            product[rows] = part @ dense

        self._map_halves(dense, work)
        return product

    def transposed_times(self, dense: npt.NDArray[Any]) -> Any:
        """The transposed matrix @ dense, and below it the sums of the columns of `dense`."""

        def work(half: _Part) -> Any:
            rows, _, transposed = half
            return transposed @ np.ascontiguousarray(dense[rows])

        first, *rest = self._map_halves(dense, work)
        for other in rest:
            first += other
        return np.vstack((first, dense.sum(axis=0)))

    def _map_halves(self, dense: npt.NDArray[Any], work: Callable[[_Part], Any]) -> list[Any]:
        threads = _THREADS if self.matrix.nnz * dense.shape[1] >= _WORTH_A_THREAD else 1
        return map_threads(work, self.parts, threads)
