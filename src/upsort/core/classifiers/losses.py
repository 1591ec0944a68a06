"""The losses of linear classifiers, as functions of the scores, (n, k), with weights of documents.

Each gives for scores S its value, its derivative by the scores, and what its second derivative makes of a change of the
scores. In a separable loss every label has its own value and could be trained alone; the softmax ties all labels together and
has one value.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from upsort.core.arrays import Bools, Floats, Ints
from upsort.core.classifiers.products import Singles

_LEAST_SHARE = 1e-6
_ROWS_AT_ONCE = 4096
Columns = Ints | slice
"""Which labels are meant."""


class State(Protocol):
    """A loss at certain scores."""

    @property
    def residuals(self) -> Floats:
        """(n, c) the derivative by the scores."""

    def bend(self, change: Singles) -> Singles:
        """(n, c) float32: the second derivative times a change of the scores."""

    def stiffness(self) -> Singles:
        """(n, c) float32: the diagonal of the second derivative."""


class Loss(Protocol):
    """A loss of the scores of certain documents."""

    @property
    def separable(self) -> bool:
        """Whether each label has a value of its own."""

    def first_intercepts(self) -> Floats:
        """(k,) intercepts to begin with: those that are best without any terms, or nearly."""

    def values(self, scores: Floats, columns: Columns) -> Floats:
        """(c,) the value of each label, or (1,) of all together."""

    def at(self, scores: Floats, columns: Columns) -> State:
        """The derivatives at these scores."""


@dataclass(frozen=True)
class _Pointwise:
    """A state whose second derivative has nothing beside its diagonal."""

    residuals: Floats
    curvature: Singles

    def bend(self, change: Singles) -> Singles:
        return change * self.curvature

    def stiffness(self) -> Singles:
        return self.curvature


@dataclass(frozen=True)
class _SoftmaxState:
    residuals: Floats
    probabilities: Singles
    weights: Singles

    def bend(self, change: Singles) -> Singles:
        weighted = self.probabilities * change
        weighted -= self.probabilities * weighted.sum(axis=1, keepdims=True)
        weighted *= self.weights[:, None]
        return weighted

    def stiffness(self) -> Singles:
        stiff = 1.0 - self.probabilities
        stiff *= self.probabilities
        stiff *= self.weights[:, None]
        return stiff


@dataclass(frozen=True)
class Softmax:
    """Σ wᵢ · −ln softmax(Sᵢ)[label of i]. labels: (n,); weights: (n,) of documents."""

    labels: Ints
    weights: Floats
    separable: bool = False

    def first_intercepts(self) -> Floats:
        shares = np.bincount(self.labels, weights=self.weights) / self.weights.sum()
        logs: Floats = np.log(np.maximum(shares, _LEAST_SHARE))
        return logs

    def values(self, scores: Floats, columns: Columns) -> Floats:
        value = 0.0
        for rows in _blocks(self.labels.size):
            part, labels = scores[rows], self.labels[rows]
            largest = part.max(axis=1)
            logs = np.log(np.exp(part - largest[:, None]).sum(axis=1)) + largest - part[np.arange(labels.size), labels]
            value += float(np.einsum("i,i->", self.weights[rows], logs))
        return np.array([value])

    def at(self, scores: Floats, columns: Columns) -> State:
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


@dataclass(frozen=True)
class Logistic:
    """Σ wᵢ · ln(1 + exp(−y S)) for each label, y = ±1. own: (n, k) which labels a document has."""

    own: Bools
    weights: Floats
    separable: bool = True

    def first_intercepts(self) -> Floats:
        shares = np.clip(_shares(self.own, self.weights), _LEAST_SHARE, 1.0 - _LEAST_SHARE)
        odds: Floats = np.log(shares / (1.0 - shares))
        return odds

    def values(self, scores: Floats, columns: Columns) -> Floats:
        signed = np.where(self.own[:, columns], -scores, scores)
        return _weighted(self.weights, np.logaddexp(0.0, signed))

    def at(self, scores: Floats, columns: Columns) -> State:
        p = 1.0 / (1.0 + np.exp(-np.clip(scores, -700, 700)))
        curvature = (p * (1.0 - p) * self.weights[:, None]).astype(np.float32)
        return _Pointwise((p - self.own[:, columns]) * self.weights[:, None], curvature)


@dataclass(frozen=True)
class SquaredHinge:
    """Σ wᵢ · max(0, 1 − y S)² for each label. Its second derivative is that of the documents inside the margin."""

    own: Bools
    weights: Floats
    separable: bool = True

    def first_intercepts(self) -> Floats:
        return 2.0 * _shares(self.own, self.weights) - 1.0

    def values(self, scores: Floats, columns: Columns) -> Floats:
        short = np.maximum(1.0 - np.where(self.own[:, columns], scores, -scores), 0.0)
        return _weighted(self.weights, short * short)

    def at(self, scores: Floats, columns: Columns) -> State:
        sign = np.where(self.own[:, columns], 1.0, -1.0)
        short = np.maximum(1.0 - sign * scores, 0.0)
        inside = np.where(short > 0.0, 2.0 * self.weights[:, None], 0.0).astype(np.float32)
        return _Pointwise(-2.0 * self.weights[:, None] * sign * short, inside)


@dataclass(frozen=True)
class Squares:
    """Σ wᵢ · (S − y)² for each label, y = ±1."""

    own: Bools
    weights: Floats
    separable: bool = True

    def first_intercepts(self) -> Floats:
        return 2.0 * _shares(self.own, self.weights) - 1.0

    def values(self, scores: Floats, columns: Columns) -> Floats:
        return _weighted(self.weights, (scores - np.where(self.own[:, columns], 1.0, -1.0)) ** 2)

    def at(self, scores: Floats, columns: Columns) -> State:
        twice = np.broadcast_to(2.0 * self.weights[:, None], scores.shape)
        residuals = twice * (scores - np.where(self.own[:, columns], 1.0, -1.0))
        return _Pointwise(residuals, twice.astype(np.float32))


def _blocks(rows: int) -> Iterator[slice]:
    """All rows, some at a time: few enough for the cache."""
    return (slice(begin, begin + _ROWS_AT_ONCE) for begin in range(0, rows, _ROWS_AT_ONCE))


def _shares(own: Bools, weights: Floats) -> Floats:
    """(k,) the share of the documents that have each label."""
    shares: Floats = (own * weights[:, None]).sum(axis=0) / weights.sum()
    return shares


def _weighted(weights: Floats, losses: Floats) -> Floats:
    sums: Floats = np.einsum("i,ij->j", weights, losses)
    return sums
