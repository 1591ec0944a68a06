"""What leaving the less certain documents undecided brings, and costs."""

import numpy as np

from upsort.core.arrays import Bools, Floats
from upsort.core.judging.intervals import Rate, share_of
from upsort.core.judging.measures import Decided, Judgement, judge
from upsort.core.records import record

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
