"""Measures of probabilities, and of the order they put documents in.

For n documents with own label yᵢ and probabilities pᵢ:

- log loss: mean of −ln pᵢ[yᵢ], probabilities cut at 10⁻¹⁵ (Good 1952)
- Brier score: mean over documents of Σ over labels (pᵢ[l] − 1 where l is its own)² (Brier 1950)
- ROC area of a label: the chance that a document of the label has a higher probability for it than one of another label,
  half for equals (Hanley & McNeil 1982); of all: the mean over the labels
- precision-recall area of a label: average precision, Σ (recall step) · precision (Manning, Raghavan & Schütze 2008, 8.4)
- top-2 accuracy: the share of documents whose own label is among the two most probable

Intervals are percentiles of a bootstrap that keeps the number of documents of each label; those of areas are 1.96 of its standard
deviations to either side.
"""

from dataclasses import dataclass

import numpy as np

from upsort.core.arrays import Floats, Ints
from upsort.core.judging.intervals import Z_95, Rate, wilson

_SMALLEST = 1e-15
_RESAMPLES = 1000
_AREA_RESAMPLES = 200
_LEAST_RESAMPLES = 30
_MOST_CELLS = 15_000_000  # of documents, labels and resamples together
_BINS = 10


@dataclass(frozen=True)
class Reliability:
    """Documents by the probability of the label they were given: mean probability, share right, and documents, of each bin."""

    probability: tuple[float, ...]
    right: tuple[float, ...]
    documents: tuple[int, ...]

    def expected_error(self) -> float:
        """The mean distance of probability and share right, weighted by documents (Naeini, Cooper & Hauskrecht 2015)."""
        weights = np.array(self.documents, dtype=np.float64)
        gap = np.abs(np.array(self.probability) - np.array(self.right))
        return float((weights * gap).sum() / max(weights.sum(), 1.0))


@dataclass(frozen=True)
class ProbabilityMeasures:
    """areas: of each label, (ROC, precision-recall), None where there are no documents of it or no others."""

    log_loss: Rate
    brier: Rate
    roc_area: Rate
    precision_recall_area: Rate
    top2: Rate
    areas: tuple[tuple[float | None, float | None], ...]
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


def judge_probabilities(true: Ints, probabilities: Floats, given: Ints, seed: int) -> ProbabilityMeasures:
    """Measure. true, given: (n,) label numbers, −1 for a label the sorter does not know. probabilities: (n, k)."""
    known = true >= 0
    own, mine = true[known], probabilities[known]
    areas = tuple(_areas(own == label, mine[:, label]) for label in range(probabilities.shape[1]))
    n = int(true.size)
    top2 = 0
    if own.size:
        ranked = np.argsort(-mine, axis=1, kind="stable")[:, :2]
        top2 = int((ranked == own[:, None]).any(axis=1).sum())
    roc, average = _mean_areas(own, mine, areas, seed)
    return ProbabilityMeasures(
        _mean(log_losses(own, mine), own, seed),
        _mean(brier_terms(own, mine), own, seed),
        roc,
        average,
        wilson(top2, n),
        areas,
        reliability(true, probabilities, given),
    )


def reliability(true: Ints, probabilities: Floats, given: Ints) -> Reliability:
    """Ten bins of equally many documents, by the probability of the given label."""
    chosen = probabilities[np.arange(given.size), given]
    order = np.argsort(chosen, kind="stable")
    parts = [part for part in np.array_split(order, min(_BINS, max(1, given.size // 5))) if part.size]
    return Reliability(
        tuple(float(chosen[part].mean()) for part in parts),
        tuple(float((true[part] == given[part]).mean()) for part in parts),
        tuple(int(part.size) for part in parts),
    )


def roc_curve(own: "np.ndarray[tuple[int], np.dtype[np.bool_]]", score: Floats) -> tuple[Floats, Floats]:
    """The shares of other and of own documents at or above each score, from (0, 0) to (1, 1)."""
    order = np.argsort(-score, kind="stable")
    last = np.append(score[order][1:] < score[order][:-1], True)
    right, wrong = np.cumsum(own[order])[last], np.cumsum(~own[order])[last]
    zero = np.zeros(1)
    return np.concatenate((zero, wrong / max(wrong[-1], 1))), np.concatenate((zero, right / max(right[-1], 1)))


def precision_recall_curve(own: "np.ndarray[tuple[int], np.dtype[np.bool_]]", score: Floats) -> tuple[Floats, Floats]:
    """Recall and precision at or above each score, from the highest on."""
    order = np.argsort(-score, kind="stable")
    last = np.flatnonzero(np.append(score[order][1:] < score[order][:-1], True))
    right = np.cumsum(own[order])[last]
    return right / max(int(own.sum()), 1), right / (last + 1.0)


def _areas(own: "np.ndarray[tuple[int], np.dtype[np.bool_]]", score: Floats) -> tuple[float | None, float | None]:
    if not own.any():
        return None, None
    recall, precision = precision_recall_curve(own, score)
    average = float((np.diff(recall, prepend=0.0) * precision).sum())
    if own.all():
        return None, average
    wrong, right = roc_curve(own, score)
    return float(np.trapezoid(right, wrong)), average


def _resampled(labels: Ints, resamples: int, seed: int) -> Ints:
    """(resamples, n) how often each document is drawn, again within each label."""
    generator = np.random.default_rng(seed)
    times = np.zeros((resamples, labels.size), dtype=np.int64)
    for label in np.unique(labels).tolist():
        members = np.flatnonzero(labels == label)
        for row in times:
            drawn = generator.integers(0, members.size, members.size)
            row[members] = np.bincount(drawn, minlength=members.size)
    return times


def _mean(values: Floats, labels: Ints, seed: int) -> Rate:
    if not values.size:
        return Rate(None, None, None)
    generator = np.random.default_rng(seed)
    sums = np.zeros(_RESAMPLES)
    for label in np.unique(labels).tolist():
        mine = values[labels == label]
        sums += mine[generator.integers(0, mine.size, (_RESAMPLES, mine.size))].sum(axis=1)
    low, high = np.quantile(sums / values.size, [0.025, 0.975])
    return Rate(float(values.mean()), float(low), float(high))


def _mean_areas(
    labels: Ints, probabilities: Floats, areas: tuple[tuple[float | None, float | None], ...], seed: int
) -> tuple[Rate, Rate]:
    """The mean ROC and precision-recall areas of the labels, give or take 1.96 standard deviations of resampled means."""
    n, k = probabilities.shape
    resamples = int(np.clip(_MOST_CELLS // max(n * k, 1), _LEAST_RESAMPLES, _AREA_RESAMPLES))
    times = _resampled(labels, resamples, seed)
    sums, counts = np.zeros((2, resamples)), np.zeros(2)
    for label, found in enumerate(areas):
        if found[1] is None:
            continue
        both = _resampled_areas(labels == label, probabilities[:, label], times)
        for which in (0, 1):
            if found[which] is not None:
                sums[which] += both[which]
                counts[which] += 1
    rates = []
    for which in (0, 1):
        defined = [area for found in areas if (area := found[which]) is not None]
        if not defined:
            rates.append(Rate(None, None, None))
            continue
        value, half = float(np.mean(defined)), Z_95 * float((sums[which] / counts[which]).std(ddof=1))
        rates.append(Rate(value, max(value - half, 0.0), min(value + half, 1.0)))
    return rates[0], rates[1]


def _resampled_areas(
    own: "np.ndarray[tuple[int], np.dtype[np.bool_]]", score: Floats, times: Ints
) -> tuple[Floats, Floats]:
    """(r,) the ROC and the precision-recall area of each resample. times: (r, n) how often each document is drawn."""
    order = np.argsort(-score, kind="stable")
    last = np.flatnonzero(np.append(score[order][1:] < score[order][:-1], True))
    ordered, mine = times[:, order], own[order]
    right = np.cumsum(ordered * mine, axis=1)[:, last].astype(np.float64)
    every = np.cumsum(ordered, axis=1)[:, last].astype(np.float64)
    wrong = every - right
    zero = np.zeros((len(times), 1))
    right_steps, wrong_steps = np.diff(right, axis=1, prepend=zero), np.diff(wrong, axis=1, prepend=zero)
    rights, wrongs = np.maximum(right[:, -1], 1.0), np.maximum(wrong[:, -1], 1.0)
    roc: Floats = (wrong_steps * (right - right_steps / 2)).sum(axis=1) / (rights * wrongs)
    average: Floats = (right_steps * right / np.maximum(every, 1.0)).sum(axis=1) / rights
    return roc, average
