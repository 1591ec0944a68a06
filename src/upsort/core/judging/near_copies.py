"""Exact and near copies among documents, in time linear in the text.

An exact copy has the same words in the same order, whatever the case, spaces and punctuation. Near copies are found by
their shingles, the pairs of neighbouring words: the similarity of two documents is the share of shingles that they have in
common (Jaccard; Broder 1997). It is estimated from min-hash signatures: for each of 64 random orders of all shingles, the
document's first; the share of places where two signatures agree is an unbiased estimate of the similarity, with a standard
error of at most 0.063. Of each signature only 16 bits a place are kept (b-bit minwise hashing, Li & König 2010). Pairs to
compare are those that agree in all four places of at least one of 16 bands (Indyk & Motwani 1998): at a similarity of 0.8,
99.98 % of pairs are found; at 0.9, all but one in 10^7.

A document costs 144 bytes: two 64-bit sums that identify its words, and its signature.
"""

from dataclasses import dataclass

import numpy as np
import xxhash

from upsort.core.arrays import AnyArray, Bools, Floats, Ints, Keys, Places
from upsort.core.text.lowercase import lower
from upsort.core.text.tokeniser import Tokens, first_in_document, tokenise

SIMILARITY = 0.8
"""From which share of common pairs of words on a document counts as a near copy, where nobody says otherwise."""

PLACES = 64
_BAND = 4
_CHUNK = 1 << 15
_RANDOM = np.random.Generator(np.random.PCG64(20011))
_FACTORS = _RANDOM.integers(0, 1 << 31, PLACES, dtype=np.uint32) * np.uint32(2) + np.uint32(1)
_SHIFTS = _RANDOM.integers(0, 1 << 32, PLACES, dtype=np.uint32)
_ODD = np.uint64(0x9E3779B97F4A7C15)
_OTHER_ODD = np.uint64(0xC2B2AE3D27D4EB4F)


@dataclass(frozen=True)
class Prints:
    """What is kept of n documents to tell copies by.

    sums: (n, 2) uint64. signatures: (n, 64) uint16. words: (n,) int64, number of words; documents without any are copies of
    none. distinct: (n,) int64, number of distinct words.
    """

    sums: Keys
    signatures: AnyArray
    words: Ints
    distinct: Ints


@dataclass(frozen=True)
class Copies:
    """For each of n documents, the earlier document that it copies, or -1.

    exact: (n,) int64, the first with the same words. near: (n,) int64, the first of those found similar. similarity: (n,)
    float64, estimated, for near; 1 for exact; 0 where neither.
    """

    exact: Ints
    near: Ints
    similarity: Floats

    def of(self) -> Ints:
        """(n,) the document that each copies, exactly or nearly, or -1."""
        return np.where(self.exact >= 0, self.exact, self.near)


def prints_of(texts: list[str], with_signatures: bool = True) -> Prints:
    """The prints of a block of documents; without signatures only exact copies can be told."""
    tokens = tokenise([lower(text, "") for text in texts])
    return prints_of_tokens(tokens, first_in_document(tokens), with_signatures)


def prints_of_tokens(tokens: Tokens, once: Places, with_signatures: bool = True) -> Prints:
    """The same for documents that are lower-cased and tokenised already. once: `first_in_document` of the tokens."""
    hashes = np.array([xxhash.xxh3_64_intdigest(word.encode("utf-8")) for word in tokens.words], dtype=np.uint64)
    stream = hashes[tokens.codes] if tokens.words else np.zeros(0, dtype=np.uint64)
    lengths = np.diff(tokens.starts)
    owner = np.repeat(np.arange(lengths.size), lengths)
    place = np.arange(stream.size, dtype=np.uint64) - tokens.starts[owner].astype(np.uint64)
    sums = np.zeros((lengths.size, 2), dtype=np.uint64)
    for column, factor in enumerate((_ODD, _OTHER_ODD)):
        mixed = (stream ^ (stream >> np.uint64(31))) * (place * factor + factor)
        mixed ^= mixed >> np.uint64(29)
        running = np.concatenate((np.zeros(1, dtype=np.uint64), np.cumsum(mixed * factor, dtype=np.uint64)))
        sums[:, column] = running[tokens.starts[1:]] - running[tokens.starts[:-1]]
    distinct = np.bincount(owner[once], minlength=lengths.size)
    signatures = _signatures(stream, tokens.starts) if with_signatures else np.zeros((lengths.size, 0), dtype=np.uint16)
    return Prints(sums, signatures, lengths, distinct.astype(np.int64))


def joined(parts: list[Prints]) -> Prints:
    """Prints of consecutive blocks as those of one."""
    return Prints(
        np.concatenate([part.sums for part in parts]),
        np.concatenate([part.signatures for part in parts]),
        np.concatenate([part.words for part in parts]),
        np.concatenate([part.distinct for part in parts]),
    )


def _signatures(stream: Keys, starts: Ints) -> AnyArray:
    """(n, 64) uint16 signatures of the documents whose word hashes are stream[starts[d] : starts[d + 1]]."""
    lengths = np.diff(starts)
    signatures = np.zeros((lengths.size, PLACES), dtype=np.uint16)
    # A shingle is a word with its follower; the last word of a document counts only where it is the only one.
    follower = np.concatenate((stream[1:], np.zeros(1, dtype=np.uint64))) if stream.size else stream
    is_last = np.zeros(stream.size, dtype=bool)
    is_last[starts[1:][lengths > 0] - 1] = True
    follower[is_last] = 0
    keep = ~is_last
    keep[starts[:-1][lengths == 1]] = True
    mixed = (stream * _ODD) ^ (follower * _OTHER_ODD)
    shingles = ((mixed ^ (mixed >> np.uint64(32))) * _ODD >> np.uint64(32)).astype(np.uint32)[keep]
    counts = np.where(lengths > 1, lengths - 1, lengths)
    begins = np.concatenate((np.zeros(1, dtype=np.int64), np.cumsum(counts)))
    filled = np.flatnonzero(counts > 0)
    at = 0
    while at < filled.size:  # so many documents at a time that their shingles stay in the processor's cache
        upto = max(at + 1, int(np.searchsorted(begins[filled], begins[filled[at]] + _CHUNK)))
        chosen = filled[at:upto]
        begin, end = begins[chosen[0]], begins[chosen[-1] + 1]
        chunk, edges = shingles[begin:end], begins[chosen] - begin
        for place in range(PLACES):
            least = np.minimum.reduceat(chunk * _FACTORS[place] + _SHIFTS[place], edges)
            signatures[chosen, place] = least.astype(np.uint16)
        at = upto
    return signatures


def find_copies(prints: Prints, similarity: float | None) -> Copies:
    """Tell which documents copy an earlier one.

    similarity: from which share of common shingles on a document is a near copy; None to look for exact ones alone.
    """
    exact = _first_alike(prints.sums, prints.words > 0)
    near = np.full(exact.size, -1, dtype=np.int64)
    estimated = np.where(exact >= 0, 1.0, 0.0)
    if similarity is None:
        return Copies(exact, near, estimated)
    open_ones = np.flatnonzero((exact < 0) & (prints.words > 0))
    search = _Search(np.ascontiguousarray(prints.signatures[open_ones]), similarity)
    bands = search.signatures.view(np.uint64)  # four places of 16 bits each
    for band in range(PLACES // _BAND):
        order = np.argsort(bands[:, band], kind="stable")
        same = bands[order[1:], band] == bands[order[:-1], band]
        group = np.concatenate((np.zeros(1, dtype=np.int64), np.cumsum(~same)))
        group_begin = np.flatnonzero(np.concatenate((np.ones(1, dtype=bool), ~same)))
        first = order[group_begin[group]] if order.size else order
        previous = np.concatenate((order[:1], order[:-1]))
        for candidate, valid in ((first, order != first), (previous, np.concatenate((np.zeros(1, dtype=bool), same)))):
            chosen = valid[: order.size]
            search.compare(order[chosen], candidate[chosen])
    found, best = search.found, search.best
    hit = found >= 0
    near[open_ones[hit]] = open_ones[found[hit]]
    estimated[open_ones[hit]] = best[hit]
    return Copies(exact, near, estimated)


class _Search:
    """The earliest similar document of each, as far as pairs were compared. found: (n,) its place or −1; best: (n,) the
    similarity."""

    def __init__(self, signatures: AnyArray, similarity: float) -> None:
        self.signatures, self.similarity = signatures, similarity
        self.best = np.zeros(len(signatures))
        self.found = np.full(len(signatures), -1, dtype=np.int64)

    def compare(self, later: Ints, earlier: Ints) -> None:
        """Estimate the similarity of candidate pairs and note, for each later document, the earliest similar one."""
        for begin in range(0, later.size, _CHUNK):
            a, b = later[begin : begin + _CHUNK], earlier[begin : begin + _CHUNK]
            alike = (self.signatures[a] == self.signatures[b]).mean(axis=1)
            enough = (alike >= self.similarity) & ((self.found[a] < 0) | (b < self.found[a]))
            self.found[a[enough]] = b[enough]
            self.best[a[enough]] = alike[enough]


def _first_alike(sums: Keys, usable: Bools) -> Ints:
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
