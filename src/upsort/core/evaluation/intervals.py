"""What was drawn independently: decisions are about documents, documents may be decided several times, and may belong together.

A document that is judged in every repeat of the folds is one document still, and passages of one book, or copies of one letter,
tell less than as many that have nothing to do with each other. Whatever has an interval or a test is computed from this.

Intervals around measured rates.

A rate that counts documents gets Wilson's score interval. Every other measure between 0 and 1 gets the same interval with the
number of documents that would tell as much about a plain rate: n' = v (1 − v) / variance, with v the measure and its variance
by linearisation, that is the sum of the squared influences of the documents (Hampel 1974; for tables, the delta method of
Bishop, Fienberg & Holland 1975, section 14.6). What such a measure rests on is often few documents (the mean recall hangs on
those of the rarest label), so the normal quantile gives way to Student's, with Satterthwaite's (1946) degrees of freedom.
`bench/intervals.py` shows how often these intervals hold the truth.

Where documents belong together, n' is divided by the design effect (Kish 1965): the variance with groups as units (linearised,
Cochran 1977, section 9.7) over that of single documents. Few mistakes tell little about how they come together; the effect is
therefore drawn towards n / groups, its value where a group is right or wrong as a whole, by the weight of one mistake.
"""

from math import sqrt

import numpy as np

from upsort.core.arrays import Bools, Floats, Ints
from upsort.core.distributions import student_quantile
from upsort.core.lazy import record


@record(frozen=True, kw_only=True)
class Sample:
    """m decisions about n documents in g groups.

    document: (m,) the number of the document that each decision is about, from 0. repeats: how often each document was decided.
    group: (n,) the number of each document's group, from 0, or None where all stand alone.
    """

    document: Ints
    repeats: int = 1
    group: Ints | None = None

    @staticmethod
    def of(judged: Ints, repeats: int = 1, groups: Ints | None = None) -> "Sample":
        """judged: (m,) places of the decided documents among all. groups: of all; those that hold one document each are none."""
        places, document = np.unique(judged, return_inverse=True)
        group = None
        if groups is not None:
            distinct, number = np.unique(groups[places], return_inverse=True)
            group = number.astype(np.int64) if distinct.size < places.size else None
        return Sample(document=document.astype(np.int64), repeats=repeats, group=group)

    @property
    def plain(self) -> bool:
        """Whether each decision is about a document of its own that stands alone."""
        return self.repeats == 1 and self.group is None

    @property
    def documents(self) -> int:
        """n."""
        return int(self.document.max(initial=-1)) + 1

    @property
    def groups(self) -> int:
        """g; n where all stand alone."""
        return self.documents if self.group is None else int(self.group.max(initial=-1)) + 1

    def rows(self, chosen: Bools) -> "Sample":
        """Some of the decisions."""
        return Sample.of(self.document[chosen], self.repeats, self.group)

    def mean(self, values: Floats) -> Floats:
        """(n,) the mean of (m,) values over the decisions about each document."""
        if self.repeats == 1 and self.document.size == self.documents:
            averages = np.empty(self.documents)
            averages[self.document] = values
            return averages
        means: Floats = np.bincount(self.document, weights=values, minlength=self.documents) / self.repeats
        return means

    def sum_per_document(self, values: Floats) -> Floats:
        """(g,) the sum of (n,) values over the documents of each group."""
        if self.group is None:
            return values
        return np.asarray(np.bincount(self.group, weights=values, minlength=self.groups), dtype=np.float64)

    def differences(self, values: Floats) -> Ints:
        """(g,) the sums of (m,) whole numbers over the decisions about the documents of each group."""
        whole = self.sum_per_document(self.mean(values) * self.repeats)
        return np.rint(whole).astype(np.int64)

    def decided_once(self) -> list[Ints]:
        """The places of the decisions of each repeat: each document once."""
        if self.repeats == 1:
            return [np.arange(self.document.size)]
        order = np.argsort(self.document, kind="stable")
        return [np.sort(order[start :: self.repeats]) for start in range(self.repeats)]


Z_95 = 1.959963984540054  # the 97.5 % point of the standard normal distribution

FEW = 10
"""Documents of a label, below which a measure of that label gets no interval by linearisation."""


@record(frozen=True, kw_only=True)
class Rate:
    """A measured value with its 95 % interval. None where it is not defined (nothing to divide by); only the ends are None
    where too few documents bear on it.

    right, of: the counts behind it, where it is a share of documents; means over the repeats where there are any. documents:
    how many it was measured on, where it is no share of them.
    """

    value: float | None
    low: float | None
    high: float | None
    right: float | None = None
    of: float | None = None
    documents: int | None = None


UNKNOWN = Rate(value=None, low=None, high=None)


def wilson(right: float, of: float, effective: float | None = None) -> Rate:
    """The share right / of with its 95 % score interval (E. B. Wilson 1927, JASA 22, p. 209).

    effective: how many independent documents tell as much, where they are fewer than `of`.
    """
    if of == 0:
        return Rate(value=None, low=None, high=None, right=whole_or_mean(right), of=whole_or_mean(of))
    low, high = score_interval(right / of, effective or of)
    return Rate(value=right / of, low=low, high=high, right=whole_or_mean(right), of=whole_or_mean(of))


def score_interval(value: float, effective: float, quantile: float = Z_95) -> tuple[float, float]:
    """Wilson's interval around a value between 0 and 1. effective: documents. quantile: of the standardised value."""
    z2 = quantile**2
    centre = (value + z2 / (2 * effective)) / (1 + z2 / effective)
    half = quantile / (1 + z2 / effective) * sqrt(value * (1 - value) / effective + z2 / (4 * effective**2))
    # At 0 and 1 one end is exactly the value; rounding must not carry it past.
    return (0.0 if value == 0 else centre - half), (1.0 if value == 1 else centre + half)


def student(degrees: float) -> float:
    """The 97.5 % point of Student's t; that of one degree of freedom where there are fewer."""
    return student_quantile(max(degrees, 1.0), 0.975) if degrees < 1e6 else Z_95


def satterthwaite(parts: Floats, documents: Floats) -> float:
    """The degrees of freedom of a variance that is a sum of parts, each from so many documents."""
    whole = float(parts.sum())
    return whole**2 / float((parts**2 / np.maximum(documents - 1.0, 1.0)).sum()) if whole > 0 else 1.0


def whole_or_mean(count: float) -> float:
    """A count as a whole number, where it is one."""
    return round(count) if abs(count - round(count)) < 1e-9 else float(count)


def of_known(right: int | None, of: int) -> Rate:
    """The share right / of, as `wilson`; UNKNOWN where it is not known how many were right."""
    return UNKNOWN if right is None else wilson(right, of)


def share_of(right: Floats, among: Floats, sample: Sample) -> Rate:
    """The share Σ right / Σ among with its interval. right ≤ among: (m,) numbers of 0 or 1 about the decisions."""
    rights, amongs = sample.mean(right), sample.mean(among)
    whole, n = float(rights.sum()), float(amongs.sum())
    if sample.group is None or n == 0:
        return wilson(whole, n)
    effect = design_effect(rights - whole / n * amongs, amongs, sample, min(whole, n - whole))
    return wilson(whole, n, n / effect)


def design_effect(influences: Floats, among: Floats, sample: Sample, mistakes: float) -> float:
    """How many times as large the variance is with groups as units; 1 where all documents stand alone.

    influences: (n,) what each document adds to the measure, 0 in sum. among: (n,) how much each bears on it. mistakes: how
    many documents' worth of mistakes the measurement rests on.
    """
    if sample.group is None:
        return 1.0
    groups = int((sample.sum_per_document(among) > 0).sum())
    at_most = max(float(among.sum()) / max(groups, 1), 1.0)
    alone = float((influences**2).sum())
    if groups < 2 or mistakes < 1e-9 or alone <= 0:
        return at_most
    widened = (student(groups - 1) / Z_95) ** 2
    measured = groups / (groups - 1) * float((sample.sum_per_document(influences) ** 2).sum()) / alone * widened
    return (max(measured, 1.0) * mistakes + at_most) / (mistakes + 1.0)
