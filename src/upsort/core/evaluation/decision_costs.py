"""What decisions cost by a table of costs, beside what other ways of deciding would.

What leaving the less certain documents undecided brings, and costs."""

import numpy as np

from upsort.core.arrays import Bools, Floats, Ints
from upsort.core.evaluation.intervals import Rate, Sample, share_of, student
from upsort.core.evaluation.measures import Decided, Judgement, judge
from upsort.core.evaluation.probability_measures import mean_loss
from upsort.core.lazy import record


@record(frozen=True, kw_only=True)
class CostSummary:
    """Mean costs of a document, by a table of costs. mean: of the decisions. of_most_probable: had each document been sorted as
    its most probable label. of_one_label: had all been sorted as `one_label`, the cheapest here. more_than_most_probable: below 0
    where deciding by costs pays."""

    mean: Rate
    of_most_probable: Rate
    of_one_label: Rate
    one_label: str
    more_than_most_probable: Rate

    @property
    def is_worse(self) -> bool:
        """Whether the most probable labels would surely cost less."""
        return (self.more_than_most_probable.low or 0.0) > 0.0


@record(frozen=True, kw_only=True)
class PricedDecisions:
    """m decisions with their prices. true, sorted_as, likeliest: (m,) label numbers into `labels`, the last those of the most
    probable labels. table: (k sorted as, k true). sample: which documents the decisions are about."""

    true: Ints
    sorted_as: Ints
    likeliest: Ints
    labels: tuple[str, ...]
    table: Floats
    sample: Sample


def summarise_costs(priced: PricedDecisions) -> CostSummary:
    """Work out the costs."""
    true, table, sample = priced.true, priced.table, priced.sample
    each, plain = table[priced.sorted_as, true], table[priced.likeliest, true]
    constant = int(np.argmin(table[:, true].mean(axis=1)))
    return CostSummary(
        mean=mean_loss(each, sample),
        of_most_probable=mean_loss(plain, sample),
        of_one_label=mean_loss(table[constant, true], sample),
        one_label=priced.labels[constant],
        more_than_most_probable=_difference(each - plain, sample),
    )


def _difference(values: Floats, sample: Sample) -> Rate:
    """The mean of (m,) differences with Student's interval, groups as units."""
    mean, n = float(values.mean()), sample.documents
    residuals = sample.sum_per_document(sample.mean(values) - mean)
    units = residuals.size
    if units < 2:
        return Rate(value=mean, low=None, high=None, documents=n)
    half = student(units - 1) * float(np.sqrt(units / (units - 1) * (residuals**2).sum())) / n
    return Rate(value=mean, low=mean - half, high=mean + half, documents=n)


_STEP = 0.05


@record(frozen=True)
class Coverage:
    """For each bound below which documents are left undecided, how many are decided, and right. The first bound is the last one
    that leaves none undecided."""

    bounds: tuple[float, ...]
    decided: tuple[int, ...]
    right: tuple[int, ...]
    documents: int


def coverage(probability: Floats, right: Bools) -> Coverage:
    """probability: (n,) of the given label. right: (n,). Bounds at which nothing changes are passed over."""
    every = [round(_STEP * step, 2) for step in range(round(1 / _STEP))]
    decided = {bound: probability >= bound for bound in every}
    counts = {bound: int(mask.sum()) for bound, mask in decided.items()}
    bounds = [
        bound
        for place, bound in enumerate(every)
        if place + 1 == len(every) or counts[bound] != counts[every[place + 1]] or not counts[bound]
    ]
    bounds = [bound for bound in bounds if counts[bound] or bound == bounds[0]]
    return Coverage(
        tuple(bounds),
        tuple(counts[bound] for bound in bounds),
        tuple(int((decided[bound] & right).sum()) for bound in bounds),
        int(probability.size),
    )


@record(frozen=True, kw_only=True)
class Undecided:
    """share: of the documents that are decided. right: of those. by_label: documents of each label that are left, means over the
    repeats. judgement: of the decided ones alone, None where there are none."""

    share: Rate
    right: Rate
    by_label: dict[str, float]
    judgement: Judgement | None


def undecided_of(decided: Decided, left: Bools, beta: float) -> Undecided | None:
    """left: (m,) which decisions were not taken; None where all were."""
    if not left.any():
        return None
    was_decided = (~left).astype(np.float64)
    right = (decided.true == decided.sorted_as).astype(np.float64) * was_decided
    alone = Decided(
        true=decided.true[~left],
        sorted_as=decided.sorted_as[~left],
        labels=decided.labels,
        majority=decided.majority,
        baseline=decided.baseline[~left],
        sample=decided.sample.rows(~left),
        majority_in_training=decided.majority_in_training,
    )
    counts = np.bincount(decided.true[left], minlength=len(decided.labels)) / decided.sample.repeats
    return Undecided(
        share=share_of(was_decided, np.ones(left.size), decided.sample),
        right=share_of(right, was_decided, decided.sample),
        by_label={
            label: round(count) if float(count).is_integer() else float(count)
            for label, count in zip(decided.labels, counts.tolist(), strict=True)
        },
        judgement=judge(alone, beta) if was_decided.any() else None,
    )
