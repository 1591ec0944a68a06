"""Sums as they are written down: every number rounded by itself, and what the roundings leave over in a line of its own."""

from collections.abc import Sequence

import numpy as np

from upsort.core.arrays import Floats
from upsort.core.insight.explanation import Additive
from upsort.core.insight.pulls import Contribution
from upsort.core.records import record


@record(frozen=True)
class RoundedSum:
    """rows: (r, c) addends, each rounded to so many digits. rounding: (c,) what has to be added so that the rows give the total.
    total: (c,) the sums, rounded."""

    rows: Floats
    rounding: Floats
    total: Floats

    @property
    def is_exact(self) -> bool:
        """Whether the rounded addends give the rounded sums."""
        return not self.rounding.any()


def written(addends: Sequence[Sequence[float]], totals: Sequence[float], digits: int) -> RoundedSum:
    """addends: rows of one number a column, which add up to the totals before they are rounded."""
    rows = np.asarray(np.round(np.array(addends, dtype=np.float64), digits), dtype=np.float64)
    total = np.asarray(np.round(np.array(totals, dtype=np.float64), digits), dtype=np.float64)
    return RoundedSum(rows, np.round(total - rows.sum(axis=0), digits) + 0.0, total)  # + 0.0: not −0


@record(frozen=True)
class ContributionSum:
    """What adds up to the scores of some labels: what they begin with, the strongest pulls one by one, the rest together. names:
    of the rows. pulls: those of a row, None where it is no single one. sums: (rows, labels)."""

    names: list[str]
    pulls: list[Contribution | None]
    sums: RoundedSum


def sum_of_pulls(sums: Additive, scores: Floats, labels: Sequence[int], top: int, digits: int) -> ContributionSum:
    """The sum for the label numbers `labels`: one, or two of which one stands against the other. scores: (k,). top: how many
    pulls have a row of their own, those that say most for or against the first label."""

    def says(support: Contribution) -> float:
        return abs(float(support.pulls[labels[0]] - (support.pulls[labels[1]] if len(labels) > 1 else 0.0)))

    strongest = {id(contribution) for contribution in sorted(sums.pulls, key=says, reverse=True)[:top]}
    shown = [contribution for contribution in sums.pulls if id(contribution) in strongest]
    rest = [contribution for contribution in sums.pulls if id(contribution) not in strongest]
    names = [*(name for name, _ in sums.begins), *(contribution.term for contribution in shown)]
    addends = [[float(values[label]) for label in labels] for _, values in sums.begins]
    addends += [[float(contribution.pulls[label]) for label in labels] for contribution in shown]
    pulls: list[Contribution | None] = [*(None for _ in sums.begins), *shown]
    if rest:
        names.append("1 other" if len(rest) == 1 else f"{len(rest)} others")
        addends.append([sum(float(contribution.pulls[label]) for contribution in rest) for label in labels])
        pulls.append(None)
    return ContributionSum(names, pulls, written(addends, [float(scores[label]) for label in labels], digits))
