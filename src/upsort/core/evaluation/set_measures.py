"""What is measured where a document may have several labels, or none.

A document is right when it was given exactly its own labels. Each label is also judged by itself: of the documents that have it,
how many were given it (right) or not (missed), and how many others were given it (false). Over all labels together F1 = 2 Σ right
/ (2 Σ right + Σ missed + Σ false), and macro F1 is the mean of the labels' F1; a label that nobody has or was given stays out of
it. Intervals are by linearisation, as `intervals` says: with f one of the two and D what it is divided by, a document adds (2
right − f (2 right + missed + false)) / D."""

import numpy as np
from msgspec import structs

from upsort.core.arrays import Bools, Floats
from upsort.core.evaluation import intervals
from upsort.core.evaluation.measures import Confusion, Decided, Judgement, LabelMeasures, LabelSets, PairMissed, label_measures
from upsort.core.lazy import record


@record(frozen=True, kw_only=True)
class DecidedSets:
    """m decisions to be judged.

    own, given: (m, k) which labels each document has, and was given. labels: (k,). majority: the label that was most common in
    training, empty where trainings differ in it; baseline: (m,) whether it is the document's own and only one. sample: which
    documents the decisions are about. majority_in_training: as of `Decided`."""

    own: Bools
    given: Bools
    labels: tuple[str, ...]
    majority: str
    baseline: Bools
    sample: intervals.Sample
    majority_in_training: bool = True


def judge_sets(decided: DecidedSets, beta: float = 1.0) -> Judgement:
    """Measure sets of labels against the true ones. The judgement's table is empty."""
    own, given, sample = decided.own, decided.given, decided.sample
    right = (own == given).all(axis=1).astype(np.float64)
    per_label = tuple(_of_label(decided, number, beta) for number in range(len(decided.labels)))
    every = np.ones(len(own))
    occurring = (own | given).any(axis=0)
    macro = _f1(own[:, occurring], given[:, occurring], sample)
    if (own[:, occurring].sum(axis=0) < intervals.FEW * sample.repeats).any():
        macro = structs.replace(macro, low=None, high=None)
    return Judgement(
        labels=decided.labels,
        table=np.zeros((0, 0), dtype=np.int64),
        accuracy=intervals.share_of(right, every, sample),
        baseline=intervals.share_of(decided.baseline.astype(np.float64), every, sample),
        against_baseline=intervals.sign_test(sample.differences(right - decided.baseline)),
        majority=decided.majority,
        majority_in_training=decided.majority_in_training,
        macro_f1=macro,
        other_rates={"micro_f1": _f1(own.reshape(len(own), 1, -1), given.reshape(len(own), 1, -1), sample)},
        per_label=per_label,
        repeats=sample.repeats,
        groups=sample.groups if sample.group is not None else None,
        sets=_pairs(decided),
    )


def _of_label(decided: DecidedSets, number: int, beta: float) -> LabelMeasures:
    """One label as one of two: with it, and without."""
    has = decided.own[:, number]
    alone = Decided(
        true=has.astype(np.int64),
        sorted_as=decided.given[:, number].astype(np.int64),
        labels=("", decided.labels[number]),
        majority="",
        baseline=~has,
        sample=decided.sample,
    )
    return label_measures(alone, 1, beta)


def _f1(own: Bools, given: Bools, sample: intervals.Sample) -> intervals.Rate:
    """The mean over columns of F1 with its interval. own, given: (m, columns), or (m, columns, labels) to be added up."""
    if own.ndim == 2:
        own, given = own[:, :, None], given[:, :, None]
    right = (own & given).sum(axis=2, dtype=np.float64)
    both = own.sum(axis=2, dtype=np.float64) + given.sum(axis=2, dtype=np.float64)
    denominator = both.sum(axis=0)
    if not denominator.size or not denominator.all():
        return intervals.UNKNOWN
    f1 = 2.0 * right.sum(axis=0) / denominator
    value = float(f1.mean())
    documents = sample.documents
    influences = sample.mean(((2.0 * right - f1 * both) / denominator).mean(axis=1) * sample.repeats)
    variance = float((influences**2).sum())
    if documents < intervals.FEW or variance <= 0.0:
        return intervals.Rate(value=value, low=None, high=None, documents=documents)
    wrong = sample.mean((own != given).any(axis=(1, 2)).astype(np.float64))
    effect = intervals.design_effect(influences, np.ones(documents), sample, float(wrong.sum()))
    low, high = intervals.score_interval(
        value, value * (1.0 - value) / (variance * effect), intervals.student(sample.groups - 1.0)
    )
    return intervals.Rate(value=value, low=low, high=high, documents=documents)


def _pairs(decided: DecidedSets) -> LabelSets:
    """The pairs of labels that go wrong together, most documents first."""
    own, given, repeats = decided.own, decided.given, decided.sample.repeats
    missed, wrongly = own & ~given, given & ~own
    cooccurrence = _both(missed, missed) / repeats
    having = _both(own, own) / repeats
    instead = _both(missed, wrongly) / repeats
    labels, documents = decided.labels, own.sum(axis=0) / repeats
    return LabelSets(
        pairs_missed=tuple(
            PairMissed((labels[a], labels[b]), _count(cooccurrence[a, b]), _count(having[a, b]))
            for a, b in _most_first(np.triu(cooccurrence, 1))
        ),
        given_instead=tuple(
            Confusion(labels[a], labels[b], _count(instead[a, b]), round(float(documents[a]))) for a, b in _most_first(instead)
        ),
    )


def _both(first: Bools, second: Bools) -> Floats:
    """(k, k) in how many rows a column of the first and one of the second are both true."""
    return np.asarray(first.astype(np.float64).T @ second.astype(np.float64))


def _most_first(table: Floats) -> list[tuple[int, int]]:
    order = np.argsort(-table.reshape(-1), kind="stable")[: int((table > 0).sum())]
    return [divmod(place, table.shape[1]) for place in order.tolist()]


def _count(value: float) -> float:
    return round(value) if float(value).is_integer() else float(value)
