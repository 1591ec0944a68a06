"""Measures of probabilities, and of the order they put documents in.

For n documents with own label yᵢ and probabilities pᵢ:

- log loss: mean of −ln pᵢ[yᵢ], probabilities cut at 10⁻¹⁵ (Good 1952)
- Brier score: mean over documents of Σ over labels (pᵢ[l] − 1 where l is its own)² (Brier 1950)
- ROC area of a label: the chance that a document of the label has a higher probability for it than one of another label,
  half for equals (Hanley & McNeil 1982); of all: the mean over the labels
- precision-recall area of a label: average precision, Σ (recall step) · precision (Manning, Raghavan & Schütze 2008, 8.4)
- top-2 accuracy: the share of documents whose own label is among the two most probable

Intervals are percentiles of a bootstrap that keeps the number of documents of each label; those of areas are 1.96 of its
standard deviations to either side. Where documents belong together, groups are drawn; of many documents, or of groups, the
interval of a mean is Student's, with the groups as units. A document judged several times counts with the mean over its
repeats.
"""

from dataclasses import dataclass

import numpy as np
from scipy.special import stdtrit

from upsort.core.arrays import Bools, Floats, Ints
from upsort.core.judging.intervals import UNKNOWN, Z_95, Rate, share_of
from upsort.core.judging.sample import Sample

_SMALLEST = 1e-15
_RESAMPLES = 1000
_AREA_RESAMPLES = 200
_LEAST_RESAMPLES = 30
_MOST_CELLS = 15_000_000  # of documents, labels and resamples together
_BINS = 10
_MOST_DRAWN = 5_000  # documents, beyond which the mean needs no bootstrap


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


@dataclass(frozen=True, kw_only=True)
class ProbabilityMeasures:
    """All but top2 are over the documents whose label the sorter knows; each rate says how many those are. areas: of each
    label, (ROC, precision-recall), None where there are no documents of it or no others."""

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


def judge_probabilities(
    true: Ints, probabilities: Floats, given: Ints, seed: int, sample: Sample
) -> ProbabilityMeasures:
    """Measure. true, given: (m,) label numbers, −1 for a label the sorter does not know. probabilities: (m, k)."""
    known = true >= 0
    own, mine, drawn = true[known], probabilities[known], sample.rows(known)
    parts = _repeats(drawn)
    areas = _averaged(
        [[_areas(own[part] == label, mine[part, label]) for label in range(mine.shape[1])] for part in parts]
    )
    ranked = np.argsort(-probabilities, axis=1, kind="stable")[:, :2]
    top2 = (ranked == true[:, None]).any(axis=1)
    roc, average = _mean_areas(own, mine, areas, drawn, seed)
    return ProbabilityMeasures(
        log_loss=_mean(log_losses(own, mine), own, drawn, seed),
        brier=_mean(brier_terms(own, mine), own, drawn, seed),
        roc_area=roc,
        precision_recall_area=average,
        top2=share_of(top2.astype(np.float64), np.ones(true.size), sample),
        areas=areas,
        reliability=reliability(true, probabilities, given),
    )


def _repeats(sample: Sample) -> list[Ints]:
    """The places of the decisions of each repeat: each document once."""
    if sample.repeats == 1:
        return [np.arange(sample.document.size)]
    order = np.argsort(sample.document, kind="stable")
    return [np.sort(order[start :: sample.repeats]) for start in range(sample.repeats)]


Areas = tuple[tuple[float | None, float | None], ...]


def _averaged(found: list[list[tuple[float | None, float | None]]]) -> Areas:
    """The means over the repeats, which have the same documents."""

    def mean(values: list[float | None]) -> float | None:
        defined = [value for value in values if value is not None]
        return float(np.mean(defined)) if defined else None

    return tuple(
        (mean([part[label][0] for part in found]), mean([part[label][1] for part in found]))
        for label in range(len(found[0]))
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


def roc_curve(own: Bools, score: Floats) -> tuple[Floats, Floats]:
    """The shares of other and of own documents at or above each score, from (0, 0) to (1, 1)."""
    order = np.argsort(-score, kind="stable")
    last = np.append(score[order][1:] < score[order][:-1], True)
    right, wrong = np.cumsum(own[order])[last], np.cumsum(~own[order])[last]
    zero = np.zeros(1)
    return np.concatenate((zero, wrong / max(wrong[-1], 1))), np.concatenate((zero, right / max(right[-1], 1)))


def precision_recall_curve(own: Bools, score: Floats) -> tuple[Floats, Floats]:
    """Recall and precision at or above each score, from the highest on."""
    order = np.argsort(-score, kind="stable")
    last = np.flatnonzero(np.append(score[order][1:] < score[order][:-1], True))
    right = np.cumsum(own[order])[last]
    return right / max(int(own.sum()), 1), right / (last + 1.0)


def _areas(own: Bools, score: Floats) -> tuple[float | None, float | None]:
    if not own.any():
        return None, None
    recall, precision = precision_recall_curve(own, score)
    average = float((np.diff(recall, prepend=0.0) * precision).sum())
    if own.all():
        return None, average
    wrong, right = roc_curve(own, score)
    return float(np.trapezoid(right, wrong)), average


def _resampled(labels: Ints, sample: Sample, resamples: int, seed: int) -> Ints:
    """(resamples, m) how often each decision is drawn: documents within each label, or whole groups."""
    generator = np.random.default_rng(seed)
    times = np.zeros((resamples, sample.groups), dtype=np.int64)
    if sample.group is None:
        of_document = np.zeros(sample.documents, dtype=np.int64)
        of_document[sample.document] = labels
    else:
        of_document = np.zeros(sample.groups, dtype=np.int64)
    for label in np.unique(of_document).tolist():
        members = np.flatnonzero(of_document == label)
        for row in times:
            drawn = generator.integers(0, members.size, members.size)
            row[members] = np.bincount(drawn, minlength=members.size)
    return times[:, sample.unit]


def _mean(values: Floats, labels: Ints, sample: Sample, seed: int) -> Rate:
    if not values.size:
        return UNKNOWN
    n = sample.documents
    value = float(values.mean())
    if sample.group is not None or n > _MOST_DRAWN:
        residuals = sample.summed(sample.mean(values) - value)
        groups = residuals.size
        error = np.sqrt(groups / max(groups - 1, 1) * float((residuals**2).sum())) / n
        half = float(stdtrit(max(groups - 1, 1), 0.975)) * float(error)
        return Rate(value=value, low=max(value - half, 0.0), high=value + half, documents=n)
    generator = np.random.default_rng(seed)
    of_document, label_of = sample.mean(values), np.zeros(n, dtype=np.int64)
    label_of[sample.document] = labels
    sums = np.zeros(_RESAMPLES)
    for label in np.unique(label_of).tolist():
        mine = of_document[label_of == label]
        sums += mine[generator.integers(0, mine.size, (_RESAMPLES, mine.size))].sum(axis=1)
    low, high = np.quantile(sums / n, [0.025, 0.975])
    return Rate(value=value, low=float(low), high=float(high), documents=n)


def _mean_areas(labels: Ints, probabilities: Floats, areas: Areas, sample: Sample, seed: int) -> tuple[Rate, Rate]:
    """The mean ROC and precision-recall areas of the labels, give or take 1.96 standard deviations of resampled means."""
    if not labels.size:
        return UNKNOWN, UNKNOWN
    n, k = probabilities.shape
    resamples = int(np.clip(_MOST_CELLS // max(n * k, 1), _LEAST_RESAMPLES, _AREA_RESAMPLES))
    times = _resampled(labels, sample, resamples, seed)
    sums, counts = np.zeros((2, resamples)), np.zeros(2)
    for label, found in enumerate(areas):
        if found[1] is None:
            continue
        for part in _repeats(sample):
            both = _resampled_areas(labels[part] == label, probabilities[part, label], times[:, part])
            for which in (0, 1):
                if found[which] is not None:
                    sums[which] += both[which]
                    counts[which] += 1
    rates = []
    for which in (0, 1):
        defined = [area for found in areas if (area := found[which]) is not None]
        if not defined:
            rates.append(UNKNOWN)
            continue
        value, half = float(np.mean(defined)), Z_95 * float((sums[which] / counts[which]).std(ddof=1))
        rates.append(
            Rate(value=value, low=max(value - half, 0.0), high=min(value + half, 1.0), documents=sample.documents)
        )
    return rates[0], rates[1]


def _resampled_areas(own: Bools, score: Floats, times: Ints) -> tuple[Floats, Floats]:
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
