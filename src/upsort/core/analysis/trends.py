"""Counts of labels over time, or by the values of a column, and which of them stand out.

A label stands out in a period when its share there is further from its share in all other periods than chance explains: the z
value of the difference of two proportions (pooled; Fleiss, Levin & Paik 2003, section 3.2) is beyond the normal bound for a 1
% risk, divided by the number of comparisons (Bonferroni).
"""

from collections.abc import Sequence

import numpy as np

from upsort.core.arrays import Floats, Ints
from upsort.core.distributions import normal_quantile
from upsort.core.evaluation.intervals import Rate, wilson
from upsort.core.lazy import record

_RISK = 0.01
_LEAST = 5  # documents of a label in a period, to stand out by being many


@record(frozen=True, kw_only=True)
class UnusualPeriod:
    """A label in a period. here, elsewhere: its shares. z: positive where there is more of it."""

    period: str
    label: str
    documents: int
    here: float
    elsewhere: float
    z: float


@record(frozen=True)
class Trend:
    """periods: in order. labels: most documents first. counts: (periods, labels)."""

    periods: tuple[str, ...]
    labels: tuple[str, ...]
    counts: Ints
    standing_out: tuple[UnusualPeriod, ...]

    def rate(self, period: int, label: int) -> Rate:
        """A label's share in a period, with its interval."""
        return wilson(int(self.counts[period, label]), int(self.counts[period].sum()))


def trend_of(periods: Sequence[str], labels: Sequence[str], order: Sequence[str]) -> Trend:
    """Count. periods, labels: of each document. order: all periods, also those without documents, in order."""
    names = sorted(set(labels), key=lambda name: (-labels.count(name), name))
    rows = {period: number for number, period in enumerate(order)}
    columns = {name: number for number, name in enumerate(names)}
    counts = np.zeros((len(order), len(names)), dtype=np.int64)
    at = ([rows[period] for period in periods], [columns[label] for label in labels])
    np.add.at(counts, at, 1)
    return Trend(tuple(order), tuple(names), counts, _unusual_periods(order, names, counts))


def _unusual_periods(periods: Sequence[str], labels: Sequence[str], counts: Ints) -> tuple[UnusualPeriod, ...]:
    sizes = counts.sum(axis=1, keepdims=True).astype(np.float64)
    totals = counts.sum(axis=0, keepdims=True).astype(np.float64)
    n = float(counts.sum())
    if n == 0:
        return ()
    z = _z(counts.astype(np.float64), sizes, totals, n)
    bound = -normal_quantile(_RISK / 2 / max(counts.size, 1))
    unusual = []
    for period, label in zip(*np.nonzero(np.abs(z) > bound), strict=True):
        times, size = int(counts[period, label]), float(sizes[period, 0])
        if times < _LEAST and z[period, label] > 0:
            continue
        elsewhere = (totals[0, label] - times) / max(n - size, 1.0)
        unusual.append(
            UnusualPeriod(
                period=periods[period],
                label=labels[label],
                documents=times,
                here=times / size,
                elsewhere=float(elsewhere),
                z=float(z[period, label]),
            )
        )
    return tuple(sorted(unusual, key=lambda deviation: -abs(deviation.z)))


def _z(counts: Floats, sizes: Floats, totals: Floats, n: float) -> Floats:
    """(periods, labels) the z values of each share against that of all other periods."""
    rest = n - sizes
    with np.errstate(divide="ignore", invalid="ignore"):
        difference = counts / sizes - (totals - counts) / rest
        pooled = totals / n
        deviation = np.sqrt(pooled * (1.0 - pooled) * (1.0 / sizes + 1.0 / rest))
        z = difference / deviation
    return np.nan_to_num(z, nan=0.0, posinf=0.0, neginf=0.0)
