"""From scores to probabilities, learned on documents that the classifier was not trained on.

- temperature: softmax(S · t), the one slope t > 0 that gives the least log loss (Guo et al. 2017). Of n documents each counts
  1 / (n + 2) as one of the other labels, as in Platt's targets, so that scores without mistakes do not pass for certain.
- platt: for each label 1 / (1 + exp(−(a S + b))), with Platt's smoothed targets (Platt 1999), then divided by their sum
- isotonic: for each label the non-decreasing step function of S with the least squares (Zadrozny & Elkan 2002; pool adjacent
  violators, Ayer et al. 1955), between the steps a straight line, then divided by their sum. A lowest step of n documents none of
  which has the label is taken as ½ / (n + 1), a highest one all of which have it as (n + ½) / (n + 1): never 0 or 1.
- none: softmax(S)

Platt's and the step functions see one label at a time, so that the label of the highest score need not be the most probable one.
Where scores decide, what contradicts their order is pooled (`in_order_of`).
"""

from dataclasses import field

import numpy as np

from upsort.core.arrays import AnyArray, Floats
from upsort.core.classifiers.family import ArraySpec
from upsort.core.deferred import special
from upsort.core.records import record

ARRAYS: dict[str, dict[str, ArraySpec]] = {
    "none": {},
    "temperature": {"calibration_slopes": ArraySpec(("slopes",))},
    "platt": {"calibration_slopes": ArraySpec(("slopes",)), "calibration_offsets": ArraySpec(("slopes",))},
    "isotonic": {"calibration_knots": ArraySpec(("knots", "knot columns"))},
}
"""What each kind keeps, by name."""

_ROWS = 4096  # pooled at a time


@record(frozen=True)
class Calibration:
    """kind: none, temperature, platt or isotonic.

    slopes, offsets: (1,) for a temperature, (k,) for platt. knots: (m, 3) for isotonic: label, score, value, by label and
    score.
    """

    kind: str = "none"
    slopes: Floats = field(default_factory=lambda: np.zeros(0))
    offsets: Floats = field(default_factory=lambda: np.zeros(0))
    knots: Floats = field(default_factory=lambda: np.zeros((0, 3)))

    @property
    def keeps_order(self) -> bool:
        """Whether the label of the highest score is that of the highest probability, whatever the scores."""
        return self.kind in {"none", "temperature"}

    def probabilities(self, scores: Floats) -> Floats:
        """(n, k) scores → (n, k) probabilities, whose rows sum to 1."""
        match self.kind:
            case "temperature":
                return softmax(scores * self.slopes[0])
            case "platt" | "isotonic":
                each = np.maximum(self.each(scores), 1e-300)
                return np.asarray(each / each.sum(axis=1, keepdims=True))
            case "none":
                return softmax(scores)
            case _:
                raise ValueError(f"there is no calibration {self.kind!r}")

    def each(self, scores: Floats) -> Floats:
        """(n, k) the probability of each label for itself, where labels do not exclude each other."""
        match self.kind:
            case "isotonic":
                values = np.empty_like(scores)
                for label in range(scores.shape[1]):
                    mine = self.knots[self.knots[:, 0] == label]
                    values[:, label] = np.interp(scores[:, label], mine[:, 1], mine[:, 2])
                return values
            case "platt":
                return np.asarray(special.expit(scores * self.slopes + self.offsets))
            case "none":
                return np.asarray(special.expit(scores))
            case _:
                raise ValueError(f"there is no calibration {self.kind!r} of each label for itself")

    def arrays(self) -> dict[str, AnyArray]:
        """What the sorter file keeps."""
        match self.kind:
            case "temperature":
                return {"calibration_slopes": self.slopes}
            case "platt":
                return {"calibration_slopes": self.slopes, "calibration_offsets": self.offsets}
            case "isotonic":
                return {"calibration_knots": self.knots}
            case "none":
                return {}
            case _:
                raise ValueError(f"there is no calibration {self.kind!r}")


def softmax(scores: Floats) -> Floats:
    """Rows to positive numbers that sum to 1."""
    grown: Floats = scores - scores.max(axis=1, keepdims=True)
    np.exp(grown, out=grown)
    grown /= grown.sum(axis=1, keepdims=True)
    return grown


def reordered_like(scores: Floats, probabilities: Floats) -> Floats:
    """(n, k) the probabilities nearest to the given ones (in squares) that never contradict the order of the scores.

    In a row where a lower score has the higher probability, both get their mean, and so on (pool adjacent violators). Sums stay.
    """
    order = np.argsort(-scores, axis=1, kind="stable")
    ranked = np.take_along_axis(probabilities, order, axis=1)
    against = np.flatnonzero((np.diff(ranked, axis=1) > 0).any(axis=1))
    k = scores.shape[1]
    for begin in range(0, against.size, _ROWS):
        rows = against[begin : begin + _ROWS]
        sums = np.concatenate((np.zeros((rows.size, 1)), np.cumsum(ranked[rows], axis=1)), axis=1)
        # the value at j is the least over first places i ≤ j of the largest mean of a stretch from i to an l ≥ j
        pooled = np.full((rows.size, k), np.inf)
        for first in range(k):
            means = (sums[:, first + 1 :] - sums[:, first, None]) / np.arange(1, k - first + 1)
            largest = np.maximum.accumulate(means[:, ::-1], axis=1)[:, ::-1]
            pooled[:, first:] = np.minimum(pooled[:, first:], largest)
        ranked[rows] = pooled
    placed = np.empty_like(ranked)
    np.put_along_axis(placed, order, ranked, axis=1)
    return placed
