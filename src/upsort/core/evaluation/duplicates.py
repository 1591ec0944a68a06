"""Exact copies and similar documents."""

from collections.abc import Iterator, Sequence
from functools import cached_property
from itertools import islice

import numpy as np

from upsort.core.arrays import AnyArray, Bools, Floats, Ints, Keys, distinct_sorted
from upsort.core.executors import map_threads
from upsort.core.features.fingerprints import ODD, Fingerprints, values_of_rows
from upsort.core.lazy import kernels, record

CLOSE = 0.8  # similarity from which it does not matter how few word pairs are in common, or how many documents have them
_LEAST_SHARED = 5  # uncommon word pairs that documents of less similarity must have in common
_COMMON, NEVER_COMMON = 0.05, 10  # share of the documents above which a word pair is common; documents in which none is

PLACES = 80
_CHECKED = 24  # places, of which a byte travels with a band
_NEIGHBOURS = 3  # in the order of a band, that a document is compared with
_CLEARLY_LESS = 0.2  # four standard errors of a similarity that is estimated from 64 places
_CLEARLY_FEWER = 0.42  # of the checked places that similar documents have in common; fewer happens to one pair in 300
_CHUNK = 1 << 15
_MANY, _MANY_DOCUMENTS = 1 << 20, 1 << 16  # shingles, and documents, for which loading compiled passes pays
_MORE_BITS = 4  # of a table of bits than of one of counts
_COMPARED = 1 << 20  # shingles at a time
_MOST_PAIRS = 1 << 21  # that are collected before each is kept once
_MISSED = 0.001
_TABLE = np.uint32(10)  # bits that are left out of a hash when word pairs are counted in a table
_RANDOM = np.random.Generator(np.random.PCG64(20011))
_FACTORS = _RANDOM.integers(0, 1 << 31, PLACES, dtype=np.uint32) * np.uint32(2) + np.uint32(1)
_SHIFTS = _RANDOM.integers(0, 1 << 32, PLACES, dtype=np.uint32)


@record(frozen=True)
class SimilarPairs:
    """p pairs of similar documents, each once. later, earlier: (p,) int64 places; similarity: (p,) float64."""

    later: Ints
    earlier: Ints
    similarity: Floats


@record(frozen=True)
class Duplicates:
    """Copies among n documents. exact: (n,) int64, the first document with the same words, where that is an earlier one, or −1.
    pairs: of the others, those found similar."""

    exact: Ints
    pairs: SimilarPairs

    def above(self, similarity: float) -> "Duplicates":
        """Only pairs that are at least so similar."""
        pairs, chosen = self.pairs, self.pairs.similarity >= similarity
        return Duplicates(self.exact, SimilarPairs(pairs.later[chosen], pairs.earlier[chosen], pairs.similarity[chosen]))

    @cached_property
    def near(self) -> Ints:
        """(n,) the earliest of the similar documents before each, or −1."""
        last = np.iinfo(np.int64).max
        near = np.full(self.exact.size, last, dtype=np.int64)
        np.minimum.at(near, self.pairs.later, self.pairs.earlier)
        return np.where(near < last, near, -1)

    @cached_property
    def similarity(self) -> Floats:
        """(n,) that of `earliest`: 1 for an exact copy, 0 where there is none."""
        similarity = np.where(self.exact >= 0, 1.0, 0.0)
        pairs = self.pairs
        earliest = pairs.earlier == self.near[pairs.later]
        similarity[pairs.later[earliest]] = pairs.similarity[earliest]
        return similarity

    def earliest(self) -> Ints:
        """(n,) the document that each copies, exactly or nearly, or −1."""
        return np.where(self.exact >= 0, self.exact, self.near)

    def groups(self) -> Ints:
        """(n,) a number for each document; copies, and copies of copies, share one."""
        copies = np.flatnonzero(self.exact >= 0)
        later, earlier = (np.concatenate(ends) for ends in ((copies, self.pairs.later), (self.exact[copies], self.pairs.earlier)))
        return connected(later, earlier, self.exact.size)


def signatures_of(fingerprints: Fingerprints, rows: Ints, threads: int = 1) -> AnyArray:
    """(r, 80) uint16 signatures of some documents; those without shingles get zeros."""
    signatures = np.zeros((rows.size, PLACES), dtype=np.uint16)
    passes, orders = kernels(fingerprints.shingles.size, _MANY), np.stack((_FACTORS, _SHIFTS))

    def fill_range(begin: int) -> None:
        some = slice(begin, begin + _CHUNK)
        passes.least_values(*_of_rows(fingerprints, rows[some]), orders, signatures[some])

    if passes is not None:
        map_threads(fill_range, range(0, rows.size, _CHUNK), threads)
        return signatures
    sizes = np.diff(fingerprints.starts)[rows]
    filled = np.flatnonzero(sizes > 0)
    # So many documents at a time that their shingles stay in the processor's cache.
    cuts = np.flatnonzero(np.diff(np.cumsum(sizes)[filled] // _CHUNK)) + 1

    def fill(chosen: Ints) -> None:
        chunk, edges = _of_rows(fingerprints, rows[chosen])
        for place in range(PLACES):
            least = np.minimum.reduceat(chunk * _FACTORS[place] + _SHIFTS[place], edges[:-1])
            signatures[chosen, place] = least.astype(np.uint16)

    map_threads(fill, [part for part in np.split(filled, cuts) if part.size], threads)
    return signatures


def _of_rows(fingerprints: Fingerprints, rows: Ints) -> tuple[AnyArray, Ints]:
    """The shingles of some documents, one after the other, and where each one's begin."""
    return values_of_rows(fingerprints.shingles, fingerprints.starts, rows)


def similarities(fingerprints: Fingerprints, first: Ints, second: Ints, common: AnyArray) -> tuple[Floats, Ints]:
    """(p,) the shares of word pairs that pairs of documents have in common, and (p,) how many of those are not common.

    common: uint32, sorted, the shingles that many documents have."""
    similarity, shared = np.zeros(first.size), np.zeros(first.size, dtype=np.int64)
    sizes = np.diff(fingerprints.starts)
    work = np.cumsum(sizes[first] + sizes[second])
    begin = 0
    while begin < first.size:
        already = work[begin - 1] if begin else 0
        end = max(begin + 1, int(np.searchsorted(work, already + _COMPARED, side="right")))
        keys = []
        for rows in (first[begin:end], second[begin:end]):
            shingles, edges = _of_rows(fingerprints, rows)
            pair = np.repeat(np.arange(rows.size, dtype=np.uint64), np.diff(edges))
            keys.append((pair << np.uint64(32)) | shingles)
        ordered = np.sort(np.concatenate(keys))
        both = ordered[1:][ordered[1:] == ordered[:-1]]
        owner = (both >> np.uint64(32)).astype(np.int64)
        in_common = np.bincount(owner, minlength=end - begin)
        union = sizes[first[begin:end]] + sizes[second[begin:end]] - in_common
        similarity[begin:end] = in_common / np.maximum(union, 1)
        shared[begin:end] = np.bincount(owner[~np.isin(both.astype(np.uint32), common)], minlength=end - begin)
        begin = end
    return similarity, shared


def common_shingles(fingerprints: Fingerprints, documents: int) -> AnyArray:
    """The shingles, sorted, that more documents have than an uncommon one may have among `documents`."""
    most = bound_of_common(documents)
    candidates = frequent_shingles(fingerprints, most)
    return candidates[times_of(fingerprints, candidates) > most]


def bound_of_common(documents: int) -> float:
    """How many documents may have a word pair that is not common."""
    return max(NEVER_COMMON, _COMMON * documents)


def frequent_shingles(fingerprints: Fingerprints, above: float) -> AnyArray:
    """All shingles, sorted, that more than so many documents have, and maybe others: they are counted by a part of their hash."""
    if fingerprints.shingles.size < 1 << (32 - int(_TABLE)):  # few enough to be sorted at once
        shingles, each = np.unique(fingerprints.shingles, return_counts=True)
        return shingles[each > above]
    times = np.zeros(1 << (32 - int(_TABLE)), dtype=np.int64)
    for begin in range(0, fingerprints.shingles.size, _COMPARED):
        np.add(times, np.bincount(fingerprints.shingles[begin : begin + _COMPARED] >> _TABLE, minlength=times.size), out=times)
    if not (frequent := times > above).any():
        return np.zeros(0, dtype=np.uint32)
    found = [
        distinct_sorted(chunk[frequent[chunk >> _TABLE]])
        for begin in range(0, fingerprints.shingles.size, _COMPARED)
        for chunk in (fingerprints.shingles[begin : begin + _COMPARED],)
    ]
    return distinct_sorted(np.concatenate(found))


def times_of(fingerprints: Fingerprints, shingles: AnyArray) -> Ints:
    """(s,) how many documents have each of some shingles, which are sorted."""
    times = np.zeros(shingles.size, dtype=np.int64)
    for begin in range(0, fingerprints.shingles.size if shingles.size else 0, _COMPARED):
        chunk = fingerprints.shingles[begin : begin + _COMPARED]
        place = np.minimum(np.searchsorted(shingles, chunk), shingles.size - 1)
        times += np.bincount(place[shingles[place] == chunk], minlength=shingles.size)
    return times


def find_duplicates(fingerprints: Fingerprints, similarity: float | None, threads: int = 1) -> Duplicates:
    """Find the documents that copy an earlier one.

    similarity: from which share of common shingles on documents are similar; None to look for exact copies alone.

    An exact copy has the same words in the same order, whatever the case, spaces and punctuation. Near copies are found by their
    shingles, the pairs of neighbouring words: the similarity of two documents is the share of their distinct shingles that they
    have in common (Jaccard; Broder 1997). With a share p of the words replaced it is about s / (2 − s), s = (1 − p)²: 0.82, 0.68
    and 0.47 for 5, 10 and 20 %. Below 0.8 documents must also have five shingles in common that at most one document in twenty
    has, or ten documents, so that a form, a greeting or a signature makes no copies.

    Pairs to compare are found by min-hash signatures: for each of 80 random orders of all shingles, the document's first, 16 bits
    of it (b-bit minwise hashing, Li & König 2010). Two documents may be compared where all places of a band agree (Leskovec,
    Rajaraman & Ullman 2014, section 3.4): 20 bands of 4 places for similarities from 0.74 on, at which that misses less than one
    pair in 1,000, 40 of 2 from 0.4 on, else 80 of 1. Those alike in a band are ordered by the places that follow (Bawa, Condie &
    Ganesan 2005), and each is compared with the three before it and the first of all, if enough of 24 places agree. Pairs are
    compared shingle by shingle, so that no pair below the similarity is ever called similar (but for shingles whose 32-bit hashes
    collide). `bench/copies.py` measures how many pairs are found."""
    exact = first_equal(fingerprints.sums, fingerprints.words > 0)
    nothing = np.zeros(0, dtype=np.int64)
    if similarity is None:
        return Duplicates(exact, SimilarPairs(nothing, nothing, np.zeros(0)))
    rows = np.flatnonzero((exact < 0) & (fingerprints.words > 0))
    signatures = signatures_of(fingerprints, rows, threads)
    checks, found = checks_of(signatures), [np.zeros((0, 2), dtype=np.int64)]
    waiting = bands(signatures, similarity)
    while some := list(islice(waiting, threads)):
        found += map_threads(lambda band: pairs_in(band, checks, similarity), some, threads)
        if sum(map(len, found)) > _MOST_PAIRS + 2 * len(found[0]):
            found = [joined_pairs(found)]
    del signatures, waiting  # 160 bytes a document
    later, earlier = joined_pairs(found).T
    pairs = similar(fingerprints, rows[later], rows[earlier], similarity, common_shingles(fingerprints, exact.size))
    return Duplicates(exact, pairs)


@record(frozen=True)
class Band:
    """Some places of n signatures. keys: (n,) uint64, the first four places from there on; width: how many are of the band."""

    keys: Keys
    width: int


def bands(signatures: AnyArray, similarity: float) -> Iterator[Band]:
    """The bands, as wide as the similarity allows."""
    width = next(width for width in (4, 2, 1) if width == 1 or (1.0 - similarity**width) ** (PLACES // width) <= _MISSED)
    passes = kernels(len(signatures), _MANY_DOCUMENTS)
    for begin in range(0, PLACES, width):
        keys = np.zeros(len(signatures), dtype=np.uint64)
        if passes is not None:
            passes.band_keys(signatures, begin, keys)
        else:
            for place in range(begin, begin + 4):
                keys = (keys << np.uint64(16)) | signatures[:, place % PLACES]
        yield Band(keys, width)


def checks_of(signatures: AnyArray) -> AnyArray:
    """(n, 24) uint8, by which pairs that are alike in a band by chance are told."""
    return np.ascontiguousarray(signatures[:, :_CHECKED].astype(np.uint8))


def pairs_in(band: Band, checks: AnyArray, similarity: float) -> Ints:
    """(p, 2) places of documents to be compared for being alike in a band, the later one first."""
    order = _not_alone(band.keys >> np.uint64(16 * (4 - band.width)))
    order = order[np.argsort(band.keys[order], kind="stable")]
    own = band.keys[order] >> np.uint64(16 * (4 - band.width))
    begins = np.flatnonzero(np.concatenate((np.ones(min(order.size, 1), dtype=bool), own[1:] != own[:-1])))
    if begins.size == order.size:
        return np.zeros((0, 2), dtype=np.int64)
    place, sizes = np.arange(order.size), np.diff(np.append(begins, order.size))
    begin, first = np.repeat(begins, sizes), np.repeat(np.minimum.reduceat(order, begins), sizes)
    found = [_checked(order, first, checks, similarity)]
    for back in range(1, _NEIGHBOURS + 1):
        behind = place[place - back >= begin]
        found.append(_checked(order[behind], order[behind - back], checks, similarity))
    return joined_pairs(found)


def _not_alone(keys: Keys) -> Ints:
    """The places of keys that come more than once, and of some others: those that share a slot of a table. Most documents are
    alone, and sorting only the rest is several times as fast."""
    bits = max(keys.size, 1).bit_length() + 2
    if (passes := kernels(keys.size, _MANY_DOCUMENTS)) is not None:
        bits, found = bits + _MORE_BITS, np.empty(keys.size, dtype=bool)
        passes.not_alone(keys, ODD, np.uint64(64 - bits), np.zeros((1 << (bits - 3), 2), dtype=np.uint8), found)
        return np.flatnonzero(found)
    slots = (keys * ODD >> np.uint64(64 - bits)).astype(np.int64)
    return np.flatnonzero(np.bincount(slots, minlength=1 << bits)[slots] > 1)


def _checked(one: Ints, other: Ints, checks: AnyArray, similarity: float) -> Ints:
    """(p, 2) those of the pairs for which enough checked places agree."""
    enough = _agreeing(checks, one, other, int(_CLEARLY_FEWER * similarity * _CHECKED))
    one, other = one[enough], other[enough]
    return np.stack((np.maximum(one, other), np.minimum(one, other)), axis=1)


def _agreeing(places: AnyArray, one: Ints, other: Ints, least: int) -> Bools:
    """(p,) which pairs of different documents agree in at least so many of their places, which are (n, places)."""
    enough = np.empty(one.size, dtype=bool)
    if (passes := kernels(len(places), _MANY_DOCUMENTS)) is not None:
        passes.agreeing(places, one, other, least, enough)
        return enough
    for begin in range(0, one.size, _CHUNK):
        a, b = one[begin : begin + _CHUNK], other[begin : begin + _CHUNK]
        enough[begin : begin + _CHUNK] = ((places[a] == places[b]).sum(axis=1) >= least) & (a != b)
    return enough


def joined_pairs(pairs: Sequence[Ints]) -> Ints:
    """(p, 2) each pair once, in the order of their places, which are below 2 ** 31."""
    every = np.concatenate(pairs)
    keys = np.sort((every[:, 0] << 32) | every[:, 1])
    keys = keys[np.append(keys[:-1] != keys[1:], True)] if keys.size else keys
    return np.stack((keys >> 32, keys & 0xFFFFFFFF), axis=1)


def similar(fingerprints: Fingerprints, later: Ints, earlier: Ints, similarity: float, common: AnyArray) -> SimilarPairs:
    """Those of the pairs of documents that are similar. common: see `similarities`."""
    rows, places = np.unique(np.concatenate((later, earlier)), return_inverse=True)
    least = next(count for count in range(PLACES + 1) if count / PLACES >= similarity - _CLEARLY_LESS)
    alike = _agreeing(signatures_of(fingerprints, rows), places[: later.size], places[later.size :], least)
    later, earlier = later[alike], earlier[alike]
    exactly, shared = similarities(fingerprints, later, earlier, common)
    enough = (exactly >= similarity) & ((shared >= _LEAST_SHARED) | (exactly >= CLOSE))
    return SimilarPairs(later[enough], earlier[enough], exactly[enough])


def first_equal(sums: Keys, usable: Bools) -> Ints:
    """(n,) for each usable row the first row equal to it, where that is an earlier one; else -1."""
    rows = np.flatnonzero(usable)
    order = rows[np.lexsort((sums[rows, 1], sums[rows, 0]))]
    first = np.full(usable.size, -1, dtype=np.int64)
    if order.size == 0:
        return first
    new = np.concatenate((np.ones(1, dtype=bool), (sums[order[1:]] != sums[order[:-1]]).any(axis=1)))
    group_first = order[np.flatnonzero(new)][np.cumsum(new) - 1]
    first[order] = np.where(group_first == order, -1, group_first)
    return first


def joined(first: Ints | None, second: Ints | None) -> Ints | None:
    """Groups in which documents stay together that share a number in either."""
    if first is None or second is None:
        return second if first is None else first
    n = first.size
    _, rows = np.unique(first, return_inverse=True)
    width = int(rows.max(initial=-1)) + 1
    _, columns = np.unique(second, return_inverse=True)
    group = connected(rows, width + columns, width + int(columns.max(initial=-1)) + 1)
    return np.asarray(group[rows], dtype=np.int64).reshape(n)


def connected(left: Ints, other: Ints, size: int) -> Ints:
    """(size,) the number of each node's connected part, in the order of their first nodes; left, other: the ends of each link.

    The roots of both ends get the smaller of the two as theirs, and every node the root of its root, until nothing changes
    (Shiloach & Vishkin 1982)."""
    root = np.arange(size)
    while True:
        smaller = np.minimum(root[left], root[other])
        lower = root.copy()
        np.minimum.at(lower, root[left], smaller)
        np.minimum.at(lower, root[other], smaller)
        while np.any(lower != lower[lower]):
            lower = lower[lower]
        if np.array_equal(lower, root):
            first = root == np.arange(size)
            return np.asarray((np.cumsum(first) - 1)[root], dtype=np.int64)
        root = lower
