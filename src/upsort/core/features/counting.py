"""Counting terms: one pass over the text, in blocks, straight into compressed sparse rows.

A block of documents is cleaned and tokenised at once; only its distinct words meet Python strings. The stored part of a document
is the numbers of its words, four bytes each, until `ngrams` sorts them at the end."""

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import field

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import AnyArray, Bools, Codes, Floats, Ints, WordKeys, union_of_keys, word_keys
from upsort.core.executors import map_threads
from upsort.core.features.ngrams import grams_of, letters_of
from upsort.core.lazy import record
from upsort.core.matrices.sparse import Triplets, from_cells, from_triplets, triplets_of
from upsort.core.plan import Features
from upsort.core.text.cleaning import Cleaner
from upsort.core.text.final_forms import FinalForms
from upsort.core.text.tokeniser import Tokens, WordNumbering, with_present_words

BLOCK_CHARACTERS = 2_000_000

Places = Callable[[Sequence[str]], tuple[Ints, Ints]]
"""Gives the columns and the signs of terms."""


@record(frozen=True, kw_only=True)
class Counts:
    """How often each term is in each document; nothing is weighted yet.

    matrix: (n_documents, n_terms) CSR of int32, indices sorted, no duplicates.
    terms: sorted by code point; the matrix's columns. Terms in fewer documents than was asked for are not among them. tokens:
    (n_documents,) int64, words of each document, counted or not.
    distinct: how many terms there are, those left out included. seen_once: how many of them are in the corpus once. rare: the
    keys of words in fewer documents than was asked for."""

    matrix: csr_array
    terms: list[str]
    tokens: Ints
    distinct: int
    seen_once: int
    rare: WordKeys = field(default_factory=lambda: word_keys(()))


NEVER_SEEN, IGNORED = -1, -2
"""Instead of the column of a word: not in any training document; or there, and left out as too common or too rare."""


@record(frozen=True)
class KnownCounts:
    """Counts of the terms of a fixed vocabulary.

    matrix: (n_documents, len(vocabulary)) CSR of int32.
    tokens: (n_documents,) int64, all tokens of each document. known: (n_documents,) int64, those in the vocabulary. ignored:
    (n_documents,) int64, those that were seen in training and left out of it, too common or too rare."""

    matrix: csr_array
    tokens: Ints
    known: Ints
    ignored: Ints

    def unknown_share(self) -> Floats:
        """(n_documents,) the share of each document's tokens that were never seen in training; NaN without tokens."""
        with np.errstate(invalid="ignore"):
            share: Floats = 1.0 - (self.known + self.ignored) / self.tokens
        return share


def in_blocks(documents: Iterable[str]) -> Iterator[list[str]]:
    """Documents in lists of about two million characters."""
    block: list[str] = []
    characters = 0
    for document in documents:
        block.append(document)
        characters += len(document) + 1
        if characters >= BLOCK_CHARACTERS:
            yield block
            block, characters = [], 0
    if block:
        yield block


def count(
    documents: Iterable[str], cleaning: Cleaner, settings: Features | None = None, at_least: int = 1, threads: int = 1
) -> Counts:
    """Count every term of every document.

    documents: any number of texts, read once. settings: which n-grams are terms; single words without. at_least: documents that a
    term must are in."""

    def cut(block: Sequence[str]) -> Tokens:
        return cleaning.words_of(block, cleaning.thread_memory())

    numbering, counting = WordNumbering(), TermCounting(settings or Features(), forms=cleaning.forms)
    for tokens in map_threads(cut, in_blocks(documents), threads):
        counting.add(numbering(tokens))
    return counting.counts(at_least)


class TermCounting:
    """Collects the tokens of consecutive blocks of documents, and counts their terms in the end.

    The blocks are cut with one memory of words, so that a number means the same word in all of them. forms: of words after the
    steps that are still to be done; worked out in the end, once for each distinct word."""

    def __init__(self, settings: Features, suffix: str = "", forms: FinalForms | None = None) -> None:
        self.settings = settings
        self.suffix = suffix
        self.forms = forms
        self.words: list[str] = []
        self.codes: list[Codes] = [np.zeros(0, dtype=np.int32)]
        self.lengths: list[Ints] = [np.zeros(0, dtype=np.int64)]
        self.sentences: list[Ints] = [np.zeros(0, dtype=np.int64)]

    def add(self, tokens: Tokens) -> None:
        """The next block."""
        if self.words is not tokens.words and len(self.codes) > 1:
            raise ValueError("Blocks to be counted together need one memory of words.")
        self.words = tokens.words
        self.codes.append(tokens.codes)
        self.lengths.append(np.diff(tokens.starts))
        if self.settings.within_sentences:
            self.sentences.append(tokens.sentences)

    def tokens(self) -> Tokens:
        """All blocks as if they had been one."""
        starts = np.concatenate((np.zeros(1, dtype=np.int64), np.cumsum(np.concatenate(self.lengths))))
        self.codes, self.sentences = [np.concatenate(self.codes)], [np.concatenate(self.sentences)]
        sentences = self.sentences[0] if self.settings.within_sentences else np.zeros(0, dtype=np.int64)
        tokens = Tokens(self.words, self.codes[0], starts, sentences)
        return tokens if self.forms is None else self.forms.of_tokens(tokens)

    def counts(self, at_least: int = 1) -> Counts:
        """All terms that are in at least so many documents."""
        words = self.tokens()
        units = letters_of(words) if self.settings.units == "letters" else words
        grams = grams_of(units, self.settings, at_least, self.suffix)
        names = [name for gram in grams for name in gram.names]
        matrix, terms = _in_order([gram.cells for gram in grams], names, words.starts.size - 1)
        return Counts(
            matrix=matrix,
            terms=terms,
            tokens=np.diff(words.starts),
            distinct=sum(gram.distinct for gram in grams),
            seen_once=sum(gram.seen_once for gram in grams),
            rare=union_of_keys(gram.rare for gram in grams),
        )


def joined(parts: Sequence[Counts]) -> Counts:
    """Counts of several parts of the same documents, such as a subject and a message, whose terms are all different."""
    if len(parts) == 1:
        return parts[0]
    matrix, terms = _in_order(
        [triplets_of(part.matrix) for part in parts], [term for part in parts for term in part.terms], parts[0].tokens.size
    )
    tokens: Ints = np.sum([part.tokens for part in parts], axis=0)
    return Counts(
        matrix=matrix,
        terms=terms,
        tokens=tokens,
        distinct=sum(part.distinct for part in parts),
        seen_once=sum(part.seen_once for part in parts),
        rare=union_of_keys(part.rare for part in parts),
    )


def count_known(words: Tokens, places: Places, width: int, settings: Features, suffix: str = "") -> KnownCounts:
    """Count the terms of a vocabulary in one block of documents.

    words: the cleaned tokens of the documents. places: gives the column of each of some terms, NEVER_SEEN or IGNORED for one that
    is none, and its sign. width: how many columns there are. What is known and unknown is reported of the words where single
    words are terms, else of the terms."""
    units = letters_of(words) if settings.units == "letters" else words
    if max(settings.lengths) == 1 and not settings.skip:
        return _known_units(units, places, width, suffix)
    n = words.starts.size - 1
    known, ignored, tokens = np.zeros(n), np.zeros(n), np.zeros(n)
    blocks: list[tuple[AnyArray, AnyArray, AnyArray]] = []
    for number, gram in enumerate(grams_of(units, settings, suffix=suffix)):
        where, signs = places(gram.names)
        cells = gram.cells
        columns = where[cells.columns]
        inside = columns >= 0
        if number == 0 or min(settings.lengths) > 1:
            known += np.bincount(cells.rows[inside], weights=cells.counts[inside], minlength=n)
            left_out = columns == IGNORED
            ignored += np.bincount(cells.rows[left_out], weights=cells.counts[left_out], minlength=n)
            tokens += np.bincount(cells.rows, weights=cells.counts, minlength=n)
        blocks.append(((cells.counts * signs[cells.columns])[inside], cells.rows[inside], columns[inside]))
    counts, rows, columns = (np.concatenate(arrays) for arrays in zip(*blocks, strict=True))
    matrix = from_cells(counts.astype(np.int32), rows, columns, shape=(n, width))
    matrix.eliminate_zeros()
    return KnownCounts(matrix, *(np.rint(words).astype(np.int64) for words in (tokens, known, ignored)))


def _known_units(units: Tokens, places: Places, width: int, suffix: str) -> KnownCounts:
    """The same where terms are single units: each is replaced by its column before anything is counted."""

    def before(flags: Bools) -> Ints:
        return np.concatenate((np.zeros(1, dtype=np.int64), np.cumsum(flags)))

    if suffix:
        units = with_present_words(units)
    where, signs = places([unit + suffix for unit in units.words] if suffix else units.words)
    columns = where[units.codes] if units.words else np.zeros(0, dtype=np.int64)
    inside = columns >= 0
    starts = before(inside)[units.starts]
    ignored = np.diff(before(columns == IGNORED)[units.starts])
    values = signs[units.codes][inside].astype(np.int32) if units.words else np.zeros(0, dtype=np.int32)
    columns_inside = columns[inside].astype(np.int32)
    matrix = csr_array((values, columns_inside, starts.astype(np.int32)), shape=(starts.size - 1, width))
    matrix.sum_duplicates()
    matrix.eliminate_zeros()
    return KnownCounts(matrix, np.diff(units.starts), np.diff(starts), ignored)


def _in_order(parts: Sequence[Triplets], names: list[str], documents: int) -> tuple[csr_array, list[str]]:
    """Triplets of consecutive columns as one matrix, its columns in the order of their names."""
    order = sorted(range(len(names)), key=names.__getitem__)
    rank = np.empty(len(names), dtype=np.int64)
    rank[order] = np.arange(len(names))
    return from_triplets(parts, rank, documents), [names[place] for place in order]
