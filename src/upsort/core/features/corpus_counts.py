"""What was counted and measured of documents once, before anything is learned; and word vectors."""

from collections.abc import Sequence
from dataclasses import field, replace

import numpy as np
from scipy.sparse import csr_array, diags_array

from upsort.core.arrays import Bools, Floats, Ints, WordKeys, word_keys
from upsort.core.errors import DataProblem
from upsort.core.features.counting import Counts, TermCounting, joined
from upsort.core.features.distributed_vocabulary import HashedCounting, RecordedNames, TermNames, names_of_columns
from upsort.core.features.documents import ExtraCells, no_cells
from upsort.core.lazy import record, sparse_linalg
from upsort.core.matrices.partitioned import PartitionedMatrix, local_matrix
from upsort.core.matrices.sparse import row_sums
from upsort.core.plan import Columns, Features
from upsort.core.text.final_forms import FinalForms
from upsort.core.text.tokeniser import Tokens, WordNumbering


@record(frozen=True)
class WordVectors:
    """Vectors of some terms. columns: (v,) int64, which terms have one, ascending. vectors: (v, d) float64.

    Word vectors: a document as the mean, or the idf-weighted mean, of the vectors of its words."""

    columns: Ints
    vectors: Floats

    def only(self, columns: Ints) -> "WordVectors":
        """The vectors of the terms `kept`, (k,) ascending, which become the columns 0 to k − 1."""
        place = np.searchsorted(columns, self.columns)
        inside = (place < columns.size) & (columns[np.minimum(place, columns.size - 1)] == self.columns)
        return WordVectors(place[inside].astype(np.int64), self.vectors[inside])

    def means(self, counts: csr_array, idf: Floats | None = None) -> Floats:
        """(n, d) the mean vector of each document's words, weighted by idf where it is given; zeros without any.

        counts: (n, n_terms) ≥ 0."""
        chosen = csr_array(counts.tocsc()[:, self.columns].tocsr().astype(np.float64))
        if idf is not None:
            chosen = csr_array(chosen @ diags_array(idf[self.columns]))
        totals = row_sums(chosen)
        sums: Floats = np.zeros((chosen.shape[0], self.vectors.shape[1]))
        sums += chosen @ self.vectors
        means: Floats = np.divide(sums, totals[:, None], out=np.zeros_like(sums), where=totals[:, None] > 0)
        return means


def vectors_of_terms(terms: Sequence[str], words: Sequence[str], vectors: Floats, suffixes: Sequence[str]) -> WordVectors:
    """The vectors of those terms that are among `words`, whatever part of the text they come from."""
    place = {word: number for number, word in enumerate(words)}
    rows = []
    for column, term in enumerate(terms):
        suffix = max((suffix for suffix in suffixes if term.endswith(suffix)), key=len, default="")
        number = place.get(term.removesuffix(suffix), -1)
        if number >= 0:
            rows.append((column, number))
    columns = np.array([column for column, _ in rows], dtype=np.int64)
    return WordVectors(columns, vectors[[number for _, number in rows]].astype(np.float64))


@record(frozen=True, kw_only=True)
class CorpusCounts:
    """n documents, n_terms terms.

    counts: (n, n_terms) CSR, raw. terms: names of its columns. tokens: (n,) words of each document. cells: columns next to the
    text. vectors: of words, where they are used. hashed: (n_terms,) the number of each column where terms are hashed. distinct,
    seen_once: of all terms of the corpus. left_out: terms that are in fewer documents than any bound allows; rare: the keys of
    the words among them. blocks: (b + 1,) the first document of each block that was read, then n; of documents in another order
    None."""

    counts: csr_array | PartitionedMatrix
    terms: list[str]
    tokens: Ints
    cells: ExtraCells
    vectors: WordVectors | None = None
    hashed: Ints | None = None
    distinct: int = 0
    seen_once: int = 0
    left_out: int = 0
    rare: WordKeys = field(default_factory=lambda: word_keys(()))
    blocks: Ints | None = None

    @property
    def documents(self) -> int:
        """Number of documents."""
        return int(self.counts.shape[0])

    @property
    def local_counts(self) -> csr_array:
        """The counts in one piece, here."""
        return local_matrix(self.counts)

    def rows(self, chosen: Bools | Ints) -> "CorpusCounts":
        """Some of the documents."""
        return replace(
            self,
            counts=self.counts[chosen],
            tokens=self.tokens[chosen],
            cells=self.cells.rows(chosen),
            blocks=_blocks_of(chosen, self.blocks) if self.blocks is not None else None,
        )


def _blocks_of(chosen: Bools | Ints, blocks: Ints) -> Ints | None:
    places = np.flatnonzero(chosen) if chosen.dtype == bool else chosen
    return np.unique(np.searchsorted(places, blocks)) if (np.diff(places) > 0).all() else None


def of_counts(counts: Counts) -> CorpusCounts:
    """Documents of which there is nothing but the counts of their terms."""
    return CorpusCounts(
        counts=counts.matrix,
        terms=counts.terms,
        tokens=counts.tokens,
        cells=no_cells(counts.matrix.shape[0]),
        distinct=counts.distinct,
        seen_once=counts.seen_once,
        left_out=counts.distinct - len(counts.terms),
        rare=counts.rare,
    )


def suffixes(columns: Columns, features: Features) -> tuple[str, ...]:
    """The suffix of the terms of each part of the text: nothing, or @ and the column's name where columns are kept apart."""
    return tuple(f"@{name}" for name in columns.text) if features.apart and len(columns.text) > 1 else ("",)


class CorpusCounter:
    """Collects blocks of documents; `measured` gives what was found, whatever the blocks were.

    forms: of the tokens after the steps on words that are still to be done. elsewhere: whether names of hashed terms are kept
    elsewhere; `tables` then have what is to be reported there."""

    def __init__(self, columns: Columns, features: Features, forms: FinalForms | None = None, elsewhere: bool = False) -> None:
        self.features = features
        ends = suffixes(columns, features)
        self.tables: list[TermNames | RecordedNames] = [RecordedNames() if elsewhere else TermNames() for _ in ends]
        self.hashed: list[HashedCounting] = []
        self.plain: list[TermCounting] = []
        if features.hash_bits:
            named = zip(ends, self.tables, strict=True)
            self.hashed = [HashedCounting(features, end, forms, table) for end, table in named]
        else:
            self.plain = [TermCounting(features, end, forms) for end in ends]
        self.cells: list[ExtraCells] = []
        self.numbering = WordNumbering()

    def add(self, cells: ExtraCells, tokens: Sequence[Tokens]) -> None:
        """A block of documents: what is next to their text, and the tokens of each of its parts."""
        for place, part in enumerate(tokens):
            if self.hashed:
                self.hashed[place].add(part)
            else:
                self.plain[place].add(self.numbering(part))
        self.cells.append(cells)

    def measured(self, at_least: int = 1) -> CorpusCounts:
        """Everything. at_least: documents in which a term must stand to be counted at all."""
        hashed = None
        if self.hashed:
            counts, hashed = HashedCounting.combined(self.hashed)
            name_tables = [table for table in self.tables if isinstance(table, TermNames)]
            counts = replace(counts, terms=names_of_columns(name_tables, hashed, self.features.hash_bits))
        else:
            counts = joined([counting.counts(at_least) for counting in self.plain])
        left_out = max(counts.distinct - len(counts.terms), 0) if hashed is None else 0
        return CorpusCounts(
            counts=counts.matrix,
            terms=counts.terms,
            tokens=counts.tokens,
            cells=all_cells(self.cells),
            vectors=None,
            hashed=hashed,
            distinct=counts.distinct,
            seen_once=counts.seen_once,
            left_out=left_out,
            rare=counts.rare,
            blocks=np.cumsum([0, *(len(cells.numbers) for cells in self.cells)], dtype=np.int64),
        )


def all_cells(blocks: Sequence[ExtraCells]) -> ExtraCells:
    """The cells of consecutive blocks of documents; category values are numbered anew over all of them."""
    first = blocks[0]
    values = [
        tuple(sorted({value for block in blocks for value in block.category_values[place]}))
        for place in range(len(first.category_names))
    ]
    codes: list[Ints] = []
    for block in blocks:
        renumbered = np.full_like(block.categories, -1)
        for place, all_values in enumerate(values):
            new = np.array([*(all_values.index(value) for value in block.category_values[place]), -1], dtype=np.int64)
            renumbered[:, place] = new[block.categories[:, place]]
        codes.append(renumbered)
    return ExtraCells(
        number_names=first.number_names,
        numbers=np.vstack([block.numbers for block in blocks]),
        category_names=first.category_names,
        categories=np.vstack(codes),
        category_values=tuple(values),
    )


def make_vectors(tokens: Tokens, dimensions: int, window: int = 5, at_least: int = 3) -> tuple[list[str], Floats]:
    """Words that stand at least so often, sorted, and their vectors, (v, dimensions) of length 1.

    tokens: of all documents. window: words to either side that count as neighbours. Raises DataProblem for too few words.

    Word vectors made from the documents at hand, by factorising the co-occurrences of their words.

    (Levy & Goldberg 2014, *Neural word embedding as implicit matrix factorization*): the positive pointwise mutual information of
    words within so many words of each other is cut to its largest singular values, and a word's vector is its row of U · √Σ,
    divided by its length."""
    totals = np.bincount(tokens.codes, minlength=len(tokens.words))
    frequent = [place for place in np.argsort(np.array(tokens.words, dtype=object)).tolist() if totals[place] >= at_least]
    if len(frequent) <= dimensions:
        raise DataProblem(
            f"Only {len(frequent)} words stand at least {at_least} times; {dimensions} dimensions need more.",
            "Ask for fewer dimensions, or give more documents.",
        )
    place = np.full(len(tokens.words), -1, dtype=np.int64)
    place[frequent] = np.arange(len(frequent))
    codes = place[tokens.codes]
    owner = np.repeat(np.arange(tokens.starts.size - 1), np.diff(tokens.starts))
    size = len(frequent)
    cooccurrence = csr_array((size, size), dtype=np.float64)
    for distance in range(1, window + 1):
        left, right = codes[:-distance], codes[distance:]
        near = (left >= 0) & (right >= 0) & (owner[:-distance] == owner[distance:])
        ones = np.full(int(near.sum()), 1.0 / distance)
        cooccurrence = csr_array(cooccurrence + csr_array((ones, (left[near], right[near])), shape=(size, size)))
    cooccurrence = csr_array(cooccurrence + cooccurrence.T)
    sums = row_sums(cooccurrence)
    rows = np.repeat(np.arange(size), np.diff(cooccurrence.indptr))
    ratio = cooccurrence.data * sums.sum() / (sums[rows] * sums[cooccurrence.indices])
    positive = csr_array((np.maximum(np.log(ratio), 0.0), cooccurrence.indices, cooccurrence.indptr), shape=(size, size))
    left_vectors, strengths, _ = sparse_linalg.svds(positive, k=dimensions, v0=np.ones(size), solver="arpack")
    order = np.argsort(-strengths, kind="stable")
    vectors = left_vectors[:, order] * np.sqrt(strengths[order])
    largest = np.abs(vectors).argmax(axis=0)
    vectors = vectors * np.sign(vectors[largest, np.arange(dimensions)])  # a singular vector's sign is free
    lengths = np.sqrt((vectors**2).sum(axis=1, keepdims=True))
    return [tokens.words[number] for number in frequent], vectors / np.maximum(lengths, 1e-12)
