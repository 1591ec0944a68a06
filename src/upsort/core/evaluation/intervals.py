"""Intervals and tests of measured rates, and of differences between classifiers. All count what was drawn independently
(`Sample`)."""

from enum import Enum
from math import log, sqrt

import msgspec
import numpy as np

from upsort.core.arrays import Bools, Floats, Ints
from upsort.core.distributions import normal_cdf, student_quantile
from upsort.core.lazy import record, special


@record(frozen=True, kw_only=True)
class Sample:
    """m decisions about n documents in g groups.

    document: (m,) the number of the document that each decision is about, from 0. repeats: how often each document was decided.
    group: (n,) the number of each document's group, from 0, or None where all stand alone.

    A document that is judged in every repeat of the folds is one document still, and passages of one book, or copies of one
    letter, carry less information than as many independent ones. Whatever has an interval or a test is computed from this."""

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


Z_95 = 1.959963984540054  # the 97.5% point of the standard normal distribution

FEW = 10
"""Documents of a label, below which a measure of that label gets no interval by linearisation."""


class Rate(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True):
    """A measured value with its 95% interval. None where it is not defined (nothing to divide by); only the ends are None where
    too few documents bear on it.

    right, of: the counts behind it, where it is a share of documents; means over the repeats where there are any. documents: how
    many it was measured on, where it is no share of them."""

    value: float | None
    low: float | None
    high: float | None
    right: float | None = None
    of: float | None = None
    documents: int | None = None


UNKNOWN = Rate(value=None, low=None, high=None)


def wilson(right: float, of: float, effective: float | None = None) -> Rate:
    """The share right / of with its 95% score interval (E. B. Wilson 1927, JASA 22, p. 209).

    effective: how many independent documents carry as much information, where they are fewer than `of`."""
    if of == 0:
        return Rate(value=None, low=None, high=None, right=whole_or_mean(right), of=whole_or_mean(of))
    low, high = score_interval(right / of, effective or of)
    return Rate(value=right / of, low=low, high=high, right=whole_or_mean(right), of=whole_or_mean(of))


def score_interval(value: float, effective: float, quantile: float = Z_95) -> tuple[float, float]:
    """Wilson's interval around a value between 0 and 1. effective: documents. quantile: of the standardised value.

    A rate that counts documents gets Wilson's score interval. Every other measure between 0 and 1 gets the same interval with the
    number of documents that would say as much about a plain rate: n' = v (1 − v) / variance, with v the measure and its variance
    by linearisation, that is the sum of the squared influences of the documents (Hampel 1974; for tables, the delta method of
    Bishop, Fienberg & Holland 1975, section 14.6). What such a measure rests on is often few documents (the mean recall depends
    on those of the rarest label), so the normal quantile gives way to Student's, with Satterthwaite's (1946) degrees of freedom.
    `bench/intervals.py` shows how often these intervals hold the truth."""
    z2 = quantile**2
    centre = (value + z2 / (2 * effective)) / (1 + z2 / effective)
    half = quantile / (1 + z2 / effective) * sqrt(value * (1 - value) / effective + z2 / (4 * effective**2))
    # At 0 and 1 one end is exactly the value; rounding must not carry it past.
    return (0.0 if value == 0 else centre - half), (1.0 if value == 1 else centre + half)


def student(degrees: float) -> float:
    """The 97.5% point of Student's t; that of one degree of freedom where there are fewer."""
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

    influences: (n,) what each document adds to the measure, 0 in sum. among: (n,) how much each bears on it. mistakes: how many
    documents' worth of mistakes the measurement rests on.

    Where documents belong together, n' is divided by the design effect (Kish 1965): the variance with groups as units over that
    of single documents. Large groups draw the mean to themselves, so that each group's sum is divided by the share of the others
    (the jackknife; Mancl & DeRouen 2001). The normal quantile gives way to Student's, with Satterthwaite's (1946) degrees of
    freedom where groups have the variances of one correlation within groups: few, where a few groups hold most documents. Few
    mistakes say little about how they come together; the effect is therefore drawn towards Σ size² / n, its value where a group
    is right or wrong as a whole, by the weight of one mistake."""
    if sample.group is None:
        return 1.0
    sizes = sample.sum_per_document(among)
    sizes, own = sizes[sizes > 0], sample.sum_per_document(influences)[sizes > 0]
    n = float(sizes.sum())
    together = max(float((sizes**2).sum()) / max(n, 1e-300), 1.0)
    alone = float((influences**2).sum())
    if sizes.size < 2 or mistakes < 1e-9 or alone <= 0:
        return together
    measured = max(float(((own / (1.0 - sizes / n)) ** 2).sum()) / alone, 1.0)
    correlation = min((measured - 1.0) / max(together - 1.0, 1e-9), 1.0)
    variances = sizes + correlation * sizes * np.maximum(sizes - 1.0, 0.0)
    degrees = float(variances.sum()) ** 2 / float((variances**2).sum()) - 1.0
    widened = measured * (student(degrees) / Z_95) ** 2
    return (widened * mistakes + together) / (mistakes + 1.0)


SURE = 0.05
"""The p value below which a difference is said to be one."""

_MOST_EXACT = 20_000  # units of difference up to which the distribution is worked out


def mcnemar(only_first: int, only_second: int) -> float:
    """The two-sided p value of McNemar's test, exact (McNemar 1947; the binomial form of Mosteller 1952).

    only_first, only_second: documents that one of the two gets right and the other does not."""
    disagreements = only_first + only_second
    if disagreements == 0:
        return 1.0
    return float(min(1.0, 2.0 * special.bdtr(min(only_first, only_second), disagreements, 0.5)))


def sign_test(differences: Ints) -> float:
    """The two-sided p value of the randomisation test on paired differences (Fisher 1935, section 21).

    differences: (g,) of two results on the same documents, in whole units: right answers more, over all repeats, in each group of
    documents that belong together. If neither is better each difference has either sign with the same chance; p is the share of
    sign patterns whose sum is at least as far from 0. Where every document stands alone and is judged once this is McNemar's
    test."""
    sizes, counts = np.unique(np.abs(differences[differences != 0]), return_counts=True)
    if not sizes.size:
        return 1.0
    if sizes.tolist() == [1]:
        only_first = int((differences > 0).sum())
        return mcnemar(only_first, int(counts[0]) - only_first)
    total, seen = int((sizes * counts).sum()), abs(int(differences.sum()))
    if total > _MOST_EXACT:  # normal by the central limit theorem, corrected for the steps between sums
        deviation = sqrt(float((sizes.astype(np.float64) ** 2 * counts).sum()))
        return min(1.0, 2.0 * normal_cdf(-max(seen - 1, 0) / deviation))
    chances = np.ones(1)
    for size, count in zip(sizes.tolist(), counts.tolist(), strict=True):
        steps = np.zeros(2 * size * count + 1)
        steps[:: 2 * size] = np.exp(
            special.gammaln(count + 1)
            - special.gammaln(np.arange(count + 1) + 1)
            - special.gammaln(count - np.arange(count + 1) + 1)
            - count * log(2)
        )
        chances = np.convolve(chances, steps)
    sums = np.arange(-total, total + 1)
    return float(min(1.0, chances[np.abs(sums) >= seen].sum()))


def corrected_t(differences: Floats, tested: float, trained: float) -> float:
    """The two-sided p value of the corrected resampled t test (Nadeau & Bengio 2003, section 5).

    differences: (r,) of the two results on each of r folds or repeats. tested, trained: documents in the held-out and the
    training part. The variance of the mean is taken as (1/r + tested/trained) · variance, since the training parts overlap."""
    r = differences.size
    mean = float(differences.mean())
    if r < 2:
        return 1.0
    variance = float(differences.var(ddof=1))
    if variance == 0.0:
        return 1.0 if mean == 0.0 else 0.0
    statistic = mean / sqrt((1.0 / r + tested / trained) * variance)
    return float(2.0 * special.stdtr(r - 1, -abs(statistic)))


def holm(p_values: Floats) -> Floats:
    """(m,) p values corrected for being m at once (Holm 1979)."""
    order = np.argsort(p_values, kind="stable")
    corrected = np.maximum.accumulate(p_values[order] * (p_values.size - np.arange(p_values.size)))
    result = np.empty_like(p_values)
    result[order] = np.minimum(corrected, 1.0)
    return result


class Comparison(Enum):
    """What may be said of a candidate next to the best."""

    BEST = "best"
    WORSE = "worse"
    NO_WORSE = "no worse"
    NOT_DISTINGUISHABLE = "not distinguishable"


@record(frozen=True)
class DifferenceToBest:
    """By how much a candidate is behind the best, as a share of the documents, with an interval that holds for all at once."""

    value: float
    low: float
    high: float

    def comparison(self, margin: float) -> Comparison:
        """margin: a difference below which a candidate counts as no worse."""
        if self.low > 0.0:
            return Comparison.WORSE
        return Comparison.NO_WORSE if self.high < margin else Comparison.NOT_DISTINGUISHABLE


def difference_to_best(differences: Floats, sample: Sample, candidates: int) -> DifferenceToBest:
    """differences: (n,) of each document, positive where the best does better. candidates: m, the best one among them.

    With d the difference of the two results on each document, from −1 to 1, the mean difference gets the adjusted interval of
    Bonett & Price (2012) for paired proportions: one document is added on which only the first is right, and one on which only
    the second is; D = Σ d / (n + 2), and its variance is that of the n + 2 differences. Where documents belong together the
    variance is that of the sums of their groups, the two added ones count as groups of mean size, and Student's quantile
    represents the normal one. Where the best of several is looked for after the results are known, each of the m (m − 1) / 2
    pairs of candidates could have been the one that is shown, so that the interval is widened to hold for all of them at once
    (Bonferroni)."""
    n = differences.size
    sums = sample.sum_per_document(differences)
    sizes = sample.sum_per_document(np.ones(n))
    size = n / sums.size
    whole = n + 2.0 * size
    mean = float(sums.sum()) / whole
    residuals = float(((sums - mean * sizes) ** 2).sum()) + size**2 * ((1.0 - mean) ** 2 + (1.0 + mean) ** 2)
    groups = sums.size + 2.0
    deviation = sqrt(residuals * (groups / (groups - 1.0) if sample.group is not None else 1.0)) / whole
    pairs = max(candidates * (candidates - 1) // 2, 1)
    degrees = groups - 1.0 if sample.group is not None else 1e9
    half = student_quantile(degrees, 1.0 - 0.025 / pairs) * deviation
    return DifferenceToBest(float(differences.mean()), max(mean - half, -1.0), min(mean + half, 1.0))
