"""Intervals around measured rates.

A rate that counts documents gets Wilson's interval; a measure made of several counts (F1, macro F1) gets the percentile
interval of a stratified bootstrap, drawn from the confusion matrix, which holds all that such a measure depends on.
"""

from collections.abc import Callable
from dataclasses import dataclass
from math import sqrt

import numpy as np

from upsort.core.arrays import Floats, Ints

Z_95 = 1.959963984540054  # the 97.5 % point of the standard normal distribution


@dataclass(frozen=True)
class Rate:
    """A measured value with its 95 % interval. None where it is not defined (nothing to divide by).

    right, of: the counts behind it, where it is a share of documents.
    """

    value: float | None
    low: float | None
    high: float | None
    right: int | None = None
    of: int | None = None


def wilson(right: int, of: int) -> Rate:
    """The share right / of with its 95 % score interval (E. B. Wilson 1927, JASA 22, p. 209)."""
    if of == 0:
        return Rate(None, None, None, right, of)
    share = right / of
    z2 = Z_95**2
    centre = (share + z2 / (2 * of)) / (1 + z2 / of)
    half = Z_95 / (1 + z2 / of) * sqrt(share * (1 - share) / of + z2 / (4 * of**2))
    # At 0 and 1 one end is exactly the share; rounding must not carry it past.
    return Rate(share, 0.0 if right == 0 else centre - half, 1.0 if right == of else centre + half, right, of)


UNKNOWN = Rate(None, None, None)


def of_known(right: int | None, of: int) -> Rate:
    """The share right / of, as `wilson`; UNKNOWN where it is not known how many were right."""
    return UNKNOWN if right is None else wilson(right, of)


def resampled_tables(table: Ints, resamples: int, seed: int) -> Ints:
    """Confusion matrices of bootstrap samples that keep each true label's number of documents.

    table: (k, k) counts, rows true. Drawing documents of a label with replacement and counting the given labels is a
    multinomial draw from the label's row (Efron & Tibshirani 1993, section 8.3). Returns (resamples, k, k).
    """
    generator = np.random.default_rng(seed)
    drawn = np.zeros((resamples, *table.shape), dtype=np.int64)
    for label, row in enumerate(table):
        total = int(row.sum())
        if total:
            drawn[:, label] = generator.multinomial(total, row / total, size=resamples)
    return drawn


def bootstrap(
    measure: Callable[[Ints], Floats],
    table: Ints,
    resamples: int = 1000,
    seed: int = 0,
) -> list[Rate]:
    """Values and 95 % percentile intervals of a measure of confusion matrices.

    measure: (m, k, k) tables → (m, q) values, NaN where undefined. Returns q rates.
    """
    values = measure(table[None])[0]
    spread = measure(resampled_tables(table, resamples, seed))
    rates = []
    for column, value in enumerate(values.tolist()):
        if np.isnan(value):
            rates.append(Rate(None, None, None))
            continue
        drawn = spread[:, column]
        low, high = np.quantile(drawn[~np.isnan(drawn)], [0.025, 0.975])
        rates.append(Rate(value, float(low), float(high)))
    return rates
