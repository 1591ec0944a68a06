"""Exact and near copies among documents, and which documents belong together: those of a group, and copies of each other."""

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np

from upsort.core.arrays import AnyArray, Bools, Floats, Ints, Keys
from upsort.core.features.fingerprints import Fingerprints
from upsort.core.lazy import record

SIMILARITY = 0.8
"""From which share of common pairs of words on a document counts as a near copy, where nobody says otherwise."""

PLACES = 64
_NEIGHBOURS = 3  # before it in a band, that a document is compared with
_CLEARLY_LESS = 0.2  # four standard errors of a similarity that is reported from 64 places
_CHUNK = 1 << 15
_COMPARED = 1 << 20  # shingles at a time
_MISSED = 0.001
_RANDOM = np.random.Generator(np.random.PCG64(20011))
_FACTORS = _RANDOM.integers(0, 1 << 31, PLACES, dtype=np.uint32) * np.uint32(2) + np.uint32(1)
_SHIFTS = _RANDOM.integers(0, 1 << 32, PLACES, dtype=np.uint32)


@record(frozen=True)
class Duplicates:
    """For each of n documents, the earlier document that it copies, or -1.

    exact: (n,) int64, the first with the same words. near: (n,) int64, the first of those found similar. similarity: (n,)
    float64, for near; 1 for exact; 0 where neither."""

    exact: Ints
    near: Ints
    similarity: Floats

    def earliest(self) -> Ints:
        """(n,) the document that each copies, exactly or nearly, or -1."""
        return np.where(self.exact >= 0, self.exact, self.near)


def signatures_of(fingerprints: Fingerprints, rows: Ints) -> AnyArray:
    """(r, 64) uint16 signatures of some documents; those without shingles get zeros."""
    signatures = np.zeros((rows.size, PLACES), dtype=np.uint16)
    sizes = np.diff(fingerprints.starts)[rows]
    ends = np.cumsum(sizes)
    filled = np.flatnonzero(sizes > 0)
    at = 0
    while at < filled.size:  # so many documents at a time that their shingles stay in the processor's cache
        upto = max(at + 1, int(np.searchsorted(ends[filled], ends[filled[at]] + _CHUNK)))
        chosen = filled[at:upto]
        chunk, edges = _of_rows(fingerprints, rows[chosen])
        for place in range(PLACES):
            least = np.minimum.reduceat(chunk * _FACTORS[place] + _SHIFTS[place], edges[:-1])
            signatures[chosen, place] = least.astype(np.uint16)
        at = upto
    return signatures


def _of_rows(fingerprints: Fingerprints, rows: Ints) -> tuple[AnyArray, Ints]:
    """The shingles of some documents, one after the other, and where each one's begin."""
    sizes = np.diff(fingerprints.starts)[rows]
    edges = np.concatenate((np.zeros(1, dtype=np.int64), np.cumsum(sizes)))
    places = np.arange(int(edges[-1])) - np.repeat(edges[:-1] - fingerprints.starts[rows], sizes)
    return fingerprints.shingles[places], edges


def similarities(fingerprints: Fingerprints, first: Ints, second: Ints) -> Floats:
    """(p,) the shares of shingles that pairs of documents have in common."""
    similarity = np.zeros(first.size)
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
        both = np.sort(np.concatenate(keys))
        common = np.bincount((both[1:][both[1:] == both[:-1]] >> np.uint64(32)).astype(np.int64), minlength=end - begin)
        union = sizes[first[begin:end]] + sizes[second[begin:end]] - common
        similarity[begin:end] = common / np.maximum(union, 1)
        begin = end
    return similarity


def find_duplicates(fingerprints: Fingerprints, similarity: float | None) -> Duplicates:
    """Find the documents that copy an earlier one.

    similarity: from which share of common shingles on a document is a near copy; None to look for exact ones alone.

    An exact copy has the same words in the same order, whatever the case, spaces and punctuation. Near copies are found by their
    shingles, the pairs of neighbouring words: the similarity of two documents is the share of their distinct shingles that they
    have in common (Jaccard; Broder 1997). Pairs to compare are found by min-hash signatures: for each of 64 random orders of all
    shingles, the document's first, 16 bits of it (b-bit minwise hashing, Li & König 2010). Two documents are compared where all
    places of a band agree (Leskovec, Rajaraman & Ullman 2014, section 3.4): 16 bands of 4 places for similarities from 0.77 on,
    at which that misses less than one pair in 1,000 (one in 5,000 at 0.8), 32 of 2 from 0.44 on, else 64 of 1. Of documents alike
    in a band each is compared with the first and the three before it. Pairs are compared shingle by shingle, so that no pair
    below the similarity is ever called one (but for shingles whose 32-bit hashes collide). `bench/copies.py` measures how many
    pairs are found."""
    exact = first_equal(fingerprints.sums, fingerprints.words > 0)
    near = np.full(exact.size, -1, dtype=np.int64)
    similarities = np.where(exact >= 0, 1.0, 0.0)
    if similarity is None:
        return Duplicates(exact, near, similarities)
    open_ones = np.flatnonzero((exact < 0) & (fingerprints.words > 0))
    search = _DuplicateSearch(fingerprints, open_ones, similarity)
    for band in bands(search.signatures, similarity):
        for later, earlier in equal_pairs(band):
            search.compare(later, earlier)
    hit = search.originals >= 0
    near[open_ones[hit]] = open_ones[search.originals[hit]]
    similarities[open_ones[hit]] = search.best[hit]
    return Duplicates(exact, near, similarities)


def bands(signatures: AnyArray, similarity: float) -> list[AnyArray]:
    """The bands, each as one number a document; as wide as the similarity allows."""
    kinds: list[tuple[int, type[np.unsignedinteger[Any]]]] = [(4, np.uint64), (2, np.uint32), (1, np.uint16)]
    for width, kind in kinds:
        if width == 1 or (1.0 - similarity**width) ** (PLACES // width) <= _MISSED:
            return [np.ascontiguousarray(band) for band in signatures.view(kind).T]
    raise AssertionError


def equal_pairs(band: AnyArray) -> Iterator[tuple[Ints, Ints]]:
    """Places of documents to be compared for being alike in a band, later and earlier ones; no later one twice in one go."""
    order = np.argsort(band, kind="stable")
    alike = band[order[1:]] == band[order[:-1]]
    begins = np.flatnonzero(np.concatenate((np.ones(min(order.size, 1), dtype=bool), ~alike)))
    place = np.arange(order.size)
    begin = np.repeat(begins, np.diff(np.append(begins, order.size)))
    yield order[place > begin], order[begin[place > begin]]
    for back in range(1, _NEIGHBOURS + 1):
        later = place[place - back > begin]
        yield order[later], order[later - back]


def similar(fingerprints: Fingerprints, later: Ints, earlier: Ints, similarity: float) -> Bools:
    """(p,) which pairs of documents `find_duplicates` takes for near copies if it comes to compare them."""
    return (
        _DuplicateSearch(fingerprints, np.arange(fingerprints.words.size), similarity).similarities(later, earlier) >= similarity
    )


class _DuplicateSearch:
    """The earliest similar document of each, as far as pairs were compared. found: (n,) its place or −1; best: (n,) the
    similarity."""

    def __init__(self, fingerprints: Fingerprints, rows: Ints, similarity: float) -> None:
        self.fingerprints, self.rows, self.similarity = fingerprints, rows, similarity
        self.signatures = signatures_of(fingerprints, rows)
        self.best = np.zeros(rows.size)
        self.originals = np.full(rows.size, -1, dtype=np.int64)

    def compare(self, later: Ints, earlier: Ints) -> None:
        """Compare candidate pairs and note, for each later document, the earliest similar one."""
        for begin in range(0, later.size, _CHUNK):
            a, b = later[begin : begin + _CHUNK], earlier[begin : begin + _CHUNK]
            new = (self.originals[a] < 0) | (b < self.originals[a])
            a, b = a[new], b[new]
            exactly = self.similarities(a, b)
            enough = exactly >= self.similarity
            self.originals[a[enough]] = b[enough]
            self.best[a[enough]] = exactly[enough]

    def similarities(self, a: Ints, b: Ints) -> Floats:
        """(p,) of pairs; 0 where signatures show that it is clearly less than what is looked for."""
        similarity = np.zeros(a.size)
        alike = (self.signatures[a] == self.signatures[b]).mean(axis=1) >= self.similarity - _CLEARLY_LESS
        similarity[alike] = similarities(self.fingerprints, self.rows[a[alike]], self.rows[b[alike]])
        return similarity


def first_equal(sums: Keys, usable: Bools) -> Ints:
    """(n,) for each usable row the first row equal to it, where that is an earlier one; else -1."""
    rows = np.flatnonzero(usable)
    order = rows[np.lexsort((rows, sums[rows, 1], sums[rows, 0]))]
    first = np.full(usable.size, -1, dtype=np.int64)
    if order.size == 0:
        return first
    new = np.concatenate((np.ones(1, dtype=bool), (sums[order[1:]] != sums[order[:-1]]).any(axis=1)))
    group_first = order[np.flatnonzero(new)][np.cumsum(new) - 1]
    first[order] = np.where(group_first == order, -1, group_first)
    return first


@record(frozen=True)
class Groups:
    """n documents. named: (n,) the group that a column names, as a number; those without one represents themselves. copied: (n,)
    the same of copies. Either is None where nothing was looked for.

    Copies are reported from the whole text as it was written, whatever the features keep of it (see `duplicates`), so that one
    corpus has the same copies under every plan. Every kind of split keeps what belongs together on one side (see `splits`)."""

    named: Ints | None = None
    copied: Ints | None = None

    @property
    def groups(self) -> Ints | None:
        """(n,) documents of one number belong together for either reason."""
        return joined(self.named, self.copied)

    @property
    def copies(self) -> int:
        """How many documents copy an earlier one."""
        return int(self.copied.size - np.unique(self.copied).size) if self.copied is not None else 0

    def rows(self, chosen: Bools | Ints) -> "Groups":
        """Of some of the documents."""
        return Groups(
            self.named[chosen] if self.named is not None else None, self.copied[chosen] if self.copied is not None else None
        )


def named_groups(cells: Sequence[str]) -> Ints:
    """(n,) the number of each document's group; an empty cell is a group of its own."""
    numbers: dict[str, int] = {}
    return np.array(
        [numbers.setdefault(cell, len(numbers)) if cell else -1 - place for place, cell in enumerate(cells)], dtype=np.int64
    )


def duplicate_groups(fingerprints: Fingerprints) -> Ints:
    """(n,) a number for each document; copies, and copies of copies, share one."""
    return duplicate_groups_of(find_duplicates(fingerprints, SIMILARITY).earliest())


def duplicate_groups_of(copies: Ints) -> Ints:
    """The same. copies: (n,) the earlier document that each copies, or −1."""
    later = np.flatnonzero(copies >= 0)
    return _connected(later, copies[later], copies.size)


def joined(first: Ints | None, second: Ints | None) -> Ints | None:
    """Groups in which documents stay together that share a number in either."""
    if first is None or second is None:
        return second if first is None else first
    n = first.size
    _, rows = np.unique(first, return_inverse=True)
    width = int(rows.max(initial=-1)) + 1
    _, columns = np.unique(second, return_inverse=True)
    group = _connected(rows, width + columns, width + int(columns.max(initial=-1)) + 1)
    return np.asarray(group[rows], dtype=np.int64).reshape(n)


def _connected(left: Ints, other: Ints, size: int) -> Ints:
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
