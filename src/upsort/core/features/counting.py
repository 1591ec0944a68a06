"""Counting terms: one pass over the text, in blocks, straight into compressed sparse rows.

A block of documents is cleaned and tokenised at once; only its distinct words meet Python strings. What is kept of a
document is the numbers of its tokens, four bytes each, until they are added up at the end.
"""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Codes, Floats, Ints
from upsort.core.features.ngrams import terms_of, units_of
from upsort.core.plan import Features
from upsort.core.text.cleaning import Cleaner
from upsort.core.text.tokeniser import Tokens

BLOCK_CHARACTERS = 8_000_000


@dataclass(frozen=True)
class Counts:
    """How often each term stands in each document; nothing is left out or weighted yet.

    matrix: (n_documents, n_terms) CSR of int32, indices sorted, no duplicates.
    terms: the distinct terms, sorted by code point; the matrix's columns.
    """

    matrix: csr_array
    terms: list[str]

    def tokens_per_document(self) -> Ints:
        """(n_documents,) how many tokens each document has."""
        return np.asarray(self.matrix.sum(axis=1), dtype=np.int64).reshape(-1)


@dataclass(frozen=True)
class KnownCounts:
    """Counts of the terms of a fixed vocabulary.

    matrix: (n_documents, len(vocabulary)) CSR of int32.
    tokens: (n_documents,) int64, all tokens of each document, known or not. known: (n_documents,) int64, the known ones.
    """

    matrix: csr_array
    tokens: Ints
    known: Ints

    def unknown_share(self) -> Floats:
        """(n_documents,) the share of each document's tokens outside the vocabulary; NaN without tokens."""
        with np.errstate(invalid="ignore"):
            share: Floats = 1.0 - self.known / self.tokens
        return share


def in_blocks(documents: Iterable[str], characters: int = BLOCK_CHARACTERS) -> Iterator[list[str]]:
    """Documents in lists of about so many characters."""
    block: list[str] = []
    held = 0
    for document in documents:
        block.append(document)
        held += len(document) + 1
        if held >= characters:
            yield block
            block, held = [], 0
    if block:
        yield block


def count(documents: Iterable[str], cleaning: Cleaner, settings: Features | None = None) -> Counts:
    """Count every term of every document.

    documents: any number of texts, read once. settings: which n-grams are terms; single words without.
    """
    settings = settings or Features()
    return counts_of(terms_of(units_of(block, cleaning, settings), settings) for block in in_blocks(documents))


def counts_of(blocks: Iterable[Tokens]) -> Counts:
    """Add up the tokens of consecutive blocks of documents. The result does not depend on how they were divided."""
    numbers: dict[str, int] = {}
    codes: list[Codes] = [np.zeros(0, dtype=np.int32)]
    lengths: list[Ints] = [np.zeros(0, dtype=np.int64)]
    for tokens in blocks:
        block_numbers = np.array([numbers.setdefault(word, len(numbers)) for word in tokens.words], dtype=np.int32)
        codes.append(block_numbers[tokens.codes] if tokens.words else tokens.codes)
        lengths.append(np.diff(tokens.starts))
    terms = sorted(numbers)
    rank = np.empty(len(terms), dtype=np.int32)
    rank[[numbers[term] for term in terms]] = np.arange(len(terms), dtype=np.int32)
    columns = rank[np.concatenate(codes)]
    return Counts(_summed(columns, np.concatenate(lengths), len(terms)), terms)


def count_known(
    documents: Sequence[str], cleaning: Cleaner, vocabulary: dict[str, int], settings: Features
) -> KnownCounts:
    """Count the terms of `vocabulary` (term to column) in one block of documents.

    What is known and unknown is told of the words where single words are terms, else of the terms.
    """
    units = units_of(documents, cleaning, settings)
    terms = terms_of(units, settings)
    told = units if min(settings.lengths) == 1 else terms
    columns = np.array([vocabulary.get(word, -1) for word in terms.words], dtype=np.int32)
    columns = columns[terms.codes] if terms.words else terms.codes
    known = columns >= 0
    known_before = np.concatenate((np.zeros(1, dtype=np.int64), np.cumsum(known)))
    matrix = _summed(columns[known], np.diff(known_before[terms.starts]), len(vocabulary))
    familiar = np.array([word in vocabulary for word in told.words], dtype=np.int64)
    running = (
        np.concatenate((np.zeros(1, dtype=np.int64), np.cumsum(familiar[told.codes]))) if told.words else np.zeros(1)
    )
    known_tokens = (running[told.starts[1:]] - running[told.starts[:-1]]).astype(np.int64)
    return KnownCounts(matrix, np.diff(told.starts), known_tokens)


def _summed(columns: Codes, lengths: Ints, width: int) -> csr_array:
    """The CSR matrix of how often each column number stands in each document's stretch of `columns`."""
    starts = np.zeros(lengths.size + 1, dtype=np.int64)
    np.cumsum(lengths, out=starts[1:])
    if starts[-1] < np.iinfo(np.int32).max:
        starts = starts.astype(np.int32)
    matrix = csr_array((np.ones(columns.size, dtype=np.int32), columns, starts), shape=(lengths.size, width))
    matrix.sum_duplicates()
    return matrix
