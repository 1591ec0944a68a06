"""Whether one classifier is better than another, judged on the same documents.

How far one result is behind another on the same documents, and what may be said of it.

With d the difference of the two results on each document, from −1 to 1, the mean difference gets the adjusted interval of
Bonett & Price (2012) for paired proportions: one document is added on which only the first is right, and one on which only the
second is; D = Σ d / (n + 2), and its variance is that of the n + 2 differences. Where documents belong together the variance is
that of the sums of their groups, the two added ones count as groups of mean size, and Student's quantile stands for the normal
one. Where the best of several is looked for after the results are known, each of the m (m − 1) / 2 pairs of candidates could have
been the one that is shown, so that the interval is widened to hold for all of them at once (Bonferroni).
"""

from enum import Enum
from math import log, sqrt

import numpy as np

from upsort.core.arrays import Floats, Ints
from upsort.core.distributions import normal_cdf, student_quantile
from upsort.core.evaluation.intervals import Sample
from upsort.core.lazy import record, special

SURE = 0.05
"""The p value below which a difference is said to be one."""

_MOST_EXACT = 20_000  # units of difference up to which the distribution is worked out


def mcnemar(only_first: int, only_second: int) -> float:
    """The two-sided p value of McNemar's test, exact (McNemar 1947; the binomial form of Mosteller 1952).

    only_first, only_second: documents that one of the two gets right and the other does not.
    """
    disagreements = only_first + only_second
    if disagreements == 0:
        return 1.0
    return float(min(1.0, 2.0 * special.bdtr(min(only_first, only_second), disagreements, 0.5)))


def sign_test(differences: Ints) -> float:
    """The two-sided p value of the randomisation test on paired differences (Fisher 1935, section 21).

    differences: (g,) of two results on the same documents, in whole units: right answers more, over all repeats, in each
    group of documents that belong together. If neither is better each difference has either sign with the same chance; p is
    the share of sign patterns whose sum is at least as far from 0. Where every document stands alone and is judged once this
    is McNemar's test.
    """
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
    training part. The variance of the mean is taken as (1/r + tested/trained) · variance, since the training parts overlap.
    """
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
    """What may be said of a candidate beside the best."""

    BEST = "best"
    WORSE = "worse"
    NO_WORSE = "no worse"
    NOT_DISTINGUISHABLE = "not told apart"


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
    """differences: (n,) of each document, positive where the best does better. candidates: m, the best one among them."""
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
