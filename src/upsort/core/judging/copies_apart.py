"""Copies among documents whose prints lie in parts, wherever those are: the same that `near_copies` tells of one piece.

Prints stay where they are. Documents that may be copies are brought together by what tells it, the sums of their words or a band
of their signatures: each part deals its own to stretches of the values, and each stretch of all parts is looked at as one, a
shuffle by key (Dean & Ghemawat 2004). What comes here is who copies whom.
"""

from collections.abc import Iterator, Sequence
from itertools import pairwise
from operator import getitem
from typing import Any

import numpy as np

from upsort.core.arrays import AnyArray, Bools, Ints, Keys
from upsort.core.features.prints import Prints, joined
from upsort.core.judging.near_copies import alike_in, bands, first_alike, signatures_of, similar
from upsort.core.parted import ByRow, Hands, joins
from upsort.core.records import record

_ROWS_OF_A_PART = 1 << 17
_PARTS_A_STRETCH = 4  # so many parts' worth of values are looked at as one
_PAIRS_AT_ONCE = 1 << 16
_ODD = np.uint64(0x9E3779B97F4A7C15)


class PrintsApart:
    """Prints of n documents in parts.

    parts: handles of `Prints`. starts: (parts + 1,) the first document of each, then n.
    """

    def __init__(self, parts: Sequence[Any], starts: Ints, hands: Hands) -> None:
        where = joins(starts, _ROWS_OF_A_PART)
        self.parts = [hands.work(_one, *parts[begin:end]) for begin, end in pairwise(where)]
        self.starts, self.hands = starts[where], hands

    def copies(self, similarity: float) -> Ints:
        """(n,) the earlier document that each copies, exactly or nearly, or −1; `Copies.of` of `find_copies`."""
        found = np.full(int(self.starts[-1]), -1, dtype=np.int64)
        for later, first in self._stretches(_sums_of, _exact):
            found[later] = first
        pairs = np.unique(np.concatenate(self._stretches(_bands_of, _near, found < 0, similarity)), axis=0)
        last = np.iinfo(np.int64).max
        near = np.full(found.size, last, dtype=np.int64)
        for later, earlier in self._similar(pairs, similarity):
            np.minimum.at(near, later, earlier)
        hit = near < last
        found[hit] = near[hit]
        return found

    def _stretches(self, deal: Any, look: Any, open_ones: Bools | None = None, *given: Any) -> list[Any]:
        """What is seen in each stretch of values. open_ones: (n,) of whom values are dealt."""
        many = -(-len(self.parts) // _PARTS_A_STRETCH)
        of_rows = ByRow(open_ones)
        dealt = [
            self.hands.work(deal, part, begin, many, of_rows.of(begin, end), *given)
            for part, (begin, end) in zip(self.parts, pairwise(self.starts.tolist()), strict=True)
        ]
        seen = [
            self.hands.work(look, *(self.hands.work(getitem, one, number) for one in dealt)) for number in range(many)
        ]
        return self.hands.results(seen)

    def _similar(self, pairs: Ints, similarity: float) -> Iterator[tuple[Ints, Ints]]:
        """Those of the pairs, (p, 2), that are near copies, some at a time."""
        work = []
        for at in range(0, len(pairs), _PAIRS_AT_ONCE):
            some = pairs[at : at + _PAIRS_AT_ONCE]
            rows = np.unique(some)
            cuts = np.searchsorted(rows, self.starts).tolist()
            prints = [
                self.hands.work(_rows, part, rows[begin:end] - first)
                for part, (begin, end), first in zip(self.parts, pairwise(cuts), self.starts.tolist(), strict=False)
                if begin < end
            ]
            work.append(self.hands.work(_compared, some, rows, similarity, *prints))
        yield from self.hands.results(work)


@record(frozen=True)
class _Dealt:
    """Values of some documents in one stretch, in the order of documents. values: (m,) or (m, 2); places: (m,) of whom."""

    values: AnyArray
    places: Ints


def _one(*parts: Prints) -> Prints:
    return joined(list(parts))


def _rows(part: Prints, rows: Ints) -> Prints:
    return part.rows(rows)


def _dealt(values: AnyArray, places: Ints, told_by: Keys, many: int) -> list[_Dealt]:
    """told_by: (m,) by which of the values it is dealt."""
    stretch = ((told_by * _ODD) >> np.uint64(32)) % np.uint64(many)
    return [_Dealt(values[stretch == number], places[stretch == number]) for number in range(many)]


def _sums_of(part: Prints, begin: int, many: int, _: None) -> list[_Dealt]:
    rows = np.flatnonzero(part.words > 0)
    return _dealt(part.sums[rows], begin + rows, part.sums[rows, 0], many)


def _exact(*dealt: _Dealt) -> tuple[Ints, Ints]:
    """Documents of the same words as earlier ones, and the first of those."""
    places = np.concatenate([one.places for one in dealt])
    first = first_alike(np.concatenate([one.values for one in dealt]), np.ones(places.size, dtype=bool))
    later = np.flatnonzero(first >= 0)
    return places[later], places[first[later]]


def _bands_of(part: Prints, begin: int, many: int, open_ones: Bools, similarity: float) -> list[list[_Dealt]]:
    rows = np.flatnonzero(open_ones & (part.words > 0))
    each = [
        _dealt(band, begin + rows, band.astype(np.uint64), many)
        for band in bands(signatures_of(part, rows), similarity)
    ]
    return [[band[number] for band in each] for number in range(many)]


def _near(*dealt: list[_Dealt]) -> Ints:
    """(p, 2) pairs that are to be compared, the later one first."""
    found = [np.zeros((0, 2), dtype=np.int64)]
    for band in zip(*dealt, strict=True):
        places = np.concatenate([one.places for one in band])
        found += [
            np.stack((places[later], places[earlier]), axis=1)
            for later, earlier in alike_in(np.concatenate([one.values for one in band]))
        ]
    return np.unique(np.concatenate(found), axis=0)


def _compared(pairs: Ints, rows: Ints, similarity: float, *prints: Prints) -> tuple[Ints, Ints]:
    """Those that are near copies. rows: whose prints are there."""
    later, earlier = np.searchsorted(rows, pairs).T
    enough = similar(joined(list(prints)), later, earlier, similarity)
    return pairs[enough, 0], pairs[enough, 1]
