"""Fingerprints of documents, to find copies (see `core.evaluation.duplicates`).

A document costs 16 bytes for two sums that identify its words, and 4 bytes for each distinct pair of neighbouring words."""

from collections.abc import Sequence

import numpy as np
import xxhash

from upsort.core.arrays import AnyArray, Ints, Keys, Places, distinct_sorted, holds_any
from upsort.core.lazy import record
from upsort.core.text.characters import DOTTED_I_LANGUAGES, LOWER_DEPENDS, lower
from upsort.core.text.tokeniser import ThreadMemories, Tokens, WordMemory, first_in_document, tokenise

ODD = np.uint64(0x9E3779B97F4A7C15)
_OTHER_ODD = np.uint64(0xC2B2AE3D27D4EB4F)


@record(frozen=True, kw_only=True)
class Fingerprints:
    """Fingerprints of n documents, to find copies.

    sums: (n, 2) uint64. shingles: uint32, the distinct ones of each document, sorted, one document after the other; starts: (n +
    1,) int64, where each document's begin; empty where only exact copies are looked for. words: (n,) int64, number of words;
    documents without any are copies of none. distinct: (n,) int64, number of distinct words."""

    sums: Keys
    shingles: AnyArray
    starts: Ints
    words: Ints
    distinct: Ints

    def rows(self, chosen: Ints) -> "Fingerprints":
        """Of some of the documents."""
        shingles, starts = values_of_rows(self.shingles, self.starts, chosen)
        return Fingerprints(
            sums=self.sums[chosen], shingles=shingles, starts=starts, words=self.words[chosen], distinct=self.distinct[chosen]
        )


_ROWS_AT_ONCE = 1 << 15  # whose places are written down at once: that takes several times the memory of the values


def values_of_rows(values: AnyArray, starts: Ints, rows: Ints, most: int | None = None) -> tuple[AnyArray, Ints]:
    """The values of some documents, one document after the other, and where each document's then begin.

    starts: (n + 1,) where those of each document begin. most: the first ones of each document, so many."""
    sizes = np.diff(starts)[rows]
    sizes = sizes if most is None else np.minimum(sizes, most)
    edges = np.concatenate((np.zeros(1, dtype=np.int64), np.cumsum(sizes)))
    found = np.empty(int(edges[-1]), dtype=values.dtype)
    for begin in range(0, rows.size, _ROWS_AT_ONCE):
        some = slice(begin, begin + _ROWS_AT_ONCE)
        first, last = int(edges[begin]), int(edges[min(begin + _ROWS_AT_ONCE, rows.size)])
        found[first:last] = values[np.arange(first, last) - np.repeat(edges[:-1][some] - starts[rows[some]], sizes[some])]
    return found, edges


def fingerprints_of(texts: Sequence[str], with_shingles: bool = True) -> Fingerprints:
    """The prints of a block of documents; without shingles only exact copies can be reported."""
    with _MEMORIES.borrowed() as memory:
        tokens = tokenise(lowered(texts, ""), lowers=True, memory=memory)
        return fingerprints_of_tokens(tokens, first_in_document(tokens), with_shingles, memory.hashes())


def lowered(texts: Sequence[str], language: str) -> Sequence[str]:
    """The texts, for words that are made lower-case one by one: in lower case already where a letter beside them matters."""
    depends = language in DOTTED_I_LANGUAGES or holds_any(texts, LOWER_DEPENDS)
    return [lower(text, language) for text in texts] if depends else texts


class HashedWords(WordMemory):
    """Words in lower case, and their hashes."""

    def __init__(self) -> None:
        super().__init__(str.lower)
        self._hashes: Keys = np.zeros(0, dtype=np.uint64)

    def hashes(self) -> Keys:
        """(n_words,) the hash of each word."""
        self._hashes = np.concatenate((self._hashes, hashes_of(self.words[self._hashes.size :])))
        return self._hashes


_MEMORIES = ThreadMemories(HashedWords)


def hashes_of(words: Sequence[str]) -> Keys:
    """(n_words,) a hash of each word."""
    return np.array([xxhash.xxh3_64_intdigest(word.encode("utf-8")) for word in words], dtype=np.uint64)


def fingerprints_of_tokens(tokens: Tokens, once: Places, with_shingles: bool = True, hashes: Keys | None = None) -> Fingerprints:
    """The same for documents that are lower-cased and tokenised already. once: `first_in_document` of the tokens. hashes: of
    their words, where they are at hand."""
    hashes = hashes_of(tokens.words) if hashes is None else hashes
    stream = hashes[tokens.codes] if tokens.words else np.zeros(0, dtype=np.uint64)
    lengths = np.diff(tokens.starts)
    owner = np.repeat(np.arange(lengths.size), lengths)
    place = np.arange(stream.size, dtype=np.uint64) - tokens.starts[owner].astype(np.uint64)
    sums = np.zeros((lengths.size, 2), dtype=np.uint64)
    for column, factor in enumerate((ODD, _OTHER_ODD)):
        mixed = (stream ^ (stream >> np.uint64(31))) * (place * factor + factor)
        mixed ^= mixed >> np.uint64(29)
        running = np.concatenate((np.zeros(1, dtype=np.uint64), np.cumsum(mixed * factor, dtype=np.uint64)))
        sums[:, column] = running[tokens.starts[1:]] - running[tokens.starts[:-1]]
    distinct = np.bincount(owner[once], minlength=lengths.size)
    shingles, starts = _shingles(stream, tokens.starts) if with_shingles else (np.zeros(0, dtype=np.uint32), None)
    return Fingerprints(
        sums=sums,
        shingles=shingles,
        starts=starts if starts is not None else np.zeros(lengths.size + 1, dtype=np.int64),
        words=lengths,
        distinct=distinct.astype(np.int64),
    )


def joined(parts: list[Fingerprints]) -> Fingerprints:
    """Prints of consecutive blocks as those of one."""
    sizes = np.concatenate([np.diff(part.starts) for part in parts])
    return Fingerprints(
        sums=np.concatenate([part.sums for part in parts]),
        shingles=np.concatenate([part.shingles for part in parts]),
        starts=np.concatenate((np.zeros(1, dtype=np.int64), np.cumsum(sizes))),
        words=np.concatenate([part.words for part in parts]),
        distinct=np.concatenate([part.distinct for part in parts]),
    )


def _shingles(stream: Keys, starts: Ints) -> tuple[AnyArray, Ints]:
    """The distinct shingles of the documents whose word hashes are stream[starts[d] : starts[d + 1]], and where each begins."""
    lengths = np.diff(starts)
    # A shingle is a word with its follower; the last word of a document counts only where it is the only one.
    follower = np.concatenate((stream[1:], np.zeros(1, dtype=np.uint64))) if stream.size else stream
    is_last = np.zeros(stream.size, dtype=bool)
    is_last[starts[1:][lengths > 0] - 1] = True
    follower[is_last] = 0
    keep = ~is_last
    keep[starts[:-1][lengths == 1]] = True
    mixed = (stream * ODD) ^ (follower * _OTHER_ODD)
    hashed = (mixed ^ (mixed >> np.uint64(32))) * ODD >> np.uint64(32)
    owner = np.repeat(np.arange(lengths.size, dtype=np.uint64), lengths)
    keys = distinct_sorted(((owner << np.uint64(32)) | hashed)[keep])
    sizes = np.bincount((keys >> np.uint64(32)).astype(np.int64), minlength=lengths.size)
    return keys.astype(np.uint32), np.concatenate((np.zeros(1, dtype=np.int64), np.cumsum(sizes)))


@record(frozen=True, kw_only=True)
class Sketches:
    """The least shingles of n documents, from which their similarity to others is estimated.

    hashes: uint32, the least of each document's shingles, sorted, one document after the other; starts: (n + 1,) int64, where
    each document's begin. sizes: (n,) int64, how many distinct shingles each document has in all. documents: how many there were,
    where only some are kept."""

    hashes: AnyArray
    starts: Ints
    sizes: Ints
    documents: int

    @property
    def kept(self) -> int:
        """n."""
        return int(self.sizes.size)

    def rows(self, chosen: Ints) -> "Sketches":
        """Of some of the documents."""
        hashes, starts = values_of_rows(self.hashes, self.starts, chosen)
        return Sketches(hashes=hashes, starts=starts, sizes=self.sizes[chosen], documents=self.documents)


TO_KEEP, TO_JUDGE = 32, 128
"""Hashes of a document that are kept in a sorter, and those by which documents of one corpus are compared."""

_AT_LEAST = 8  # hashes of each of very many documents
_DOCUMENTS = 1 << 17  # up to which as many hashes are kept as are wanted


def sketches_of(fingerprints: Fingerprints, wanted: int = TO_KEEP) -> Sketches:
    """The sketches of documents. wanted: hashes of each."""
    return least_shingles(fingerprints, *kept_of(fingerprints.words.size, wanted))


def kept_of(documents: int, wanted: int) -> tuple[Ints, int]:
    """Whose sketches are kept, and how many hashes of each: as many as wanted; of more than 131,072 documents fewer, but not
    below 8; and where that is still too many, of some documents, evenly spread (with 32 hashes: of 524,288)."""
    rows = np.arange(documents)
    if documents * _AT_LEAST > _DOCUMENTS * wanted:
        rows = np.linspace(0, documents - 1, _DOCUMENTS * wanted // _AT_LEAST).astype(np.int64)
    return rows, min(wanted, _DOCUMENTS * wanted // max(rows.size, 1))


def whole_sketches(fingerprints: Fingerprints) -> Sketches:
    """The sketches of documents that are compared with kept ones."""
    return least_shingles(fingerprints, np.arange(fingerprints.words.size), TO_JUDGE)


def least_shingles(fingerprints: Fingerprints, rows: Ints, most: int) -> Sketches:
    """The sketches of some documents. most: hashes of each."""
    hashes, starts = values_of_rows(fingerprints.shingles, fingerprints.starts, rows, most)
    sizes = np.diff(fingerprints.starts)[rows]
    return Sketches(hashes=hashes, starts=starts, sizes=sizes, documents=fingerprints.words.size)


def bounded(sketches: Sketches) -> Sketches:
    """Not more of them than a sorter keeps."""
    rows, most = kept_of(sketches.documents, TO_KEEP)
    if sketches.kept > rows.size:
        sketches = sketches.rows(np.linspace(0, sketches.kept - 1, rows.size).astype(np.int64))
    hashes, starts = values_of_rows(sketches.hashes, sketches.starts, np.arange(sketches.kept), most)
    return Sketches(hashes=hashes, starts=starts, sizes=sketches.sizes, documents=sketches.documents)


def joined_sketches(parts: list[Sketches]) -> Sketches:
    """Those of consecutive blocks as those of one."""
    counts = np.concatenate([np.diff(part.starts) for part in parts])
    return Sketches(
        hashes=np.concatenate([part.hashes for part in parts]),
        starts=np.concatenate((np.zeros(1, dtype=np.int64), np.cumsum(counts))),
        sizes=np.concatenate([part.sizes for part in parts]),
        documents=sum(part.documents for part in parts),
    )
