"""Whether one classifier is better than another, judged on the same documents."""

from math import sqrt

import numpy as np
from scipy.special import bdtr, stdtr

from upsort.core.arrays import Bools, Floats


def mcnemar(only_first: int, only_second: int) -> float:
    """The two-sided p value of McNemar's test, exact (McNemar 1947; the binomial form of Mosteller 1952).

    only_first, only_second: documents that one of the two gets right and the other does not.
    """
    disagreements = only_first + only_second
    if disagreements == 0:
        return 1.0
    return float(min(1.0, 2.0 * bdtr(min(only_first, only_second), disagreements, 0.5)))


def disagreements(first_right: Bools, second_right: Bools) -> tuple[int, int]:
    """How many documents only the first, and only the second, gets right."""
    return int((first_right & ~second_right).sum()), int((second_right & ~first_right).sum())


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
    return float(2.0 * stdtr(r - 1, -abs(statistic)))


def holm(p_values: Floats) -> Floats:
    """(m,) p values corrected for being m at once (Holm 1979)."""
    order = np.argsort(p_values, kind="stable")
    corrected = np.maximum.accumulate(p_values[order] * (p_values.size - np.arange(p_values.size)))
    result = np.empty_like(p_values)
    result[order] = np.minimum(corrected, 1.0)
    return result
