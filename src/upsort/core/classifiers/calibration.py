"""From scores to probabilities, learned on documents that the classifier was not trained on."""

from dataclasses import field
from math import sqrt

import numpy as np

from upsort.core.arrays import AnyArray, Bools, Floats, Ints
from upsort.core.classifiers.family import ArraySpec
from upsort.core.lazy import optimize, record, special

ARRAYS: dict[str, dict[str, ArraySpec]] = {
    "none": {},
    "temperature": {"calibration_slopes": ArraySpec(("slopes",), least=1e-9)},
    "platt": {"calibration_slopes": ArraySpec(("slopes",)), "calibration_offsets": ArraySpec(("slopes",))},
    "isotonic": {"calibration_knots": ArraySpec(("knots", "knot columns"))},
}
"""What each kind keeps, by name."""

_ROWS = 4096  # pooled at a time


@record(frozen=True)
class Calibration:
    """kind: none, temperature, platt or isotonic.

    slopes, offsets: (1,) for a temperature, (k,) for platt. knots: (m, 3) for isotonic: label, score, value, by label and score.

    - temperature: softmax(S · t), the one slope t > 0 that gives the least log loss (Guo et al. 2017). Of n documents each counts
      1 / (n + 2) as one of the other labels, as in Platt's targets, so that scores without mistakes do not pass for certain.
    - platt: for each label 1 / (1 + exp(−(a S + b))), with Platt's smoothed targets (Platt 1999), then divided by their sum
    - isotonic: for each label the non-decreasing step function of S with the least squares (Zadrozny & Elkan 2002; pool adjacent
      violators, Ayer et al. 1955), between the steps a straight line, then divided by their sum. A lowest step of n documents
      none of
      which has the label is taken as ½ / (n + 1), a highest one all of which have it as (n + ½) / (n + 1): never 0 or 1.
    - none: softmax(S)

    Platt's and the step functions see one label at a time, so that the label of the highest score need not be the most probable
    one. Where scores decide, what contradicts their order is pooled (`reordered_like`)."""

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


_LARGEST_SLOPE = 1e3


def calibrate(kind: str, scores: Floats, labels: Ints) -> Calibration:
    """Learn from (n, k) scores of held-out documents and their (n,) labels."""
    own = labels[:, None] == np.arange(scores.shape[1])
    match kind:
        case "temperature":
            return Calibration(kind, np.array([_slope(scores, labels)]))
        case "platt" | "isotonic":
            return calibrate_each(kind, scores, own)
        case "none":
            return Calibration()
        case _:
            raise ValueError(f"there is no calibration {kind!r}")


def calibrate_each(kind: str, scores: Floats, own: Bools) -> Calibration:
    """Learn each label for itself. own: (n, k) which labels each document has."""
    if kind == "isotonic":
        knots = [
            np.column_stack((np.full(len(steps), label), steps))
            for label in range(scores.shape[1])
            for steps in [isotonic(scores[:, label], own[:, label])]
        ]
        return Calibration(kind, knots=np.vstack(knots))
    fitted = np.array([_platt(scores[:, label], own[:, label]) for label in range(scores.shape[1])])
    return Calibration("platt", fitted[:, 0], fitted[:, 1])


def _slope(scores: Floats, labels: Ints) -> float:
    """The t that minimises Σ −ln softmax(S t)[label], which is convex in t: where its derivative is 0, by Newton's method, which
    takes the middle of the bounds on a log scale where a step leaves them (Press et al. 2007, section 9.4)."""
    rows = np.arange(labels.size)
    other_target = 1.0 / (labels.size + 2.0)
    own = scores[rows, labels]
    rest = (scores.sum(axis=1) - own) / (scores.shape[1] - 1)
    targets = (1.0 - other_target) * own + other_target * rest

    def derivatives(slope: float) -> tuple[float, float]:
        p = softmax(scores * slope)
        mean = (p * scores).sum(axis=1)
        return float((mean - targets).mean()), float((p * (scores - mean[:, None]) ** 2).sum(axis=1).mean())

    low, high = 1.0 / _LARGEST_SLOPE, _LARGEST_SLOPE
    if derivatives(low)[0] >= 0.0:
        return low
    if derivatives(high)[0] <= 0.0:
        return high
    slope = 1.0
    for _ in range(100):
        first, second = derivatives(slope)
        low, high = (slope, high) if first < 0.0 else (low, slope)
        step = first / second if second > 0.0 else np.inf
        following = slope - step if low < slope - step < high else sqrt(low * high)
        if abs(following - slope) <= 1e-10 * slope:
            break
        slope = following
    return slope


def _platt(scores: Floats, own: Bools) -> tuple[float, float]:
    """The slope and offset of least log loss, by Newton's method with halving (Lin, Lin & Weng 2007)."""
    positive = int(own.sum())
    negative = own.size - positive
    target = np.where(own, (positive + 1.0) / (positive + 2.0), 1.0 / (negative + 2.0))
    scale = float(np.abs(scores).max()) or 1.0
    x = scores / scale
    a, b = 0.0, float(np.log((positive + 1.0) / (negative + 1.0)))

    def loss(a: float, b: float) -> float:
        f = a * x + b
        return float((np.logaddexp(0.0, f) - target * f).sum())

    value = loss(a, b)
    for _ in range(100):
        p = special.expit(a * x + b)
        d, h = p - target, p * (1.0 - p)
        gradient = np.array([(d * x).sum(), d.sum()])
        if np.abs(gradient).max() < 1e-8 * own.size:
            break
        hessian = np.array([[(h * x * x).sum(), (h * x).sum()], [(h * x).sum(), h.sum()]]) + 1e-12 * np.eye(2)
        step = np.linalg.solve(hessian, gradient)
        length = 1.0
        while length > 1e-10 and loss(a - length * step[0], b - length * step[1]) > value:
            length /= 2.0
        a, b = a - length * float(step[0]), b - length * float(step[1])
        value = loss(a, b)
    return a / scale, b


def isotonic(scores: Floats, own: Bools) -> Floats:
    """(m, 2) ascending scores and non-decreasing values of the least-squares step function of `own`, without needless steps."""
    distinct, place = np.unique(scores, return_inverse=True)
    sizes = np.bincount(place).astype(np.float64)
    means = np.bincount(place, weights=own.astype(np.float64)) / sizes
    fit = optimize.isotonic_regression(means, weights=sizes)
    values, blocks = fit.x, fit.blocks
    begin, end = blocks[:-1], blocks[1:]
    documents = np.add.reduceat(sizes, begin)
    if values[0] <= 0.0 and begin.size > 1:
        values[: end[0]] = min(0.5 / (documents[0] + 1.0), values[end[0]])
    if values[-1] >= 1.0 and begin.size > 1:
        values[begin[-1] :] = max((documents[-1] + 0.5) / (documents[-1] + 1.0), values[begin[-1] - 1])
    if begin.size == 1:  # nothing is reported by the score
        values[:] = (own.sum() + 0.5) / (own.size + 1.0)
    inner = np.zeros(values.size, dtype=bool)
    inner[1:-1] = (values[1:-1] == values[:-2]) & (values[1:-1] == values[2:])
    return np.column_stack((distinct[~inner], values[~inner]))
