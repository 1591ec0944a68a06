"""Copies among documents whose prints lie in parts, wherever those are: the same that `duplicates` says of one piece.

Prints stay where they are. Documents that may be copies are brought together by what says it, the sums of their words or a band
of their signatures: each part deals its own to stretches of the values, and each stretch of all parts is looked at as one, a
shuffle by key (Dean & Ghemawat 2004). What comes here is who copies whom."""

from collections.abc import Iterator, Sequence
from itertools import pairwise
from operator import getitem
from typing import Any

import numpy as np

from upsort.core.arrays import AnyArray, Bools, Ints, Keys, distinct_sorted
from upsort.core.evaluation.duplicates import (
    Band,
    Duplicates,
    SimilarPairs,
    bands,
    bound_of_common,
    checks_of,
    first_equal,
    frequent_shingles,
    joined_pairs,
    pairs_in,
    signatures_of,
    similar,
    times_of,
)
from upsort.core.features.fingerprints import ODD, Fingerprints, Sketches, joined, joined_sketches, kept_of, least_shingles
from upsort.core.lazy import record
from upsort.core.matrices.partitioned import Executor, Sliced, merge_boundaries

_ROWS_OF_A_PART = 1 << 17
_PARTS_PER_PARTITION = 4  # so many parts' worth of values are looked at as one
_PAIRS_AT_ONCE = 1 << 16


class PartitionedFingerprints:
    """Prints of n documents in parts.

    parts: handles of `Fingerprints`. starts: (parts + 1,) the first document of each, then n."""

    def __init__(self, parts: Sequence[Any], starts: Ints, executor: Executor) -> None:
        where = merge_boundaries(starts, _ROWS_OF_A_PART)
        self.parts = [executor.submit(_joined, *parts[begin:end]) for begin, end in pairwise(where)]
        self.starts, self.executor = starts[where], executor

    def find_duplicates(self, similarity: float) -> Duplicates:
        """The same as `duplicates.find_duplicates` of all."""
        exact = np.full(int(self.starts[-1]), -1, dtype=np.int64)
        for later, first in self._map_partitions(_sums_of, _exact):
            exact[later] = first
        pairs = joined_pairs(self._map_partitions(_bands_of, _Near(similarity), exact < 0, similarity))
        found = [SimilarPairs(pairs[:0, 0], pairs[:0, 1], np.zeros(0)), *self._similar(pairs, similarity)]
        return Duplicates(
            exact,
            SimilarPairs(
                np.concatenate([some.later for some in found]),
                np.concatenate([some.earlier for some in found]),
                np.concatenate([some.similarity for some in found]),
            ),
        )

    def sketches(self, wanted: int) -> Sketches:
        """The same as `sketches_of` all."""
        rows, most = kept_of(int(self.starts[-1]), wanted)
        cuts = np.searchsorted(rows, self.starts).tolist()
        asked = [
            self.executor.submit(least_shingles, part, rows[begin:end] - first, most)
            for part, (begin, end), first in zip(self.parts, pairwise(cuts), self.starts.tolist(), strict=False)
        ]
        return joined_sketches(self.executor.gather(asked))

    def _common(self) -> AnyArray:
        """The shingles that are common among all documents: those of which one part at least has its share."""
        sizes, most = np.diff(self.starts), bound_of_common(int(self.starts[-1]))
        share = most / max(int(self.starts[-1]), 1)
        asked = [
            self.executor.submit(frequent_shingles, part, share * size)
            for part, size in zip(self.parts, sizes.tolist(), strict=False)
        ]
        candidates = distinct_sorted(np.concatenate([np.zeros(0, dtype=np.uint32), *self.executor.gather(asked)]))
        times = self.executor.gather([self.executor.submit(times_of, part, candidates) for part in self.parts])
        return candidates[np.sum(times, axis=0, dtype=np.int64) > most] if times else candidates

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

    def _similar(self, pairs: Ints, similarity: float) -> Iterator[SimilarPairs]:
        """Those of the pairs, (p, 2), that are similar, some at a time."""
        work, common = [], self._common() if len(pairs) else None
        for at in range(0, len(pairs), _PAIRS_AT_ONCE):
            some = pairs[at : at + _PAIRS_AT_ONCE]
            rows = distinct_sorted(some)
            cuts = np.searchsorted(rows, self.starts).tolist()
            fingerprints = [
                self.executor.submit(_rows, part, rows[begin:end] - first)
                for part, (begin, end), first in zip(self.parts, pairwise(cuts), self.starts.tolist(), strict=False)
                if begin < end
            ]
            work.append(self.executor.submit(_compared, some, rows, similarity, common, *fingerprints))
        yield from self.executor.gather(work)


@record(frozen=True)
class _Bucket:
    """Values of some documents in one stretch, in the order of documents. values: (m,) or (m, 2); places: (m,) of whom."""

    values: AnyArray
    places: Ints


@record(frozen=True)
class _BandBucket:
    """A band of some documents, what is checked of each, and their places, in their order."""

    band: Band
    checks: AnyArray
    places: Ints


def _joined(*parts: Fingerprints) -> Fingerprints:
    return joined(list(parts))


def _rows(part: Fingerprints, rows: Ints) -> Fingerprints:
    return part.rows(rows)


def _stretch_of(keys: Keys, many: int) -> AnyArray:
    """(m,) to which of the stretches each is dealt."""
    return ((keys * ODD) >> np.uint64(32)) % np.uint64(many)


def _partitioned(values: AnyArray, places: Ints, keys: Keys, many: int) -> list[_Bucket]:
    """keys: (m,) by which of the values it is dealt."""
    partition = _stretch_of(keys, many)
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


def _bands_of(part: Fingerprints, begin: int, many: int, open_ones: Bools, similarity: float) -> list[list[_BandBucket]]:
    rows = np.flatnonzero(open_ones & (part.words > 0))
    signatures = signatures_of(part, rows)
    checks, buckets = checks_of(signatures), list[list[_BandBucket]]()
    for band in bands(signatures, similarity):
        of_stretch = _stretch_of(band.keys >> np.uint64(16 * (4 - band.width)), many)
        chosen = [np.flatnonzero(of_stretch == number) for number in range(many)]
        buckets.append([_BandBucket(Band(band.keys[some], band.width), checks[some], begin + rows[some]) for some in chosen])
    return [[band[number] for band in buckets] for number in range(many)]


@record(frozen=True)
class _Near:
    """(p, 2) pairs that are to be compared, the later one first."""

    similarity: float

    def __call__(self, *buckets: list[_BandBucket]) -> Ints:
        pairs = [np.zeros((0, 2), dtype=np.int64)]
        for band in zip(*buckets, strict=True):
            places = np.concatenate([bucket.places for bucket in band])
            whole = Band(np.concatenate([bucket.band.keys for bucket in band]), band[0].band.width)
            pairs.append(places[pairs_in(whole, np.concatenate([bucket.checks for bucket in band]), self.similarity)])
        return joined_pairs(pairs)


def _compared(pairs: Ints, rows: Ints, similarity: float, common: AnyArray, *fingerprints: Fingerprints) -> SimilarPairs:
    """Those that are similar. rows: whose prints are there."""
    later, earlier = np.searchsorted(rows, pairs).T
    found = similar(joined(list(fingerprints)), later, earlier, similarity, common)
    return SimilarPairs(rows[found.later], rows[found.earlier], found.similarity)
