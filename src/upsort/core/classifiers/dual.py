"""Where Newton's method begins on a large problem: coordinate ascent on the dual (Hsieh et al. 2008; Shalev-Shwartz & Zhang
2013).

A pass over the documents costs about as much as one pair of products with the matrix, and some ten or twenty of them come as
near to the optimum as training asks for. Labels that are told from the rest one by one are worked on in groups, by several
threads; the groups are the same on every machine, so that the result is too.

The intercepts, which are not penalised, take part as weights of a term that every document has, penalised for their distance from
where they were best last: a proximal point, which moves at every look at the gradient (Rockafellar 1976).
"""

import os
from collections.abc import Iterator
from dataclasses import replace
from functools import cache
from typing import Any

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Floats, Ints
from upsort.core.classifiers.losses import Loss
from upsort.core.classifiers.products import Products, Singles, frobenius
from upsort.core.records import record
from upsort.core.threads import by_threads

WORTH_COMPILING = 250_000
"""Numbers of the matrix times labels from which compiled passes are faster than loading them takes."""

_FEW, _MANY = 8, 16  # numbers that processors work on at once; rows of weights are as long as several of them
_GROUP = 24  # labels that are worked on side by side, at most
_MOST_PASSES = 80
_INTERCEPTS_SHARE = 0.1  # of the gradient's norm that is enough, for the slopes of the intercepts
_GAP_FOR = (
    50.0  # the gap as a share of the losses at which a gradient is about so small: the square of this times its share
)
_GAP_AT_MOST = 8e-4  # the objective is then within about 1e-4 of the optimum, since a pass adds up gaps as they were
_NEARER = 4.0  # times that the gap must have fallen before the gradient is looked at again
_STALLED = 0.9  # of the gap of the pass before, from which passes bring nothing more
_SEED = 1


@record(frozen=True, kw_only=True)
class Problem:
    """What is minimised, as `newton.Objective` says it, without a lasso."""

    products: Products
    loss: Loss
    n_labels: int
    ridge: float


@record(kw_only=True)
class _Group:
    """Some labels: their dual variables (n, c), their weights (p + 1, at least c), the gap and the losses of the last pass."""

    own: Singles
    scale: Singles
    squares: Singles
    dual: Singles
    weights: Singles
    gap: float = np.inf
    losses: float = 0.0


def worth(problem: Problem) -> bool:
    """Whether passes pay, where they can be had."""
    products = problem.products
    large = products.matrix.nnz * problem.n_labels >= WORTH_COMPILING and products.rows > 1
    return large and problem.ridge > 0.0 and bool(problem.loss.kernel)


@cache
def compiled() -> Any:
    """The module of the passes; None where what compiles them cannot be loaded. Loaded only where it pays."""
    try:
        from upsort.core.classifiers import kernels
    except (
        ImportError,
        AttributeError,
        OSError,
        RuntimeError,
    ):  # it is missing, or does not fit what else is installed
        return None
    return kernels


class Ascent:
    """Passes over one problem, whose penalty may change between them, along a path."""

    def __init__(self, problem: Problem, kernels: Any) -> None:
        self.problem = problem
        self.work, self.data_of = kernels.PASSES[problem.loss.kernel], kernels.Data
        matrix, loss = problem.products.matrix, problem.loss
        self.data = matrix.data.astype(np.float32)
        self.starts, self.columns = matrix.indptr.astype(np.int64), matrix.indices.astype(np.int32)
        self.cost = loss.weights.astype(np.float32)
        self.bias = max(1.0, problem.ridge)
        self.center = loss.first_intercepts()
        self.passes = 0
        self.order = np.random.default_rng(_SEED)
        groups = 1 if not loss.separable else -(-problem.n_labels // _GROUP)
        self.groups = [self._group(labels) for labels in np.array_split(np.arange(problem.n_labels), groups)]

    def _group(self, labels: Ints) -> _Group:
        products, loss = self.problem.products, self.problem.loss
        own = np.ascontiguousarray(loss.own[:, labels], dtype=np.float32)
        squared = csr_array((self.data**2, self.columns, self.starts), shape=products.matrix.shape)
        if products.scale is None:
            scale = np.zeros((0, 0), dtype=np.float32)
            squares = np.asarray(squared.sum(axis=1), dtype=np.float32).reshape(-1, 1)
        else:
            scale = np.ascontiguousarray(products.scale[:, labels], dtype=np.float32)
            squares = np.ascontiguousarray(squared @ scale**2)
        dual = np.zeros_like(own)
        if not loss.separable:
            dual = own * np.float32(0.99) + np.float32(0.01 / labels.size)  # inside, where the entropy has a slope
        elif loss.kernel == "logistic":
            dual = np.broadcast_to((self.cost * 0.01 / self.problem.ridge)[:, None], own.shape).astype(np.float32)
        width = _FEW if labels.size <= 2 * _MANY else _MANY
        weights = np.zeros((products.width, -(-labels.size // width) * width), dtype=np.float32)
        group = _Group(own=own, scale=scale, squares=squares, dual=dual, weights=weights)
        self._join(group, labels)
        return group

    def _join(self, group: _Group, labels: Ints | slice) -> None:
        """Make the weights of some labels those of their dual variables."""
        pulls = self._pulls(group)
        matrix = csr_array((self.data, self.columns, self.starts), shape=self.problem.products.matrix.shape)
        terms = matrix.T @ pulls
        k = pulls.shape[1]
        group.weights[:-1, :k] = terms if self.problem.products.scale is None else terms * group.scale
        group.weights[-1, :k] = self.center[labels] + self.bias * pulls.sum(axis=0, dtype=np.float64)

    def under(self, ridge: float) -> None:
        """Go on under another penalty, from what each document pulled so far."""
        factor = np.float32(self.problem.ridge / ridge)
        self.problem, self.bias = replace(self.problem, ridge=ridge), max(1.0, ridge)
        self.passes = 0
        for group, labels in self._parts():
            if self.problem.loss.separable:
                group.dual *= factor
            self._join(group, labels)

    def _parts(self) -> Iterator[tuple[_Group, slice]]:
        begin = 0
        for group in self.groups:
            yield group, slice(begin, begin + group.own.shape[1])
            begin += group.own.shape[1]

    def _pulls(self, group: _Group) -> Singles:
        """(n, c) what each document pulls of its terms."""
        if not self.problem.loss.separable:
            pulls: Singles = (group.own - group.dual) * (self.cost / np.float32(self.problem.ridge))[:, None]
            return pulls
        return (np.float32(2) * group.own - np.float32(1)) * group.dual

    def run(self) -> float:
        """One pass over all documents; returns the duality gap as a share of the losses, about."""
        order = self.order.permutation(self.problem.products.rows)
        penalty, bias = np.float32(self.problem.ridge), np.float32(self.bias)

        def one(group: _Group) -> None:
            data = self.data_of(self.starts, self.columns, self.data, group.own, self.cost, group.squares, group.scale)
            group.gap, group.losses = self.work(data, group.dual, group.weights, order, (penalty, bias))

        by_threads(one, self.groups, min(len(self.groups), os.cpu_count() or 1))
        self.passes += 1
        losses = sum(group.losses for group in self.groups)
        return sum(group.gap for group in self.groups) / losses if losses > 0 else 0.0

    @property
    def weights(self) -> Floats:
        """(p + 1, k)."""
        return np.hstack([group.weights[:, : group.own.shape[1]] for group in self.groups]).astype(np.float64)

    def move_intercepts(self, intercepts: Floats) -> None:
        """Let the intercepts be penalised for their distance from what makes these the best."""
        for group, labels in self._parts():
            group.weights[-1, : group.own.shape[1]] = intercepts[labels]
            self.center[labels] = intercepts[labels] - self.bias * self._pulls(group).sum(axis=0, dtype=np.float64)


def ascend(ascent: Ascent, enough: float, reference: float) -> tuple[Floats, float]:
    """(p + 1, k) weights near the optimum, and the norm of the gradient there.

    enough: the norm at which to stop; reference: that at zero weights.
    """
    problem = ascent.problem
    target = min((_GAP_FOR * enough / reference) ** 2, _GAP_AT_MOST)
    best, least, before = ascent.weights, np.inf, np.inf
    while ascent.passes < _MOST_PASSES:
        gap = ascent.run()
        stalled = gap > _STALLED * before and ascent.passes > _MOST_PASSES // 4
        before = gap
        if gap > target and not stalled and ascent.passes < _MOST_PASSES:
            continue
        weights, norm = _finished(problem, ascent.weights, enough)
        if norm >= least:
            break  # the passes are at the end of their digits
        best, least = weights, norm
        if norm <= enough or stalled:
            break
        ascent.move_intercepts(weights[-1])
        target = gap / _NEARER
    return best, least


def _finished(problem: Problem, weights: Floats, enough: float) -> tuple[Floats, float]:
    """The weights with the best intercepts beside them, and the norm of the gradient there."""
    products, loss = problem.products, problem.loss
    scores = products.scores(weights)
    scores -= weights[-1]
    weights[-1] = loss.best_intercepts(scores, weights[-1], _INTERCEPTS_SHARE * enough)
    scores += weights[-1]
    slopes = products.sums(loss.at(scores, slice(None)).residuals)
    slopes[:-1] += problem.ridge * weights[:-1]
    return weights, frobenius(slopes)
