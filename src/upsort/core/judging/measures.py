"""What a table of true against given labels says: accuracy, precision, recall, F1, confusions.

For a label: precision = right / sorted as it, recall = right / true (van Rijsbergen 1979, chapter 7), and

F1 = 2 · right / (sorted as it + true),

the harmonic mean of the two; F-beta = (1 + β²) · right / (sorted as it + β² · true). A value is undefined where its denominator
is zero, and stays undefined. Micro precision, recall and F1 of one label a document are the accuracy; for those of the whole
table see `table_measures`.

F1 = 2 J / (1 + J), with J the share of right ones among the documents that have the label or were sorted as it (Jaccard 1901), so
that its interval is Wilson's for J, carried over.
"""

from dataclasses import replace

import numpy as np

from upsort.core.arrays import Bools, Floats, Ints
from upsort.core.judging.intervals import (
    FEW,
    UNKNOWN,
    Rate,
    design_effect,
    score_interval,
    share_of,
    student,
    whole_or_mean,
)
from upsort.core.judging.paired import SURE, sign_test
from upsort.core.judging.sample import Sample
from upsort.core.judging.table_measures import whole_rates
from upsort.core.records import record


@record(frozen=True, kw_only=True)
class LabelMeasures:
    """The measures of one label. documents: that truly have it. sorted_as: documents that were sorted as it. right: both."""

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
    """Documents that have two labels and were given neither, and how many have both."""

    first: str
    second: str
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
    accuracy of always giving the label `majority` (where it is empty, the commonest of each training), on the same documents.
    majority_in_training: whether that was the commonest label of training; otherwise it is that of all documents.
    against_baseline: the p value of the exact paired test of the two. others: further measures by name. repeats: how often each
    document was judged; all counts are means over them. groups: how many groups of documents that belong together there are; None
    where all stand alone. sets: where documents may have several labels; a document is then right with all of its labels and no
    other, and the table is empty.
    """

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
        """Whether it is better than always giving one label, by the paired test; None where that cannot be told."""
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
            Confusion(
                self.labels[true], self.labels[sorted_as], wrong[true, sorted_as].item(), round(float(totals[true]))
            )
            for true, sorted_as in pairs
            if wrong[true, sorted_as]
        ]


@record(frozen=True, kw_only=True)
class Decided:
    """m decisions to be judged.

    true, sorted_as: (m,) label numbers into `labels`. majority: the label that was commonest in training, empty where trainings
    differ in it, or that of the whole corpus where majority_in_training is False; baseline: (m,) whether it is the document's
    own. sample: which documents the decisions are about.
    """

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
        f1, f_beta = replace(f1, low=None, high=None), replace(f_beta, low=None, high=None)
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
    """has, got: (m,) whether each decision's document has the label, and was given it."""
    share = share_of(has * got, np.maximum(has, got), sample)
    if share.value is None or share.low is None or share.high is None:
        return UNKNOWN
    return Rate(value=_from_share(share.value), low=_from_share(share.low), high=_from_share(share.high))


def _from_share(share: float) -> float:
    return 2.0 * share / (1.0 + share)


def _f_beta(has: Floats, got: Floats, sample: Sample, beta: float) -> Rate:
    """F-beta of one label, its interval by linearisation; half a document is added to either kind of mistake for the variance."""
    right, missed, wrongly = (
        float(kind.sum()) / sample.repeats for kind in (has * got, has * (1 - got), got * (1 - has))
    )
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
