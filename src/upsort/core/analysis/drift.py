"""Counts of labels over time, or by the values of a column, and which of them stand out.

A label stands out in a period when its share there is further from its share in all other periods than chance explains: the z
value of the difference of two proportions (pooled; Fleiss, Levin & Paik 2003, section 3.2) is beyond the normal bound for a 1%
risk, divided by the number of comparisons (Bonferroni).

Whether new documents are like those that a sorter was trained on: its known words, the labels it gives, their lengths.

The labels that new documents are given are compared with those that held-out training documents were given by the folds of the
training, not with the true ones: a sorter has its own leanings, which are no news. So are unknown words. Each of the three
differences is reported only where a test finds it (p < 0.01 for the three together, Bonferroni) and where it is large enough to
matter. Labels and lengths are compared by Pearson's chi-square test of homogeneity (Pearson 1911), what is expected less than
five times being counted together; unknown words by a normal test with documents as units. Both numbers are given."""

from collections.abc import Sequence

import numpy as np
from msgspec import Struct

from upsort.core.arrays import Floats, Ints
from upsort.core.distributions import chi_square_above, normal_cdf, normal_quantile
from upsort.core.evaluation.intervals import Rate, wilson
from upsort.core.lazy import record
from upsort.core.training.labelled import UnknownWords
from upsort.core.training.sorter import TrainedSorter

_RISK = 0.01
_LEAST = 5  # documents of a label in a period, to stand out by being many


class UnusualPeriod(Struct, frozen=True, kw_only=True):
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


_DRIFT_LEAST = 50  # documents, of fewer nothing is said
_SURE = 0.01
_TESTS = 3
_MORE_UNKNOWN = 0.10  # of the words, beyond what was unknown in training
_LABEL_SHIFT = 0.10  # of the documents, that would have to change their label for the shares to be the same
_LENGTH_SHIFT = 0.20
_EXPECTED = 5.0


@record(frozen=True)
class UnknownWordShift:
    """Shares of unknown words among held-out training documents and the new ones."""

    before: float
    now: float
    p: float


@record(frozen=True, kw_only=True)
class LabelShift:
    """difference: how far the shares of the labels are apart (half the sum of differences). label: whose share changed most, with
    both shares."""

    difference: float
    label: str
    before: float
    now: float
    p: float


@record(frozen=True, kw_only=True)
class LengthShift:
    """difference: how far the shares of lengths differ, in classes from 2ⁿ words on. before, now: the middle class, in words."""

    difference: float
    before: int
    now: int
    p: float


@record(frozen=True)
class Drift:
    """What is different; None where nothing can be said to be."""

    unknown: UnknownWordShift | None = None
    labels: LabelShift | None = None
    lengths: LengthShift | None = None

    @property
    def any(self) -> bool:
        """Whether anything is different."""
        return (self.unknown, self.labels, self.lengths) != (None, None, None)


@record(frozen=True)
class NewDocuments:
    """label_counts: (k,) labels given. lengths: (32,) as of training."""

    label_counts: Ints
    lengths: Ints
    words: UnknownWords


def drift(sorter: TrainedSorter, new: NewDocuments) -> Drift:
    """Compare new documents with those of training."""
    if int(new.lengths.sum()) < _DRIFT_LEAST:
        return Drift()
    return Drift(_more_unknown(sorter, new.words), _other_labels(sorter, new.label_counts), _other_lengths(sorter, new.lengths))


def _more_unknown(sorter: TrainedSorter, words: UnknownWords) -> UnknownWordShift | None:
    held_out = sorter.trained.held_out
    if not held_out.words or not words.words:
        return None
    before, now = held_out.unknown / held_out.words, words.share
    # held-out documents are taken to vary like the new ones
    error = words.error * np.sqrt(1.0 + words.documents / max(held_out.documents, 1))
    p = normal_cdf(-(now - before) / error) if error > 0 else float(now <= before)
    return UnknownWordShift(before, now, p) if now > before + _MORE_UNKNOWN and p < _SURE / _TESTS else None


def _other_labels(sorter: TrainedSorter, counts: Ints) -> LabelShift | None:
    expected = sorter.trained.held_out.labels
    if not expected.sum() or not counts.sum() or sorter.thresholds is not None:
        return None
    difference, p = total_variation(expected, counts)
    if difference <= _LABEL_SHIFT or p >= _SURE / _TESTS:
        return None
    was, is_now = _shares(expected), _shares(counts)
    most = int(np.abs(was - is_now).argmax())
    return LabelShift(difference=difference, label=sorter.labels[most], before=float(was[most]), now=float(is_now[most]), p=p)


def _other_lengths(sorter: TrainedSorter, lengths: Ints) -> LengthShift | None:
    trained = sorter.trained.lengths
    if not trained.sum():
        return None
    difference, p = total_variation(trained, lengths)
    before, now = _median(trained), _median(lengths)
    if difference <= _LENGTH_SHIFT or p >= _SURE / _TESTS or before == now:
        return None
    return LengthShift(difference=difference, before=before, now=now, p=p)


def total_variation(first: Ints, second: Ints) -> tuple[float, float]:
    """How far two (k,) counts of the same classes are apart, as half the sum of the differences of their shares, and the p value
    of the chi-square test that they come from the same shares. Classes expected less than five times in either are one class."""
    both = (first + second).astype(np.float64)
    least = min(float(first.sum()), float(second.sum())) / float(both.sum())
    large = both * least >= _EXPECTED
    table = np.vstack([np.append(counts[large], counts[~large].sum()) for counts in (first, second)]).astype(np.float64)
    if table[:, -1].sum() * least < _EXPECTED and large.sum() > 1:  # the rest is too few: it goes with the smallest of the others
        smallest = int(table[:, :-1].sum(axis=0).argmin())
        table[:, smallest] += table[:, -1]
        table = table[:, :-1]
    table = table[:, table.sum(axis=0) > 0]
    difference = float(np.abs(table[0] / table[0].sum() - table[1] / table[1].sum()).sum() / 2.0)
    if table.shape[1] < 2:
        return difference, 1.0
    expected = np.outer(table.sum(axis=1), table.sum(axis=0)) / table.sum()
    return difference, chi_square_above(float(((table - expected) ** 2 / expected).sum()), table.shape[1] - 1)


def _shares(counts: Ints) -> Floats:
    shares: Floats = counts / max(float(counts.sum()), 1.0)
    return shares


def _median(lengths: Ints) -> int:
    """About how many words the middle document has: the middle of its class of lengths."""
    place = int(np.searchsorted(np.cumsum(lengths), lengths.sum() / 2))
    return 0 if place == 0 else round(1.5 * 2 ** (place - 1)) if place > 1 else 1
