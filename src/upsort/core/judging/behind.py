"""How far one result is behind another on the same documents, and what may be said of it.

With d the difference of the two results on each document, from −1 to 1, the mean difference gets the adjusted interval of
Bonett & Price (2012) for paired proportions: one document is added on which only the first is right, and one on which only the
second is; D = Σ d / (n + 2), and its variance is that of the n + 2 differences. Where documents belong together the variance is
that of the sums of their groups, the two added ones count as groups of mean size, and Student's quantile stands for the normal
one. Where the best of several is looked for after the results are known, each of the m (m − 1) / 2 pairs of candidates could have
been the one that is shown, so that the interval is widened to hold for all of them at once (Bonferroni).
"""

from enum import Enum
from math import sqrt

import numpy as np

from upsort.core.arrays import Floats
from upsort.core.distributions import student_quantile
from upsort.core.judging.sample import Sample
from upsort.core.records import record


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
