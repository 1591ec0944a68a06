"""Whether a sorter is right as often as it says.

Documents are put into ten bins by the probability of the label they were given. The calibration error is the mean over the
documents of the distance between a bin's mean probability and its share right (Naeini, Cooper & Hauskrecht 2015). It is above 0
for perfect probabilities too, since shares of few documents vary: by about √(2 p (1 − p) / (π n)) in a bin of n documents, the
mean distance of a normal variable.

Measures of probabilities, and of the order they put documents in.

For n documents with own label yᵢ and probabilities pᵢ:

- log loss: mean of −ln pᵢ[yᵢ], probabilities cut at 10⁻¹⁵ (Good 1952)
- Brier score: mean over documents of Σ over labels (pᵢ[l] − 1 where l is its own)² (Brier 1950)
- top-2 accuracy: the share of documents whose own label is among the two most probable

For the areas under curves see `areas`. The interval of a mean is Student's, of its logarithm (a mean of losses is skewed), with
documents as units, or the groups that they belong to. A document judged several times counts with the mean over its repeats.
"""

import numpy as np

from upsort.core.arrays import Bools, Floats, Ints
from upsort.core.evaluation.areas import Areas, areas
from upsort.core.evaluation.intervals import UNKNOWN, Rate, Sample, share_of, student, whole_or_mean
from upsort.core.lazy import record

_BINS = 10


@record(frozen=True, kw_only=True)
class Bin:
    """Documents whose given label has a probability from `low` on, below `high`. probability: the mean. right: how many of
    them are."""

    low: float
    high: float
    probability: float
    right: Rate

    @property
    def documents(self) -> float:
        """How many."""
        return self.right.of or 0.0


@record(frozen=True)
class Reliability:
    """The bins that hold documents, lowest first."""

    bins: tuple[Bin, ...]

    @property
    def error(self) -> float:
        """The calibration error."""
        return self._mean(
            np.array(
                [
                    abs(reliability_bin.probability - (reliability_bin.right.value or 0.0))
                    for reliability_bin in self.bins
                ]
            )
        )

    @property
    def by_chance(self) -> float:
        """What perfect probabilities would show on as many documents."""
        p = np.array([reliability_bin.probability for reliability_bin in self.bins])
        n = np.array([max(reliability_bin.documents, 1.0) for reliability_bin in self.bins])
        return self._mean(np.sqrt(2.0 * p * (1.0 - p) / (np.pi * n)))

    @property
    def fullest(self) -> Bin | None:
        """The bin with most documents; of equals the lower."""
        return max(self.bins, key=lambda reliability_bin: reliability_bin.documents, default=None)

    def _mean(self, of_bins: Floats) -> float:
        weights = np.array([reliability_bin.documents for reliability_bin in self.bins])
        return float((weights * of_bins).sum() / max(weights.sum(), 1.0))


def reliability(probability: Floats, right: Bools, sample: Sample) -> Reliability:
    """probability: (m,) of the given label. right: (m,) whether it is the document's own."""
    place = np.minimum((np.round(probability, 12) * _BINS).astype(np.int64), _BINS - 1)
    bins = []
    for number in np.unique(place).tolist():
        among = place == number
        bins.append(
            Bin(
                low=number / _BINS,
                high=(number + 1) / _BINS,
                probability=float(probability[among].mean()),
                right=share_of((right & among).astype(np.float64), among.astype(np.float64), sample),
            )
        )
    return Reliability(tuple(bins))


_SMALLEST = 1e-15


@record(frozen=True)
class OwnProbability:
    """What documents of one label got for that label. mean, median: None where there are none."""

    documents: float
    mean: float | None
    median: float | None


@record(frozen=True, kw_only=True)
class ProbabilityMeasures:
    """All but top2 are over the documents whose label the sorter knows; each rate says how many those are. own: by
    label."""

    log_loss: Rate
    brier: Rate
    top2: Rate
    areas: Areas
    own: tuple[OwnProbability, ...]
    reliability: Reliability


def log_losses(true: Ints, probabilities: Floats) -> Floats:
    """(n,) −ln of the probability of each document's own label."""
    own = probabilities[np.arange(true.size), true]
    losses: Floats = -np.log(np.maximum(own, _SMALLEST))
    return losses


def brier_terms(true: Ints, probabilities: Floats) -> Floats:
    """(n,) each document's squared distance from certainty about its own label."""
    own = probabilities[np.arange(true.size), true]
    terms: Floats = (probabilities**2).sum(axis=1) - 2.0 * own + 1.0
    return terms


def judge_probabilities(true: Ints, probabilities: Floats, sorted_as: Ints, sample: Sample) -> ProbabilityMeasures:
    """Measure. true, sorted_as: (m,) label numbers, −1 for a label the sorter does not know. probabilities: (m, k)."""
    known = true >= 0
    own, mine, drawn = true[known], probabilities[known], sample.rows(known)
    ranked = np.argsort(-probabilities, axis=1, kind="stable")[:, :2]
    top2 = (ranked == true[:, None]).any(axis=1)
    return ProbabilityMeasures(
        log_loss=mean_loss(log_losses(own, mine), drawn),
        brier=mean_loss(brier_terms(own, mine), drawn),
        top2=share_of(top2.astype(np.float64), np.ones(true.size), sample),
        areas=areas(own, mine, drawn),
        own=tuple(_own(mine[own == label, label], sample.repeats) for label in range(probabilities.shape[1])),
        reliability=reliability(
            probabilities[np.arange(sorted_as.size), sorted_as], np.asarray(true == sorted_as), sample
        ),
    )


def _own(probabilities: Floats, repeats: int) -> OwnProbability:
    if not probabilities.size:
        return OwnProbability(0, None, None)
    return OwnProbability(
        whole_or_mean(probabilities.size / repeats), float(probabilities.mean()), float(np.median(probabilities))
    )


def mean_loss(losses: Floats, sample: Sample) -> Rate:
    """The mean of (m,) losses, not below 0."""
    if not losses.size:
        return UNKNOWN
    n, value = sample.documents, float(losses.mean())
    residuals = sample.sum_per_document(sample.mean(losses) - value)
    units = residuals.size
    if units < 2 or value <= 0.0:
        return Rate(value=value, low=None, high=None, documents=n)
    error = float(np.sqrt(units / (units - 1) * (residuals**2).sum())) / n
    factor = float(np.exp(student(units - 1) * error / value))
    return Rate(value=value, low=value / factor, high=value * factor, documents=n)


def roc_points(own: Bools, score: Floats) -> tuple[Floats, Floats]:
    """The shares of other and of own documents at or above each score, from (0, 0) to (1, 1)."""
    order = np.argsort(-score, kind="stable")
    last = np.append(score[order][1:] < score[order][:-1], True)
    right, wrong = np.cumsum(own[order])[last], np.cumsum(~own[order])[last]
    zero = np.zeros(1)
    return np.concatenate((zero, wrong / max(wrong[-1], 1))), np.concatenate((zero, right / max(right[-1], 1)))


def precision_recall_points(own: Bools, score: Floats) -> tuple[Floats, Floats]:
    """Recall and precision at or above each score, from the highest on."""
    order = np.argsort(-score, kind="stable")
    last = np.flatnonzero(np.append(score[order][1:] < score[order][:-1], True))
    right = np.cumsum(own[order])[last]
    return right / max(int(own.sum()), 1), right / (last + 1.0)
