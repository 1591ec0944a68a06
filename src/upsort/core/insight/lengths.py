"""Lengths of documents, and how much they alone tell of the label."""

import numpy as np

from upsort.core.arrays import Floats, Ints
from upsort.core.records import record


@record(frozen=True, kw_only=True)
class Lengths:
    """Five numbers and the mean of a set of lengths."""

    least: int
    lower_quartile: float
    median: float
    mean: float
    upper_quartile: float
    most: int


def summarise(values: Ints) -> Lengths:
    """The summary of (n,) lengths, n at least 1."""
    lower, median, upper = np.quantile(values, [0.25, 0.5, 0.75]).tolist()
    return Lengths(
        least=int(values.min()),
        lower_quartile=lower,
        median=median,
        mean=float(values.mean()),
        upper_quartile=upper,
        most=int(values.max()),
    )


def share_between(values: Floats, groups: Ints) -> float | None:
    """The share of the variance of (n,) values that lies between groups (eta squared; Fisher 1925, section 44).

    groups: (n,) numbers from 0. 0 means that the group tells nothing of the value, 1 that it tells all. None where the values
    do not vary.
    """
    if values.max() - values.min() <= 1e-12 * max(
        abs(float(values.max())), 1.0
    ):  # the mean of equal values may differ from them
        return None
    total = float(((values - values.mean()) ** 2).sum())
    counts = np.bincount(groups)
    sums = np.bincount(groups, weights=values)
    means = np.divide(sums, counts, out=np.zeros_like(sums), where=counts > 0)
    return float((counts * (means - values.mean()) ** 2).sum() / total)
