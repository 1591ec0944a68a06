"""The losses of linear classifiers, as functions of the scores, (n, k), with weights of documents.

Each gives for scores S its value, its derivative by the scores, and what its second derivative makes of a change of the scores.
In a separable loss every label has its own value and could be trained alone; the softmax ties all labels together and has one
value."""

from collections.abc import Callable, Iterator
from dataclasses import replace
from typing import Protocol, Self

import numpy as np

from upsort.core.arrays import Bools, Floats, Ints
from upsort.core.classifiers.problem_arrays import Singles, as_sets, frobenius
from upsort.core.lazy import record

_LEAST_SHARE = 1e-6
_ROWS_AT_ONCE = 4096
_INTERCEPT_STEPS = 20  # of Newton's method
_FAR = 2.0  # how far an intercept moves in a step at most
Columns = Ints | slice
"""Which labels are meant."""
Slopes = Callable[[Floats], tuple[Floats, Floats]]
"""Gives the first and the second derivative by intercepts."""


class State(Protocol):
    """A loss at certain scores."""

    @property
    def residuals(self) -> Floats:
        """(n, c) the derivative by the scores."""

    def hessian_product(self, change: Singles) -> Singles:
        """(n, c) float32: the second derivative times a change of the scores."""

    def curvature_diagonal(self) -> Singles:
        """(n, c) float32: the diagonal of the second derivative."""


class Loss(Protocol):
    """A loss of the scores of certain documents."""

    @property
    def separable(self) -> bool:
        """Whether each label has a value of its own."""

    @property
    def kernel(self) -> str:
        """The name of the pass over documents that ascends its dual, see `kernels`; empty where there is none."""

    @property
    def own(self) -> Bools:
        """(n, k) which labels each document has."""

    @property
    def weights(self) -> Floats:
        """(n,) of the documents."""

    def rows(self, chosen: slice) -> Self:
        """The loss of some of the documents."""

    def of_second(self) -> "Loss":
        """Of two labels that exclude each other: the loss as a function of the scores of the second, (n, 1), less, where the
        labels are tied together, those of the first."""

    def intercept_derivatives(self, scores: Floats, intercepts: Floats) -> tuple[Floats, Floats]:
        """The first derivative by intercepts, (k,), beside scores without any, (n, k), and the second, (k,) or (k, k)."""

    def best_intercepts(self, slopes: Slopes, start: Floats, enough: float) -> Floats:
        """(k,) the intercepts that are best beside scores without any. slopes: gives for intercepts the sums of
        `intercept_derivatives`. enough: the norm of the first to stop at."""

    def first_intercepts(self) -> Floats:
        """(k,) intercepts to begin with: those that are best without any terms, or nearly."""

    def values(self, scores: Floats, columns: Columns) -> Floats:
        """(c,) the value of each label, or (1,) of all together."""

    def state_at(self, scores: Floats, columns: Columns) -> State:
        """The derivatives at these scores."""


@record(frozen=True)
class _Pointwise:
    """A state whose second derivative has nothing beside its diagonal."""

    residuals: Floats
    curvature: Singles

    def hessian_product(self, change: Singles) -> Singles:
        return change * self.curvature

    def curvature_diagonal(self) -> Singles:
        return self.curvature


@record(frozen=True)
class _SoftmaxState:
    residuals: Floats
    probabilities: Singles
    weights: Singles

    def hessian_product(self, change: Singles) -> Singles:
        weighted = self.probabilities * change
        weighted -= self.probabilities * weighted.sum(axis=1, keepdims=True)
        weighted *= self.weights[:, None]
        return weighted

    def curvature_diagonal(self) -> Singles:
        stiff = 1.0 - self.probabilities
        stiff *= self.probabilities
        stiff *= self.weights[:, None]
        return stiff


@record(frozen=True, kw_only=True)
class Softmax:
    """Σ wᵢ · −ln softmax(Sᵢ)[label of i]. labels: (n,), of n_labels; weights: (n,) of documents."""

    labels: Ints
    weights: Floats
    n_labels: int
    separable: bool = False
    kernel: str = "softmax"

    @property
    def own(self) -> Bools:
        return as_sets(self.labels, self.n_labels)

    def rows(self, chosen: slice) -> Self:
        return replace(self, labels=self.labels[chosen], weights=self.weights[chosen])

    def of_second(self) -> Loss:
        return Logistic(self.own[:, 1:], self.weights)

    def first_intercepts(self) -> Floats:
        shares = np.bincount(self.labels, weights=self.weights, minlength=self.n_labels) / self.weights.sum()
        logs: Floats = np.log(np.maximum(shares, _LEAST_SHARE))
        return logs

    def intercept_derivatives(self, scores: Floats, intercepts: Floats) -> tuple[Floats, Floats]:
        k = self.n_labels
        slopes, hessian = np.zeros(k), np.zeros((k, k))
        for rows in _blocks(self.labels.size):
            part = scores[rows] + intercepts
            np.exp(part - part.max(axis=1, keepdims=True), out=part)
            part /= part.sum(axis=1, keepdims=True)
            weighted = part * self.weights[rows, None]
            slopes += weighted.sum(axis=0)
            hessian += np.diag(weighted.sum(axis=0)) - part.T @ weighted
        slopes -= np.bincount(self.labels, weights=self.weights, minlength=k)
        return slopes, hessian

    def best_intercepts(self, slopes: Slopes, start: Floats, enough: float) -> Floats:
        intercepts = start.copy()
        for _ in range(_INTERCEPT_STEPS):
            first, second = slopes(intercepts)
            if frobenius(first) <= enough:
                break
            second = second + 1e-9 * second.max() * np.eye(self.n_labels)  # all intercepts may rise together
            intercepts -= np.clip(np.linalg.solve(second, first), -_FAR, _FAR)
        return intercepts

    def values(self, scores: Floats, columns: Columns) -> Floats:
        value = 0.0
        for rows in _blocks(self.labels.size):
            part, labels = scores[rows], self.labels[rows]
            largest = part.max(axis=1)
            logs = np.log(np.exp(part - largest[:, None]).sum(axis=1)) + largest - part[np.arange(labels.size), labels]
            value += float(np.einsum("i,i->", self.weights[rows], logs))
        return np.array([value])

    def state_at(self, scores: Floats, columns: Columns) -> State:
        residuals = np.empty(scores.shape)
        probabilities = np.empty(scores.shape, dtype=np.float32)
        for rows in _blocks(self.labels.size):
            part, labels = residuals[rows], self.labels[rows]
            np.exp(scores[rows] - scores[rows].max(axis=1, keepdims=True), out=part)
            part /= part.sum(axis=1, keepdims=True)
            probabilities[rows] = part
            part[np.arange(labels.size), labels] -= 1.0
            part *= self.weights[rows, None]
        return _SoftmaxState(residuals, probabilities, self.weights.astype(np.float32))


@record(frozen=True)
class _PerLabelLoss:
    """A loss in which every label has a value of its own. own: (n, k) which labels a document has; weights: (n,)."""

    own: Bools
    weights: Floats
    separable: bool = True
    kernel: str = ""

    def first_intercepts(self) -> Floats:
        return 2.0 * _shares(self.own, self.weights) - 1.0

    def rows(self, chosen: slice) -> Self:
        return replace(self, own=self.own[chosen], weights=self.weights[chosen])

    def of_second(self) -> Loss:
        return replace(self, own=self.own[:, 1:])

    def intercept_derivatives(self, scores: Floats, intercepts: Floats) -> tuple[Floats, Floats]:
        state = self.state_at(scores + intercepts, slice(None))
        return state.residuals.sum(axis=0), state.curvature_diagonal().sum(axis=0, dtype=np.float64)

    def best_intercepts(self, slopes: Slopes, start: Floats, enough: float) -> Floats:
        intercepts = start.copy()
        for _ in range(_INTERCEPT_STEPS):
            first, second = slopes(intercepts)
            if frobenius(first) <= enough:
                break
            intercepts -= np.clip(first / np.maximum(second, 1e-9 * self.weights.sum()), -_FAR, _FAR)
        return intercepts

    def values(self, scores: Floats, columns: Columns) -> Floats:
        values = np.zeros(scores.shape[1])
        for rows in _blocks(len(scores)):
            margins = self._margins(scores, rows, columns)
            values += np.einsum("i,ij->j", self.weights[rows], self._losses(margins))
        return values

    def state_at(self, scores: Floats, columns: Columns) -> State:
        residuals = np.empty(scores.shape)
        curvature = np.empty(scores.shape, dtype=np.float32)
        for rows in _blocks(len(scores)):
            slopes, bends = self._derivatives(self._margins(scores, rows, columns))
            slopes *= self.weights[rows, None]
            residuals[rows] = np.where(self.own[rows, columns], slopes, -slopes)
            curvature[rows] = bends * self.weights[rows, None]
        return _Pointwise(residuals, curvature)

    def _margins(self, scores: Floats, rows: slice, columns: Columns) -> Floats:
        """y S of some rows, y = ±1: above 0 where the score has the right sign."""
        return np.where(self.own[rows, columns], scores[rows], -scores[rows])

    def _losses(self, margins: Floats) -> Floats:
        raise NotImplementedError

    def _derivatives(self, margins: Floats) -> tuple[Floats, Floats]:
        """The first and second derivative by the margin."""
        raise NotImplementedError


@record(frozen=True)
class Logistic(_PerLabelLoss):
    """Σ wᵢ · ln(1 + exp(−y S)) for each label, y = ±1."""

    kernel: str = "logistic"

    def first_intercepts(self) -> Floats:
        shares = np.clip(_shares(self.own, self.weights), _LEAST_SHARE, 1.0 - _LEAST_SHARE)
        odds: Floats = np.log(shares / (1.0 - shares))
        return odds

    def _losses(self, margins: Floats) -> Floats:
        losses: Floats = np.logaddexp(0.0, -margins)
        return losses

    def _derivatives(self, margins: Floats) -> tuple[Floats, Floats]:
        wrong = 1.0 / (1.0 + np.exp(np.clip(margins, -700, 700)))
        return -wrong, wrong * (1.0 - wrong)


@record(frozen=True)
class SquaredHinge(_PerLabelLoss):
    """Σ wᵢ · max(0, 1 − y S)² for each label. Its second derivative is that of the documents inside the margin."""

    kernel: str = "hinge"

    def _losses(self, margins: Floats) -> Floats:
        return np.maximum(1.0 - margins, 0.0) ** 2

    def _derivatives(self, margins: Floats) -> tuple[Floats, Floats]:
        short = np.maximum(1.0 - margins, 0.0)
        return -2.0 * short, np.where(short > 0.0, 2.0, 0.0)


@record(frozen=True)
class Squares(_PerLabelLoss):
    """Σ wᵢ · (S − y)² for each label, y = ±1."""

    kernel: str = "squares"

    def _losses(self, margins: Floats) -> Floats:
        return (1.0 - margins) ** 2

    def _derivatives(self, margins: Floats) -> tuple[Floats, Floats]:
        return 2.0 * (margins - 1.0), np.full_like(margins, 2.0)


def _blocks(rows: int) -> Iterator[slice]:
    """All rows, some at a time: few enough for the cache."""
    return (slice(begin, begin + _ROWS_AT_ONCE) for begin in range(0, rows, _ROWS_AT_ONCE))


def _shares(own: Bools, weights: Floats) -> Floats:
    """(k,) the share of the documents that have each label."""
    shares: Floats = (own * weights[:, None]).sum(axis=0) / weights.sum()
    return shares
