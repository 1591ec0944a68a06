"""The two products that training is made of: scores from weights, and sums over documents from residuals.

Both come in float64, for values and gradients, and in float32, for the inner steps that need no more than a direction. Rows are
split between two threads; each row is worked out in one piece, so that the result does not depend on the split.
"""

import os
from concurrent.futures import ThreadPoolExecutor
from itertools import pairwise
from typing import Any

import numpy as np
import numpy.typing as npt
from scipy.sparse import csr_array

from upsort.core.arrays import Floats

Singles = npt.NDArray[np.float32]
_THREADS = min(2, os.cpu_count() or 1)
_WORTH_A_THREAD = 1 << 22  # multiplications


class Products:
    """Products with a matrix, (n, p), whose last weight is an intercept: every document has a 1 there.

    scale: (p, k) what each weight is multiplied by beforehand, where labels see the terms differently.
    """

    def __init__(self, matrix: csr_array, scale: Floats | None = None) -> None:
        self.matrix = matrix
        self.scale = scale
        self.rows = matrix.shape[0]
        self.width = matrix.shape[1] + 1
        single = csr_array((matrix.data.astype(np.float32), matrix.indices, matrix.indptr), shape=matrix.shape)
        self.single = _in_pieces(single)
        self.single_transposed = _in_pieces(csr_array(single.T.tocsr()))
        self.pieces = _in_pieces(matrix)

    def scores(self, weights: Floats, columns: Any = slice(None)) -> Floats:
        """(p + 1, c) weights → (n, c) float64."""
        terms = weights[:-1] if self.scale is None else weights[:-1] * self.scale[:, columns]
        scores: Floats = _product(self.pieces, np.ascontiguousarray(terms)) + weights[-1]
        return scores

    def sums(self, residuals: Floats, columns: Any = slice(None)) -> Floats:
        """(n, c) residuals → (p + 1, c) float64."""
        terms = np.asarray(self.matrix.T @ residuals)
        if self.scale is not None:
            terms *= self.scale[:, columns]
        return np.vstack((terms, residuals.sum(axis=0)))

    def fast_scores(self, weights: Singles, columns: Any = slice(None)) -> Singles:
        """As `scores`, in float32."""
        terms = weights[:-1] if self.scale is None else weights[:-1] * self.scale[:, columns].astype(np.float32)
        scores: Singles = _product(self.single, np.ascontiguousarray(terms)) + weights[-1]
        return scores

    def fast_sums(self, residuals: Singles, columns: Any = slice(None)) -> Singles:
        """As `sums`, in float32."""
        terms = _product(self.single_transposed, np.ascontiguousarray(residuals))
        if self.scale is not None:
            terms *= self.scale[:, columns].astype(np.float32)
        return np.vstack((terms, residuals.sum(axis=0)))

    def squared_sums(self, values: Floats, columns: Any = slice(None)) -> Floats:
        """(n, c) ≥ 0 → (p + 1, c): sums over documents of value² · entry, in float32."""
        squared = [_with_data(piece, piece.data**2) for piece in self.single_transposed]
        terms: Floats = _product(squared, np.ascontiguousarray(values.astype(np.float32))).astype(np.float64)
        if self.scale is not None:
            terms *= self.scale[:, columns] ** 2
        return np.vstack((terms, values.sum(axis=0)))


def _with_data(matrix: csr_array, data: npt.NDArray[Any]) -> csr_array:
    return csr_array((data, matrix.indices, matrix.indptr), shape=matrix.shape)


def _in_pieces(matrix: csr_array) -> list[csr_array]:
    """The rows in pieces with about the same number of entries."""
    cuts = np.searchsorted(matrix.indptr, np.linspace(0, matrix.nnz, _THREADS + 1)[1:-1]).tolist()
    return [csr_array(matrix[begin:end]) for begin, end in pairwise([0, *cuts, matrix.shape[0]])]


def _product(pieces: list[csr_array], dense: npt.NDArray[Any]) -> Any:
    if len(pieces) == 1 or sum(piece.nnz for piece in pieces) * dense.shape[1] < _WORTH_A_THREAD:
        return np.vstack([piece @ dense for piece in pieces])
    with ThreadPoolExecutor(len(pieces)) as pool:
        return np.vstack(list(pool.map(lambda piece: piece @ dense, pieces)))
