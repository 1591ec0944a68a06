"""Where Newton's method begins on a large problem: coordinate ascent on the dual (Hsieh et al. 2008; Shalev-Shwartz & Zhang
2013)."""

import os
from collections.abc import Sequence
from dataclasses import replace
from functools import cache
from typing import Any

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Floats, Ints
from upsort.core.classifiers.losses import Loss
from upsort.core.classifiers.optimiser_partitions import PartitionStates
from upsort.core.classifiers.problem_arrays import Singles, frobenius
from upsort.core.executors import map_threads
from upsort.core.lazy import record
from upsort.core.matrices.partitioned import StatefulActors, SumTuple

WORTH_COMPILING = 250_000
"""Numbers of the matrix times labels from which compiled passes are faster than loading them takes."""

_FEW, _MANY = 8, 16  # numbers that processors work on at once; rows of weights are as long as several of them
_GROUP = 24  # labels that are worked on side by side, at most
_MOST_PASSES = 80
_INTERCEPTS_SHARE = 0.1  # of the gradient's norm that is enough, for the slopes of the intercepts
_GAP_FOR = 50.0  # the gap as a share of the losses at which a gradient is about so small: the square of this times its share
_GAP_AT_MOST = 8e-4  # the objective is then within about 1e-4 of the optimum, since a pass adds up gaps as they were
_NEARER = 4.0  # times that the gap must have fallen before the gradient is looked at again
_STALLED = 0.9  # of the gap of the pass before, from which passes bring nothing more
_SEED = 1


@record(frozen=True, kw_only=True)
class DualProblem:
    """What is minimised, as `newton.Objective` says it, without a lasso."""

    partitions: PartitionStates
    n_labels: int
    ridge: float


@record(frozen=True, kw_only=True)
class _LabelGroup:
    """Some labels of a part: which of its documents have them (n, c), their dual variables (n, c), and what does not change."""

    own: Singles
    scale: Singles
    squares: Singles
    dual: Singles


def is_worthwhile(problem: DualProblem) -> bool:
    """Whether passes pay, where they can be had. For one column of weights the products with the matrix are so much faster than
    going from document to document that Newton's method is there first."""
    partitions = problem.partitions
    if problem.n_labels == 1:
        return False
    large = partitions.nnz * problem.n_labels >= WORTH_COMPILING and partitions.rows > 1
    return large and problem.ridge > 0.0 and bool(partitions.loss.kernel)


@cache
def compiled() -> Any:
    """The module of the passes; None where what compiles them cannot be loaded. Loaded only where it pays."""
    try:
        from upsort.core.classifiers import kernels
    except (ImportError, AttributeError, OSError, RuntimeError):  # it is missing, or does not fit what else is installed
        return None
    return kernels


def _grouped(loss: Loss, n_labels: int) -> list[Ints]:
    """The labels that are worked on side by side."""
    return np.array_split(np.arange(n_labels), -(-n_labels // _GROUP) if loss.separable else 1)


class DualPass:
    """Passes over one part. What sets attributes is for `StatefulActors.update`.

    held: the penalty divided by the number of parts, and what the intercepts' term counts."""

    def __init__(
        self, matrix: csr_array, loss: Loss, scale: Floats | None, n_labels: int, penalties: tuple[float, float]
    ) -> None:
        self.loss = loss
        self.shape = matrix.shape
        self.ridge, self.bias = penalties
        self.data = matrix.data.astype(np.float32)
        self.starts, self.columns = matrix.indptr.astype(np.int64), matrix.indices.astype(np.int32)
        self.cost = loss.weights.astype(np.float32)
        self.orders = np.random.default_rng(_SEED)
        self.groups = [self._group(labels, scale) for labels in _grouped(loss, n_labels)]

    def _group(self, labels: Ints, of_terms: Floats | None) -> _LabelGroup:
        own = np.ascontiguousarray(self.loss.own[:, labels], dtype=np.float32)
        squared = csr_array((self.data**2, self.columns, self.starts), shape=self.shape)
        if of_terms is None:
            scale = np.zeros((0, 0), dtype=np.float32)
            squares = np.asarray(squared.sum(axis=1), dtype=np.float32).reshape(-1, 1)
        else:
            scale = np.ascontiguousarray(of_terms[:, labels], dtype=np.float32)
            squares = np.ascontiguousarray(squared @ scale**2)
        dual = np.zeros_like(own)
        if not self.loss.separable:
            dual = own * np.float32(0.99) + np.float32(0.01 / labels.size)  # inside, where the entropy has a slope
        elif self.loss.kernel == "logistic":
            dual = np.broadcast_to((self.cost * 0.01 / self.ridge)[:, None], own.shape).astype(np.float32)
        return _LabelGroup(own=own, scale=scale, squares=squares, dual=dual)

    def sums(self) -> SumTuple:
        """For each group (p, c) the pull of the part's documents on each term, and below it (c,) their whole pull."""
        matrix = csr_array((self.data, self.columns, self.starts), shape=self.shape)
        scores = []
        for group in self.groups:
            pulls = self._dual_sums(group)
            terms = matrix.T @ pulls
            scaled = terms if not group.scale.size else terms * group.scale
            scores.append(SumTuple((scaled, pulls.sum(axis=0, dtype=np.float64))))
        return SumTuple(scores)

    def intercept_terms(self) -> SumTuple:
        """For each group (c,) all that the documents of the part pull."""
        return SumTuple(self._dual_sums(group).sum(axis=0, dtype=np.float64) for group in self.groups)

    def with_penalty(self, ridge: float, bias: float) -> None:
        """Go on under another penalty, from what each document pulled so far."""
        factor = np.float32(self.ridge / ridge)
        self.ridge, self.bias = ridge, bias
        if self.loss.separable:
            self.groups = [replace(group, dual=group.dual * factor) for group in self.groups]

    def _dual_sums(self, group: _LabelGroup) -> Singles:
        """(n, c) what each document pulls of its terms."""
        if not self.loss.separable:
            pulls: Singles = (group.own - group.dual) * (self.cost / np.float32(self.ridge))[:, None]
            return pulls
        return (np.float32(2) * group.own - np.float32(1)) * group.dual

    def run(self, weights: Sequence[Singles], alone: bool) -> SumTuple:
        """One pass, beginning at the weights of each group: what they come to, or, where there are other parts, by how much they
        move; the gap and the losses."""
        orders = np.random.default_rng(_SEED)
        orders.bit_generator.state = self.orders.bit_generator.state
        self.orders = orders
        order = self.orders.permutation(self.shape[0])
        kernels = compiled()
        work, data_of = kernels.PASSES[self.loss.kernel], kernels.Data
        penalties = (np.float32(self.ridge), np.float32(self.bias))

        def run_group(place: int) -> tuple[_LabelGroup, Singles, float, float]:
            group, after = self.groups[place], weights[place].copy()
            data = data_of(self.starts, self.columns, self.data, group.own, self.cost, group.squares, group.scale)
            dual = group.dual.copy()
            gap, losses = work(data, dual, after, order, penalties)
            return replace(group, dual=dual), after, gap, losses

        done = map_threads(run_group, range(len(self.groups)), min(len(self.groups), os.cpu_count() or 1))
        self.groups = [group for group, *_ in done]
        return SumTuple(
            SumTuple((after if alone else after - before, gap, losses))
            for before, (_, after, gap, losses) in zip(weights, done, strict=True)
        )


class DualAscent:
    """Passes over one problem, whose penalty may change between them, along a path. by_group: weights, (p + 1, at least c).

    Documents in several parts, wherever these are, ascend side by side: each part goes over its own as if its changes were
    changed as many times as there are parts, and the changes are added up (Jaggi et al. 2014; Ma et al. 2015, *Adding vs.
    averaging in distributed primal-dual optimization*, whose subproblem with the safe factor that is). That is a pass under the
    penalty divided by the number of parts."""

    def __init__(self, problem: DualProblem) -> None:
        self.problem = problem
        partitions = problem.partitions
        self.parts = np.float32(len(partitions.parts))
        self.bias = max(1.0, problem.ridge)
        self.center = partitions.loss.first_intercepts()
        self.passes = 0
        scale = partitions.executor.put(partitions.scale)
        penalties = (problem.ridge / len(partitions.parts), self.bias)
        climbers = [
            partitions.executor.submit(DualPass, part, loss, scale, problem.n_labels, penalties)
            for part, loss in zip(partitions.parts, partitions.losses, strict=True)
        ]
        self.actors = StatefulActors(climbers, partitions.executor)
        self.labels = _grouped(partitions.loss, problem.n_labels)
        self._join()

    def _join(self) -> None:
        """Make the weights those of the dual variables."""
        self.by_group = []
        for labels, (terms, pulled) in zip(self.labels, self.actors.query("sums"), strict=True):
            width = _FEW if labels.size <= 2 * _MANY else _MANY
            weights = np.zeros((self.problem.partitions.width, -(-labels.size // width) * width), dtype=np.float32)
            weights[:-1, : labels.size] = terms if self.parts == 1 else terms / self.parts
            weights[-1, : labels.size] = self.center[labels] + self.bias * pulled / self.parts
            self.by_group.append(weights)

    def with_penalty(self, ridge: float) -> None:
        """Go on under another penalty, from what each document pulled so far."""
        self.problem, self.bias, self.passes = replace(self.problem, ridge=ridge), max(1.0, ridge), 0
        self.actors.update_quietly("with_penalty", ridge / len(self.problem.partitions.parts), self.bias)
        self._join()

    def run(self) -> float:
        """One pass over all documents; returns the duality gap as a share of the losses, about."""
        alone = len(self.actors.members) == 1
        results = self.actors.update("run", self.by_group, alone)
        self.by_group = [
            moved if alone else before + moved / self.parts for before, (moved, _, _) in zip(self.by_group, results, strict=True)
        ]
        self.passes += 1
        losses = sum(one for _, _, one in results)
        return sum(one for _, one, _ in results) / losses if losses > 0 else 0.0

    @property
    def weights(self) -> Floats:
        """(p + 1, k)."""
        each = zip(self.by_group, self.labels, strict=True)
        return np.hstack([weights[:, : labels.size] for weights, labels in each]).astype(np.float64)

    def move_intercepts(self, intercepts: Floats) -> None:
        """Let the intercepts be penalised for their distance from what makes these the best."""
        pulled = self.actors.query("intercept_terms")
        for weights, labels, mine in zip(self.by_group, self.labels, pulled, strict=True):
            weights[-1, : labels.size] = intercepts[labels]
            self.center[labels] = intercepts[labels] - self.bias * mine / self.parts


def run_dual_passes(ascent: DualAscent, enough: float, reference: float) -> tuple[Floats, float]:
    """(p + 1, k) weights near the optimum, and the norm of the gradient there.

    enough: the norm at which to stop; reference: that at zero weights.

    A pass over the documents costs about as much as one pair of products with the matrix, and some ten or twenty of them come as
    near to the optimum as training asks for. Labels that are reported from the rest one by one are worked on in groups, by
    several threads; the groups are the same on every machine, so that the result is too.

    The intercepts, which are not penalised, take part as weights of a term that every document has, penalised for their distance
    from where they were best last: a proximal point, which moves at every look at the gradient (Rockafellar 1976)."""
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


def _finished(problem: DualProblem, weights: Floats, enough: float) -> tuple[Floats, float]:
    """The weights with the best intercepts next to them, and the norm of the gradient there."""
    problem.partitions.update_quietly("reset_scores", weights)
    weights[-1] = problem.partitions.best_intercepts(weights[-1], _INTERCEPTS_SHARE * enough)
    slopes = problem.partitions.query("intercept_gradient", weights[-1])
    slopes[:-1] += problem.ridge * weights[:-1]
    return weights, frobenius(slopes)
