"""What a table of true against given labels says: accuracy, precision, recall, F1, confusions, and measures of the whole."""

import numpy as np
from msgspec import structs

from upsort.core.arrays import Bools, Floats, Ints
from upsort.core.evaluation.intervals import (
    FEW,
    SURE,
    UNKNOWN,
    Rate,
    Sample,
    design_effect,
    satterthwaite,
    score_interval,
    share_of,
    sign_test,
    student,
    whole_or_mean,
)
from upsort.core.lazy import record

WHOLE = ("balanced_accuracy", "macro_precision", "macro_f1", "weighted_f1", "macro_f_beta", "matthews", "kappa")
"""The measures of a whole table."""

_COEFFICIENTS = ("matthews", "kappa")  # from −1 to 1, the others from 0
_SPARE = 2.0  # documents of mistakes, spread evenly, that a table is given before its variance is taken


@record(frozen=True)
class TableMeasure:
    """value: of the measure, None where it is not defined. influences: (k, k) of the cells."""

    value: float | None
    influences: Floats


def whole_rates(table: Floats, cells: Ints, sample: Sample, beta: float) -> dict[str, Rate]:
    """The measures of WHOLE with their intervals, by name.

    table: (k, k) counts, rows true. cells: (m,) true · k + given of each decision. Means over labels have no interval where a
    label that counts has fewer than ten documents. Before a variance is taken the table gets two
    more documents of mistakes, so that one without mistakes does not pass for certain.

    With pᵢⱼ the share of documents of label i that were given j, rᵢ = pᵢᵢ, tᵢ and gⱼ the shares of true and of given labels, and
    the influence of a cell its derivative less the mean derivative (Hampel 1974):

    - balanced accuracy: the mean recall rᵢ / tᵢ of the labels that occur
    - macro precision, macro F: the means of rⱼ / gⱼ and of (1 + β²) rᵢ / (gᵢ + β² tᵢ) over the labels for which they are defined
    - weighted F1: Σ tᵢ F1ᵢ
    - Matthews' coefficient for k labels: (Σ r − Σ t g) / √((1 − Σ g²)(1 − Σ t²)) (Gorodkin 2004)
    - Cohen's kappa: (Σ r − Σ t g) / (1 − Σ t g) (Cohen 1960)"""
    occur = (table.sum(axis=0) + table.sum(axis=1)) > 0
    wrong = np.outer(occur, occur) & ~np.eye(len(table), dtype=bool)
    spare = wrong * (_SPARE / max(int(wrong.sum()), 1))
    rates, variances = measured_of(table, table, beta), measured_of(table + spare, table, beta)
    whole = {name: _rate(name, rates[name].value, variances[name], table + spare, cells, sample) for name in WHOLE}
    true, sorted_as = table.sum(axis=1), table.sum(axis=0)
    least = {"balanced_accuracy": true[true > 0], "macro_precision": sorted_as[sorted_as > 0]}
    least |= dict.fromkeys(("macro_f1", "macro_f_beta"), true[occur])
    for name, documents in least.items():  # a label of few documents might as well not occur, and another might
        if documents.min(initial=FEW) < FEW:
            whole[name] = structs.replace(whole[name], low=None, high=None)
    return whole


def _rate(name: str, value: float | None, smoothed: TableMeasure, table: Floats, cells: Ints, sample: Sample) -> Rate:
    if value is None or smoothed.value is None:
        return UNKNOWN
    least, span = (-1.0, 2.0) if name in _COEFFICIENTS else (0.0, 1.0)
    n = float(table.sum())
    parts = table * (smoothed.influences / span) ** 2
    variance = float(parts.sum()) / n**2
    middle = (smoothed.value - least) / span
    if variance <= 0:  # the same whatever is given, as with one label
        return Rate(value=value, low=None, high=None)
    of_decisions = sample.mean(smoothed.influences.reshape(-1)[cells])
    mistakes = n - float(np.trace(table))
    effect = design_effect(of_decisions - of_decisions.mean(), np.ones(sample.documents), sample, mistakes)
    degrees = min(satterthwaite(parts.sum(axis=1), table.sum(axis=1)), satterthwaite(parts.sum(axis=0), table.sum(axis=0)))
    effective = middle * (1.0 - middle) / variance / effect
    low, high = score_interval((value - least) / span, effective, student(degrees))
    return Rate(value=value, low=least + span * low, high=least + span * high)


def measured_of(table: Floats, occurring: Floats, beta: float) -> dict[str, TableMeasure]:
    """The measures of WHOLE. table: (k, k). occurring: the table that says which labels occur, truly and as given."""
    k, n = len(table), float(table.sum())
    p = table / max(n, 1e-300)
    r, t, g = np.diag(p), p.sum(axis=1), p.sum(axis=0)
    true, sorted_as = occurring.sum(axis=1) > 0, occurring.sum(axis=0) > 0
    own = np.eye(k)

    def ratio(above: Floats, denominator: Floats) -> Floats:
        ratios: Floats = np.divide(
            above, denominator, out=np.zeros(np.broadcast(above, denominator).shape), where=denominator > 0
        )
        return ratios

    def mean(values: Floats, defined: Floats) -> float | None:
        return float(values[defined].mean()) if defined.any() else None

    recall, precision = ratio(r, t), ratio(r, g)
    of_recall = (own - recall[:, None]) * ratio(true / max(int(true.sum()), 1), t)[:, None]
    of_precision = (own - precision[None, :]) * ratio(sorted_as / max(int(sorted_as.sum()), 1), g)[None, :]

    def of_f(b: float, weights: Floats) -> tuple[Floats, Floats]:
        """F of each label, and the derivative of Σ weights · F."""
        denominator = g + b**2 * t
        f = ratio((1.0 + b**2) * r, denominator)
        share = ratio(weights, denominator)
        return f, (1.0 + b**2) * own * share[:, None] - (f * share)[None, :] - b**2 * (f * share)[:, None]

    either = np.asarray(true | sorted_as)
    evenly = either / max(int(either.sum()), 1)
    f1, of_macro = of_f(1.0, evenly)
    f_beta, of_beta = of_f(beta, evenly)
    _, of_weighted = of_f(1.0, t)
    right, chance = float(r.sum()), float((t * g).sum())
    of_chance = g[:, None] + t[None, :]
    entropy_given, entropy_true = 1.0 - float((g**2).sum()), 1.0 - float((t**2).sum())
    scale = np.sqrt(max(entropy_given * entropy_true, 0.0))
    matthews = (right - chance) / scale if scale > 1e-12 else None
    kappa = (right - chance) / (1.0 - chance) if chance < 1.0 - 1e-12 else None
    of_matthews = (
        (own - of_chance) / scale + matthews * (g[None, :] / entropy_given + t[:, None] / entropy_true)
        if matthews is not None
        else np.zeros((k, k))
    )
    of_kappa = (own * (1.0 - chance) - of_chance * (1.0 - right)) / max(1.0 - chance, 1e-12) ** 2
    values: dict[str, tuple[float | None, Floats]] = {
        "balanced_accuracy": (mean(recall, true), of_recall),
        "macro_precision": (mean(precision, sorted_as), of_precision),
        "macro_f1": (mean(f1, either), of_macro),
        "weighted_f1": (float((t * f1).sum()), of_weighted + f1[:, None]),
        "macro_f_beta": (mean(f_beta, either), of_beta),
        "matthews": (matthews, of_matthews),
        "kappa": (kappa, of_kappa),
    }
    return {name: TableMeasure(value, change - float((p * change).sum())) for name, (value, change) in values.items()}


@record(frozen=True, kw_only=True)
class LabelMeasures:
    """The measures of one label. documents: that truly have it. sorted_as: documents that were sorted as it. right: both.

    For a label: precision = right / sorted as it, recall = right / true (van Rijsbergen 1979, chapter 7), and

    F1 = 2 · right / (sorted as it + true),

    the harmonic mean of the two; F-beta = (1 + β²) · right / (sorted as it + β² · true). A value is undefined where its
    denominator is zero, and stays undefined. Micro precision, recall and F1 of one label a document are the accuracy; for those
    of the whole table see `measures`."""

    label: str
    precision: Rate
    recall: Rate
    f1: Rate
    f_beta: Rate
    documents: int
    sorted_as: float
    right: float

    @property
    def missed(self) -> float:
        """Documents that have it and were not sorted as it."""
        return whole_or_mean(self.documents - self.right)

    @property
    def false(self) -> float:
        """Documents that were sorted as it and do not have it."""
        return whole_or_mean(self.sorted_as - self.right)


@record(frozen=True)
class Confusion:
    """Documents with label `true` that were sorted as another, and how many have that label in all."""

    true: str
    sorted_as: str
    documents: float
    of: int


@record(frozen=True)
class PairMissed:
    """Documents that have two labels and were given neither. of: how many have both."""

    labels: tuple[str, str]
    documents: float
    of: float


@record(frozen=True)
class LabelSets:
    """Which labels go wrong together, where documents may have several. given_instead: documents that miss a label and were given
    another wrongly. Most documents first; all counts are means over the repeats."""

    pairs_missed: tuple[PairMissed, ...]
    given_instead: tuple[Confusion, ...]


@record(frozen=True, kw_only=True)
class Judgement:
    """All measures of one set of decisions.

    table: (k, k) counts, rows true labels, columns those that they were sorted as, in the order of `labels`. baseline: the
    accuracy of always giving the label `majority` (where it is empty, the most common of each training), on the same documents.
    majority_in_training: whether that was the most common label of training; otherwise it is that of all documents.
    against_baseline: the p value of the exact paired test of the two. other_rates: further measures by name. repeats: how often
    each document was judged; all counts are means over them. groups: how many groups of documents that belong together there are;
    None where all stand alone. sets: where documents may have several labels; a document is then right with all of its labels and
    no other, and the table is empty."""

    labels: tuple[str, ...]
    table: Ints | Floats
    accuracy: Rate
    baseline: Rate
    against_baseline: float
    majority: str
    majority_in_training: bool
    macro_f1: Rate
    other_rates: dict[str, Rate]
    per_label: tuple[LabelMeasures, ...]
    repeats: int = 1
    groups: int | None = None
    sets: LabelSets | None = None

    @property
    def above_baseline(self) -> bool | None:
        """Whether it is better than always giving one label, by the paired test; None where that cannot be reported."""
        if self.against_baseline >= SURE:
            return None
        return (self.accuracy.value or 0.0) > (self.baseline.value or 0.0)

    def confusions(self, most: int) -> list[Confusion]:
        """The most frequent pairs of a true label and a wrong one, most documents first."""
        if self.sets is not None:
            return list(self.sets.given_instead[:most])
        wrong = self.table.copy()
        np.fill_diagonal(wrong, 0)
        places = np.argsort(-wrong.reshape(-1), kind="stable")[:most].tolist()
        pairs = [divmod(place, len(self.labels)) for place in places]
        totals = self.table.sum(axis=1)
        return [
            Confusion(self.labels[true], self.labels[sorted_as], wrong[true, sorted_as].item(), round(float(totals[true])))
            for true, sorted_as in pairs
            if wrong[true, sorted_as]
        ]


@record(frozen=True, kw_only=True)
class Decided:
    """m decisions to be judged.

    true, sorted_as: (m,) label numbers into `labels`. majority: the label that was most common in training, empty where trainings
    differ in it, or that of the whole corpus where majority_in_training is False; baseline: (m,) whether it is the document's
    own. sample: which documents the decisions are about."""

    true: Ints
    sorted_as: Ints
    labels: tuple[str, ...]
    majority: str
    baseline: Bools
    sample: Sample
    majority_in_training: bool = True


def judge(decided: Decided, beta: float = 1.0) -> Judgement:
    """Measure decisions against the true labels."""
    true, sorted_as, k, sample = decided.true, decided.sorted_as, len(decided.labels), decided.sample
    cells = true * k + sorted_as
    counts = np.bincount(cells, minlength=k * k).reshape(k, k).astype(np.int64)
    table: Floats = counts / sample.repeats
    right = (true == sorted_as).astype(np.float64)
    whole = whole_rates(table, cells, sample, beta)
    every = np.ones(true.size)
    return Judgement(
        labels=decided.labels,
        table=counts if sample.repeats == 1 else table,
        accuracy=share_of(right, every, sample),
        baseline=share_of(decided.baseline.astype(np.float64), every, sample),
        against_baseline=sign_test(sample.differences(right - decided.baseline)),
        majority=decided.majority,
        majority_in_training=decided.majority_in_training,
        macro_f1=whole.pop("macro_f1"),
        other_rates=whole,
        per_label=tuple(label_measures(decided, number, beta) for number in range(k)),
        repeats=sample.repeats,
        groups=sample.groups if sample.group is not None else None,
    )


def label_measures(decided: Decided, number: int, beta: float) -> LabelMeasures:
    """The measures of one label."""
    sample = decided.sample
    has, got = (decided.true == number).astype(np.float64), (decided.sorted_as == number).astype(np.float64)
    documents = float(has.sum()) / sample.repeats
    f1 = _f1(has, got, sample)
    f_beta = f1 if beta == 1.0 else _f_beta(has, got, sample, beta)
    if documents < FEW:
        f1, f_beta = (structs.replace(rate, low=None, high=None) for rate in (f1, f_beta))
    return LabelMeasures(
        label=decided.labels[number],
        precision=share_of(has * got, got, sample),
        recall=share_of(has * got, has, sample),
        f1=f1,
        f_beta=f_beta,
        documents=round(documents),
        sorted_as=whole_or_mean(float(got.sum()) / sample.repeats),
        right=whole_or_mean(float((has * got).sum()) / sample.repeats),
    )


def _f1(has: Floats, got: Floats, sample: Sample) -> Rate:
    """has, got: (m,) whether each decision's document has the label, and was given it.

    F1 = 2 J / (1 + J), with J the share of right ones among the documents that have the label or were sorted as it (Jaccard
    1901), so that its interval is Wilson's for J, carried over."""
    share = share_of(has * got, np.maximum(has, got), sample)
    if share.value is None or share.low is None or share.high is None:
        return UNKNOWN
    return Rate(value=_from_share(share.value), low=_from_share(share.low), high=_from_share(share.high))


def _from_share(share: float) -> float:
    return 2.0 * share / (1.0 + share)


def _f_beta(has: Floats, got: Floats, sample: Sample, beta: float) -> Rate:
    """F-beta of one label, its interval by linearisation; half a document is added to either kind of mistake for the variance."""
    right, missed, wrongly = (float(kind.sum()) / sample.repeats for kind in (has * got, has * (1 - got), got * (1 - has)))
    b2 = beta**2

    def value(right: float, missed: float, wrongly: float) -> tuple[float, float]:
        denominator = (1.0 + b2) * right + b2 * missed + wrongly
        return ((1.0 + b2) * right / denominator if denominator > 0 else 0.0), denominator

    f, denominator = value(right, missed, wrongly)
    if denominator == 0:
        return UNKNOWN
    middle, denominator = value(right + 0.5, missed + 0.5, wrongly + 0.5)
    kinds = np.array([(1.0 + b2) * (1.0 - middle), -b2 * middle, -middle]) / denominator
    variance = float((kinds**2 * np.array([right + 0.5, missed + 0.5, wrongly + 0.5])).sum())
    of_decisions = sample.mean(kinds[0] * has * got + kinds[1] * has * (1 - got) + kinds[2] * got * (1 - has))
    either = sample.mean(np.maximum(has, got))
    effect = design_effect(of_decisions - of_decisions.sum() / either.sum() * either, either, sample, missed + wrongly)
    bearing = right + missed + wrongly
    low, high = score_interval(f, middle * (1.0 - middle) / variance / effect, student(bearing - 1.0))
    return Rate(value=f, low=low, high=high)
