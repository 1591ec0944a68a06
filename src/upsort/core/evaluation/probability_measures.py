"""Measures of probabilities and of the order that they put documents in, with intervals."""

from collections.abc import Callable, Sequence

import numpy as np
from msgspec import Struct

from upsort.core.arrays import Bools, Floats, Ints
from upsort.core.evaluation.intervals import (
    FEW,
    UNKNOWN,
    Rate,
    Sample,
    design_effect,
    satterthwaite,
    score_interval,
    share_of,
    student,
    whole_or_mean,
)
from upsort.core.lazy import record


@record(frozen=True)
class LabelAreas:
    """Of one label; not defined where there are no documents of it, or (for the ROC area) no others."""

    roc: Rate = UNKNOWN
    precision_recall: Rate = UNKNOWN


@record(frozen=True)
class Areas:
    """roc, precision_recall: the means of the labels'."""

    roc: Rate
    precision_recall: Rate
    labels: tuple[LabelAreas, ...]


@record(frozen=True, kw_only=True)
class _LabelArea:
    """An area of one label. influences: (n,) of the documents. of, negatives: documents of the label and others."""

    label: int
    value: float
    influences: Floats
    of: float
    negatives: float


@record(frozen=True, kw_only=True)
class _Model:
    """How much an area is taken to vary where its own mistakes are few. mistakes: (l,) of each label's. variances, middles: (l,)
    of the areas by the model, and the values it takes them at. weight: mistakes that it counts as. least: share of the model's
    variance that each area is given at least."""

    mistakes: Floats
    variances: Floats
    middles: Floats
    weight: float
    least: float


def areas(own: Ints, probabilities: Floats, sample: Sample) -> Areas:
    """own: (m,) label numbers. probabilities: (m, k).

    - ROC area of a label: the chance that a document of the label has a higher probability for it than one of another label,
      half for equals (Hanley & McNeil 1982)
    - precision-recall area of a label: average precision, Σ (recall step) · precision (Manning, Raghavan & Schütze 2008, 8.4)

    Each interval is a score interval (see `intervals`) whose variance is that of the documents' influences: for the ROC area
    those are the placements of DeLong, DeLong & Clarke-Pearson (1988). Where there are few mistakes the influences say little;
    there a variance by model is in: for the ROC area that of Hanley & McNeil, for average precision A (1 − A) / documents of the
    label (Boyd, Eng & Page 2013). `bench/intervals.py` shows how often the intervals hold the truth."""
    k = probabilities.shape[1]
    areas_by_label = [_of_label(own, probabilities, label, sample) for label in range(k)] if own.size else []
    rocs, averages = [pair[0] for pair in areas_by_label if pair[0]], [pair[1] for pair in areas_by_label if pair[1]]
    label_of = np.zeros(sample.documents, dtype=np.int64)
    label_of[sample.document] = own
    each = {
        label: LabelAreas(
            _single_label_rate(roc, _of_pairs, label_of, sample), _single_label_rate(average, _of_the_label, label_of, sample)
        )
        for label, (roc, average) in enumerate(areas_by_label)
    }
    return Areas(
        _mean(rocs, _of_pairs, label_of, sample),
        _mean(averages, _of_the_label, label_of, sample),
        tuple(each.get(label, LabelAreas()) for label in range(k)),
    )


def _of_label(own: Ints, probabilities: Floats, label: int, sample: Sample) -> tuple[_LabelArea | None, _LabelArea | None]:
    """The two areas of a label, as means over the repeats, which have the same documents."""
    parts = sample.decided_once()
    mine = own[parts[0]] == label
    of, negatives = float(mine.sum()), float((~mine).sum())
    if not of:
        return None, None
    values, influences = np.zeros(2), np.zeros((2, sample.documents))
    for part in parts:
        value, change = _two_areas(own[part] == label, probabilities[part, label])
        values += value / len(parts)
        influences[:, sample.document[part]] += change / len(parts)
    roc = (
        _LabelArea(label=label, value=float(values[0]), influences=influences[0], of=of, negatives=negatives)
        if negatives
        else None
    )
    return roc, _LabelArea(label=label, value=float(values[1]), influences=influences[1], of=of, negatives=negatives)


def _two_areas(own: Bools, score: Floats) -> tuple[Floats, Floats]:
    """The ROC and the precision-recall area, and (2, n) the influence of each document on them."""
    n = own.size
    order = np.argsort(-score, kind="stable")
    last = np.append(score[order][1:] < score[order][:-1], True)
    step = np.concatenate((np.zeros(1, dtype=np.int64), np.cumsum(last)[:-1]))  # equal scores are one step
    right = np.cumsum(own[order])[last].astype(np.float64)
    every = np.flatnonzero(last) + 1.0
    wrong = every - right
    rights, wrongs = float(right[-1]), max(float(wrong[-1]), 1.0)
    right_step, wrong_step = np.diff(right, prepend=0.0), np.diff(wrong, prepend=0.0)
    lower, above = 1.0 - (wrong - wrong_step / 2.0) / wrongs, (right - right_step / 2.0) / rights
    roc = float((right_step * lower).sum() / rights)
    precision = right / every
    average = float((right_step * precision).sum() / rights)
    mine, share = own[order], rights / n
    placed = np.where(mine, (lower[step] - roc) / share, (above[step] - roc) / max(1.0 - share, 1e-300))
    # one document more lifts or lowers the precision at every step from its own on
    lifted = np.cumsum((right_step * (1.0 - precision) / every)[::-1])[::-1]
    lowered = np.cumsum((right_step * precision / every)[::-1])[::-1]
    ranked = np.where(mine, precision[step] - average + lifted[step], -lowered[step]) / share
    influences = np.empty((2, n))
    influences[:, order] = placed, ranked - ranked.mean()
    return np.array([roc, average]), influences


_LEAST_OF_PAIRS = 0.2
"""Chosen by `bench/intervals.py`: the model of pairs gives wide intervals, the influences of few documents narrow ones."""


def _of_pairs(areas: Sequence[_LabelArea]) -> _Model:
    """Hanley & McNeil (1982), equation 2, at areas that miss half a step more."""
    of, negatives = (np.array([label_area.of for label_area in areas]), np.array([label_area.negatives for label_area in areas]))
    missed = np.array([1.0 - label_area.value for label_area in areas])
    area = np.clip(1.0 - missed - 0.5 / np.sqrt(of * negatives), 1e-3, 1.0)
    q1, q2 = area / (2.0 - area), 2.0 * area**2 / (1.0 + area)
    variances = (area * (1.0 - area) + (of - 1.0) * (q1 - area**2) + (negatives - 1.0) * (q2 - area**2)) / (of * negatives)
    mistakes = of * negatives * missed
    return _Model(mistakes=mistakes, variances=variances, middles=area, weight=0.5, least=_LEAST_OF_PAIRS)


def _of_the_label(areas: Sequence[_LabelArea]) -> _Model:
    """A (1 − A) / documents of the label; in a mean of labels it weighs more, since the smallest of them decides there."""
    of = np.array([label_area.of for label_area in areas])
    missed = np.array([1.0 - label_area.value for label_area in areas])
    area = 1.0 - (of * missed + 0.5) / (of + 1.0)
    weight = 4.0 if len(areas) > 1 else 1.0
    return _Model(mistakes=of * missed, variances=area * (1.0 - area) / of, middles=area, weight=weight, least=0.0)


_ModelOf = Callable[[Sequence[_LabelArea]], _Model]


def _single_label_rate(area: _LabelArea | None, model_of: _ModelOf, label_of: Ints, sample: Sample) -> Rate:
    return _mean([area] if area is not None else [], model_of, label_of, sample)


def _mean(areas: Sequence[_LabelArea], model_of: _ModelOf, label_of: Ints, sample: Sample) -> Rate:
    """The mean of areas of labels. label_of: (n,) of each document."""
    if not areas:
        return UNKNOWN
    n, many = sample.documents, len(areas)
    if min(area.of for area in areas) < FEW:
        return Rate(value=min(float(np.mean([area.value for area in areas])), 1.0), low=None, high=None, documents=n)
    values, of = np.array([area.value for area in areas]), np.array([area.of for area in areas])
    value = min(float(values.mean()), 1.0)
    influences: Floats = np.sum([area.influences for area in areas], axis=0) / many
    sizes = np.bincount(label_of).astype(np.float64)
    by_label: Floats = np.asarray(np.bincount(label_of, weights=influences**2), dtype=np.float64)
    by_label = by_label * sizes / np.maximum(sizes - 1.0, 1.0) / n**2
    # one label's area rests on the others' documents too; in a mean, each part represents its label
    variances = by_label[[area.label for area in areas]] if many > 1 else by_label.sum(keepdims=True)
    model = model_of(areas)
    mistakes, middle = float(model.mistakes.sum()), float(model.middles.mean())
    variance = value * (1.0 - value)
    measured = variances / variance if variance > 0 else np.zeros(many)
    modelled = model.variances / many**2 / (middle * (1.0 - middle))
    parts = (mistakes * measured + model.weight * modelled) / (mistakes + model.weight)
    parts = np.maximum(parts, model.least * modelled)
    effect = design_effect(influences, np.ones(n), sample, float((of * (1.0 - values)).sum()))
    low, high = score_interval(value, 1.0 / (float(parts.sum()) * effect), student(satterthwaite(parts, of)))
    return Rate(value=value, low=low, high=high, documents=n)


_BINS = 10


class Bin(Struct, frozen=True, kw_only=True, rename={"low": "from", "high": "to"}):
    """Documents whose given label has a probability from `low` on, below `high`. probability: the mean. right: how many of them
    are."""

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
            np.array([abs(reliability_bin.probability - (reliability_bin.right.value or 0.0)) for reliability_bin in self.bins])
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
    """probability: (m,) of the given label. right: (m,) whether it is the document's own.

    Documents are put into ten bins by the probability of the label they were given. The calibration error is the mean over the
    documents of the distance between a bin's mean probability and its share right (Naeini, Cooper & Hauskrecht 2015). It is above
    0 for perfect probabilities too, since shares of few documents vary: by about √(2 p (1 − p) / (π n)) in a bin of n documents,
    the mean distance of a normal variable."""
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
    """All but top2 are over the documents whose label the sorter knows; each rate says how many those are. own: by label."""

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
    """Measure. true, sorted_as: (m,) label numbers, −1 for a label the sorter does not know. probabilities: (m, k).

    For n documents with own label yᵢ and probabilities pᵢ:

    - log loss: mean of −ln pᵢ[yᵢ], probabilities cut at 10⁻¹⁵ (Good 1952)
    - Brier score: mean over documents of Σ over labels (pᵢ[l] − 1 where l is its own)² (Brier 1950)
    - top-2 accuracy: the share of documents whose own label is among the two most probable

    For the areas under curves see `areas`. The interval of a mean is Student's, of its logarithm (a mean of losses is skewed),
    with documents as units, or the groups that they belong to. A document judged several times counts with the mean over its
    repeats."""
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
        reliability=reliability(probabilities[np.arange(sorted_as.size), sorted_as], np.asarray(true == sorted_as), sample),
    )


def _own(probabilities: Floats, repeats: int) -> OwnProbability:
    if not probabilities.size:
        return OwnProbability(0, None, None)
    return OwnProbability(
        whole_or_mean(probabilities.size / repeats), float(probabilities.mean()), float(np.median(probabilities))
    )


def mean_loss(losses: Floats, sample: Sample) -> Rate:
    """The mean of (m,) losses, not below 0, with Student's interval on the scale of its logarithm.

    A few large losses make the variance itself uncertain. With n units and κ the kurtosis of their residuals, the degrees of
    freedom are those of Satterthwaite (1946): 2 n / (κ − (n − 3) / (n − 1)), from the variance of a sample variance; they are n −
    1 for normal residuals, and never more."""
    if not losses.size:
        return UNKNOWN
    n, value = sample.documents, float(losses.mean())
    residuals = sample.sum_per_document(sample.mean(losses) - value)
    units = residuals.size
    if units < 2 or value <= 0.0:
        return Rate(value=value, low=None, high=None, documents=n)
    error = float(np.sqrt(units / (units - 1) * (residuals**2).sum())) / n
    squares = residuals**2
    kurtosis = float((squares**2).mean()) / max(float(squares.mean()) ** 2, 1e-300)
    degrees = 2.0 * units / max(kurtosis - (units - 3.0) / (units - 1.0), 1e-9)
    factor = float(np.exp(student(min(degrees, units - 1.0)) * error / value))
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
