"""Sums as they are written down: every number rounded by itself, and what the roundings leave over in a line of its own."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from upsort.core.arrays import Floats
from upsort.core.classifiers.families import family
from upsort.core.insight.explanation import Explanation, Pulls
from upsort.core.learning.sorter import Sorter


@dataclass(frozen=True)
class WrittenSum:
    """rows: (r, c) addends, each rounded to so many digits. rounding: (c,) what has to be added so that the rows give the total.
    total: (c,) the sums, rounded."""

    rows: Floats
    rounding: Floats
    total: Floats

    @property
    def is_exact(self) -> bool:
        """Whether the rounded addends give the rounded sums."""
        return not self.rounding.any()


def written(addends: Sequence[Sequence[float]], totals: Sequence[float], digits: int) -> WrittenSum:
    """addends: rows of one number a column, which add up to the totals before they are rounded."""
    rows = np.asarray(np.round(np.array(addends, dtype=np.float64), digits), dtype=np.float64)
    total = np.asarray(np.round(np.array(totals, dtype=np.float64), digits), dtype=np.float64)
    return WrittenSum(rows, np.round(total - rows.sum(axis=0), digits) + 0.0, total)  # + 0.0: not −0


def beginnings(sorter: Sorter) -> list[tuple[str, Floats]]:
    """What the scores begin with before any term is counted: names, and (k,) values. Raises ValueError for a sorter without
    weights."""
    begins = family(sorter.plan.classifier.kind).begins
    if begins is None:
        raise ValueError("the sorter has no weights")
    return list(begins(sorter.classifier))


@dataclass(frozen=True)
class PullSum:
    """What adds up to the scores of some labels: what they begin with, the first terms one by one, the rest together. names: of
    the rows. terms: the pulls of a row, None where it is no single term. sums: (rows, labels)."""

    names: list[str]
    terms: list[Pulls | None]
    sums: WrittenSum


def sum_of_pulls(sorter: Sorter, one: Explanation, labels: Sequence[int], top: int, digits: int) -> PullSum:
    """The sum for the label numbers `labels`, with the `top` first terms by themselves."""
    begin, shown, rest = beginnings(sorter), one.terms[:top], one.terms[top:]
    names = [*(name for name, _ in begin), *(term.term for term in shown)]
    addends = [[float(values[label]) for label in labels] for _, values in begin]
    addends += [[float(term.pulls[label]) for label in labels] for term in shown]
    terms: list[Pulls | None] = [*(None for _ in begin), *shown]
    if rest:
        names.append(f"{len(rest)} other terms")
        addends.append([sum(float(term.pulls[label]) for term in rest) for label in labels])
        terms.append(None)
    return PullSum(names, terms, written(addends, [float(one.scores[label]) for label in labels], digits))
