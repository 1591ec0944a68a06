"""Copies among documents whose prints lie in parts, wherever those are: the same that `duplicates` says of one piece.

Prints stay where they are. Documents that may be copies are brought together by what says it, the sums of their words or a band
of their signatures: each part deals its own to stretches of the values, and each stretch of all parts is looked at as one, a
shuffle by key (Dean & Ghemawat 2004). What comes here is who copies whom."""

from collections.abc import Iterator, Sequence
from itertools import pairwise
from operator import getitem
from typing import Any

import numpy as np

from upsort.core.arrays import AnyArray, Bools, Ints, Keys
from upsort.core.evaluation.duplicates import bands, equal_pairs, first_equal, signatures_of, similar
from upsort.core.features.fingerprints import Fingerprints, joined
from upsort.core.lazy import record
from upsort.core.matrices.partitioned import Executor, Sliced, merge_boundaries

_ROWS_OF_A_PART = 1 << 17
_PARTS_PER_PARTITION = 4  # so many parts' worth of values are looked at as one
_PAIRS_AT_ONCE = 1 << 16
_ODD = np.uint64(0x9E3779B97F4A7C15)


class PartitionedFingerprints:
    """Prints of n documents in parts.

    parts: handles of `Fingerprints`. starts: (parts + 1,) the first document of each, then n."""

    def __init__(self, parts: Sequence[Any], starts: Ints, executor: Executor) -> None:
        where = merge_boundaries(starts, _ROWS_OF_A_PART)
        self.parts = [executor.submit(_joined, *parts[begin:end]) for begin, end in pairwise(where)]
        self.starts, self.executor = starts[where], executor

    def copies(self, similarity: float) -> Ints:
        """(n,) the earlier document that each copies, exactly or nearly, or −1; `Duplicates.earliest` of `find_duplicates`."""
        originals = np.full(int(self.starts[-1]), -1, dtype=np.int64)
        for later, first in self._map_partitions(_sums_of, _exact):
            originals[later] = first
        pairs = np.unique(np.concatenate(self._map_partitions(_bands_of, _near, originals < 0, similarity)), axis=0)
        last = np.iinfo(np.int64).max
        near = np.full(originals.size, last, dtype=np.int64)
        for later, earlier in self._similar(pairs, similarity):
            np.minimum.at(near, later, earlier)
        hit = near < last
        originals[hit] = near[hit]
        return originals

    def _map_partitions(self, deal: Any, search: Any, open_ones: Bools | None = None, *given: Any) -> list[Any]:
        """What is seen in each stretch of values. open_ones: (n,) of whom values are dealt."""
        many = -(-len(self.parts) // _PARTS_PER_PARTITION)
        of_rows = Sliced(open_ones)
        partitioned = [
            self.executor.submit(deal, part, begin, many, of_rows.of(begin, end), *given)
            for part, (begin, end) in zip(self.parts, pairwise(self.starts.tolist()), strict=True)
        ]
        seen = [
            self.executor.submit(search, *(self.executor.submit(getitem, bucket, number) for bucket in partitioned))
            for number in range(many)
        ]
        return self.executor.gather(seen)

    def _similar(self, pairs: Ints, similarity: float) -> Iterator[tuple[Ints, Ints]]:
        """Those of the pairs, (p, 2), that are near copies, some at a time."""
        work = []
        for at in range(0, len(pairs), _PAIRS_AT_ONCE):
            some = pairs[at : at + _PAIRS_AT_ONCE]
            rows = np.unique(some)
            cuts = np.searchsorted(rows, self.starts).tolist()
            fingerprints = [
                self.executor.submit(_rows, part, rows[begin:end] - first)
                for part, (begin, end), first in zip(self.parts, pairwise(cuts), self.starts.tolist(), strict=False)
                if begin < end
            ]
            work.append(self.executor.submit(_compared, some, rows, similarity, *fingerprints))
        yield from self.executor.gather(work)


@record(frozen=True)
class _Bucket:
    """Values of some documents in one stretch, in the order of documents. values: (m,) or (m, 2); places: (m,) of whom."""

    values: AnyArray
    places: Ints


def _joined(*parts: Fingerprints) -> Fingerprints:
    return joined(list(parts))


def _rows(part: Fingerprints, rows: Ints) -> Fingerprints:
    return part.rows(rows)


def _partitioned(values: AnyArray, places: Ints, keys: Keys, many: int) -> list[_Bucket]:
    """keys: (m,) by which of the values it is dealt."""
    partition = ((keys * _ODD) >> np.uint64(32)) % np.uint64(many)
    return [_Bucket(values[partition == number], places[partition == number]) for number in range(many)]


def _sums_of(part: Fingerprints, begin: int, many: int, _: None) -> list[_Bucket]:
    rows = np.flatnonzero(part.words > 0)
    return _partitioned(part.sums[rows], begin + rows, part.sums[rows, 0], many)


def _exact(*buckets: _Bucket) -> tuple[Ints, Ints]:
    """Documents of the same words as earlier ones, and the first of those."""
    places = np.concatenate([bucket.places for bucket in buckets])
    first = first_equal(np.concatenate([bucket.values for bucket in buckets]), np.ones(places.size, dtype=bool))
    later = np.flatnonzero(first >= 0)
    return places[later], places[first[later]]


def _bands_of(part: Fingerprints, begin: int, many: int, open_ones: Bools, similarity: float) -> list[list[_Bucket]]:
    rows = np.flatnonzero(open_ones & (part.words > 0))
    each = [
        _partitioned(band, begin + rows, band.astype(np.uint64), many) for band in bands(signatures_of(part, rows), similarity)
    ]
    return [[band[number] for band in each] for number in range(many)]


def _near(*buckets: list[_Bucket]) -> Ints:
    """(p, 2) pairs that are to be compared, the later one first."""
    pairs = [np.zeros((0, 2), dtype=np.int64)]
    for band in zip(*buckets, strict=True):
        places = np.concatenate([bucket.places for bucket in band])
        pairs += [
            np.stack((places[later], places[earlier]), axis=1)
            for later, earlier in equal_pairs(np.concatenate([bucket.values for bucket in band]))
        ]
    return np.unique(np.concatenate(pairs), axis=0)


def _compared(pairs: Ints, rows: Ints, similarity: float, *fingerprints: Fingerprints) -> tuple[Ints, Ints]:
    """Those that are near copies. rows: whose prints are there."""
    later, earlier = np.searchsorted(rows, pairs).T
    enough = similar(joined(list(fingerprints)), later, earlier, similarity)
    return pairs[enough, 0], pairs[enough, 1]
