"""Intervals around measured rates.

A rate that counts documents gets Wilson's interval; a measure made of several counts (F1, macro F1) gets the percentile
interval of a stratified bootstrap, drawn from the confusion matrix, which holds all that such a measure depends on.

Where documents belong together, Wilson's interval is taken for as many documents as would tell as much if they had nothing to
do with each other: n / d, with d the design effect (Kish 1965), that is the variance of the rate with groups as units
(linearised, Cochran 1977, section 9.7, and widened as Student's t is for few groups) over that of single documents. Few
mistakes tell little about how they come together; d is therefore drawn towards n / groups, the value where a group is right
or wrong as a whole, by the weight of one mistake. The bootstrap draws groups.
"""

from collections.abc import Callable
from dataclasses import dataclass
from math import sqrt

import numpy as np
from scipy.special import stdtrit

from upsort.core.arrays import Floats, Ints
from upsort.core.judging.sample import Sample

Z_95 = 1.959963984540054  # the 97.5 % point of the standard normal distribution


@dataclass(frozen=True, kw_only=True)
class Rate:
    """A measured value with its 95 % interval. None where it is not defined (nothing to divide by).

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
        return Rate(value=None, low=None, high=None, right=_whole(right), of=_whole(of))
    share, n = right / of, effective or of
    z2 = Z_95**2
    centre = (share + z2 / (2 * n)) / (1 + z2 / n)
    half = Z_95 / (1 + z2 / n) * sqrt(share * (1 - share) / n + z2 / (4 * n**2))
    # At 0 and 1 one end is exactly the share; rounding must not carry it past.
    low, high = 0.0 if right == 0 else centre - half, 1.0 if right == of else centre + half
    return Rate(value=share, low=low, high=high, right=_whole(right), of=_whole(of))


def _whole(count: float) -> float:
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
    return wilson(whole, n, n / _design_effect(rights, amongs, sample))


def _design_effect(right: Floats, among: Floats, sample: Sample) -> float:
    whole, n = float(right.sum()), float(among.sum())
    groups = int((sample.summed(among) > 0).sum())
    at_most = max(n / groups, 1.0)
    mistakes = min(whole, n - whole)
    if groups < 2 or mistakes < 1e-9:
        return at_most
    share = whole / n
    residuals = sample.summed(right - share * among)
    widened = (float(stdtrit(groups - 1, 0.975)) / Z_95) ** 2
    measured = groups / (groups - 1) * float((residuals**2).sum()) / (n * share * (1.0 - share)) * widened
    return (max(measured, 1.0) * mistakes + at_most) / (mistakes + 1.0)


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


def resampled_groups(cells: Ints, k: int, sample: Sample, resamples: int, seed: int) -> Floats:
    """(resamples, k, k) confusion matrices of bootstrap samples of whole groups.

    cells: (m,) true · k + given of each decision. Groups with the same table are drawn together, as one multinomial draw.
    Where no group has documents of several labels, each label's number of groups is kept.
    """
    unit = sample.unit
    keys, number = np.unique(unit * (k * k) + cells, return_inverse=True)
    counts = np.bincount(number) / sample.repeats
    owner, cell = keys // (k * k), keys % (k * k)
    owner = np.unique(owner, return_inverse=True)[1]
    units = int(owner.max()) + 1
    marks = np.random.default_rng(20261).random(k * k)
    print_of = np.round(np.bincount(owner, weights=counts * marks[cell], minlength=units), 9)
    _, first, kind, times = np.unique(print_of, return_index=True, return_inverse=True, return_counts=True)
    tables = np.zeros((first.size, k * k))
    chosen = first[kind[owner]] == owner
    np.add.at(tables, (kind[owner[chosen]], cell[chosen]), counts[chosen])
    by_label = tables.reshape(-1, k, k).sum(axis=2)
    pure = bool(((by_label > 0).sum(axis=1) == 1).all())
    stratum = by_label.argmax(axis=1) if pure else np.zeros(first.size, dtype=np.int64)
    generator = np.random.default_rng(seed)
    drawn = np.zeros((resamples, k * k))
    for part in np.unique(stratum).tolist():
        members = np.flatnonzero(stratum == part)
        total = int(times[members].sum())
        drawn += generator.multinomial(total, times[members] / total, size=resamples) @ tables[members]
    return drawn.reshape(resamples, k, k)


def percentiles(value: float, drawn: Floats) -> Rate:
    """A value with the 95 % percentile interval of resampled ones; not defined where the value is NaN."""
    if np.isnan(value):
        return UNKNOWN
    low, high = np.quantile(drawn[~np.isnan(drawn)], [0.025, 0.975])
    return Rate(value=value, low=float(low), high=float(high))


def bootstrap(measure: Callable[[Floats], Floats], table: Floats, drawn: Floats) -> list[Rate]:
    """Values and 95 % percentile intervals of a measure of confusion matrices.

    measure: (m, k, k) tables → (m, q) values, NaN where undefined. drawn: (r, k, k) resampled tables. Returns q rates.
    """
    values, spread = measure(table[None])[0], measure(drawn)
    return [percentiles(value, spread[:, column]) for column, value in enumerate(values.tolist())]
