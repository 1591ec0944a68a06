"""Hashed features, for vocabularies that never end (Weinberger, Dasgupta, Langford, Smola & Attenberg 2009).

A term's column is the lowest `bits` bits of its 64-bit xxHash (XXH64, seed 0, of its UTF-8 bytes), and its sign the highest
bit, so that terms that share a column cancel as often as they add. No vocabulary is kept; names are, for reading, in a table
of bounded size.
"""

from collections.abc import Sequence
from dataclasses import field

import numpy as np
import xxhash
from scipy.sparse import csr_array

from upsort.core.arrays import AnyArray, Compacted, Ints, compacted, expanded_text
from upsort.core.features.counting import Counts
from upsort.core.features.ngrams import grams_of, letters_of
from upsort.core.lazy import record
from upsort.core.matrices.sparse import column_sizes, empty, from_cells, narrow, stacked
from upsort.core.plan import Features
from upsort.core.text.final_forms import FinalForms
from upsort.core.text.tokeniser import Tokens

MOST_NAMES = 200_000
_NAMES_A_COLUMN = 3


def hashed_places(terms: Sequence[str], bits: int) -> tuple[Ints, Ints]:
    """(n,) the column and (n,) the sign of each term."""
    digests = np.array(
        [xxhash.xxh64_intdigest(term.encode("utf-8", "surrogatepass")) for term in terms], dtype=np.uint64
    )
    columns = (digests & np.uint64((1 << bits) - 1)).astype(np.int64)
    signs = 1 - 2 * (digests >> np.uint64(63)).astype(np.int64)
    return columns, signs


@record
class TermNames:
    """Which terms were met, with the documents that held them; of more than `most` terms the rarest half is forgotten."""

    most: int = MOST_NAMES
    documents: dict[str, int] = field(default_factory=dict)

    def add(self, names: Sequence[str], documents: Ints) -> None:
        """Note terms with the number of documents in which a block has them."""
        label_documents = self.documents
        for name, number in zip(names, documents.tolist(), strict=True):
            label_documents[name] = label_documents.get(name, 0) + number
        if len(label_documents) > self.most:
            ranked = sorted(label_documents.items(), key=lambda entry: (-entry[1], entry[0]))
            self.documents = dict(ranked[: self.most // 2])

    def names_of(self, columns: Ints, bits: int) -> list[str]:
        """A name for each column: its commonest terms, or its number where none is known."""
        ranked = [name for name, _ in sorted(self.documents.items(), key=lambda entry: (-entry[1], entry[0]))]
        names: dict[int, list[str]] = {}
        for name, column in zip(ranked, hashed_places(ranked, bits)[0].tolist(), strict=True):
            names.setdefault(column, []).append(name)
        return [
            " | ".join(names[column][:_NAMES_A_COLUMN]) if column in names else f"#{column}"
            for column in columns.tolist()
        ]


@record
class RecordedNames:
    """What a `NameTable` is told, in order, for one that is elsewhere."""

    messages: list[tuple[Compacted, Ints]] = field(default_factory=list)

    def add(self, names: Sequence[str], documents: Ints) -> None:
        """As `NameTable.add`."""
        self.messages.append((compacted(names), narrow(documents)))

    def record_names(self, table: TermNames) -> None:
        """Pass it on."""
        for names, documents in self.messages:
            table.add(expanded_text(names), documents)


class HashedCounting:
    """Counts the hashed terms of blocks of documents as they come; nothing grows with the vocabulary."""

    def __init__(
        self,
        settings: Features,
        prefix: str = "",
        forms: FinalForms | None = None,
        table: TermNames | RecordedNames | None = None,
    ) -> None:
        self.settings = settings
        self.prefix = prefix
        self.forms = forms
        self.table = table if table is not None else TermNames()
        self.pieces: list[csr_array] = [empty(0, 1 << settings.hash_bits, np.int32)]
        self.tokens: list[Ints] = [np.zeros(0, dtype=np.int64)]

    def add(self, tokens: Tokens) -> None:
        """The next block."""
        if self.forms is not None:
            tokens = self.forms.of_tokens(tokens)
        units = letters_of(tokens) if self.settings.units == "letters" else tokens
        cells: list[tuple[AnyArray, AnyArray, AnyArray]] = []
        for gram in grams_of(units, self.settings, prefix=self.prefix):
            where, signs = hashed_places(gram.names, self.settings.hash_bits)
            columns = gram.cells.columns
            self.table.add(gram.names, np.bincount(columns, minlength=len(gram.names)))
            cells.append((gram.cells.counts * signs[columns], gram.cells.rows, where[columns]))
        counts, rows, columns = (np.concatenate(arrays) for arrays in zip(*cells, strict=True))
        shape = (tokens.starts.size - 1, 1 << self.settings.hash_bits)
        self.pieces.append(from_cells(counts.astype(np.int32), rows, columns, shape))
        self.tokens.append(np.diff(tokens.starts))

    def counts(self, at_least: int) -> Counts:
        """The counts of all 2^bits columns; they have no names yet."""
        matrix = stacked(self.pieces)
        return Counts(matrix=matrix, terms=[], tokens=np.concatenate(self.tokens), distinct=0, seen_once=0)

    @staticmethod
    def combined(parts: "Sequence[HashedCounting]") -> tuple[Counts, Ints]:
        """The counts of all parts of the documents, whose columns are those that occur; they have no names yet.

        Values may be negative. Also (n_terms,) the number of each column below 2^bits, ascending.
        """
        counted = [part.counts(1) for part in parts]
        matrix = csr_array(sum((counts.matrix for counts in counted[1:]), counted[0].matrix))
        matrix.eliminate_zeros()
        matrix.sort_indices()
        present = np.flatnonzero(column_sizes(matrix)).astype(np.int64)
        squeezed = csr_array(
            (matrix.data, np.searchsorted(present, matrix.indices).astype(np.int32), matrix.indptr),
            shape=(matrix.shape[0], present.size),
        )
        tokens = np.sum([counts.tokens for counts in counted], axis=0)
        return Counts(matrix=squeezed, terms=[], tokens=tokens, distinct=present.size, seen_once=0), present


def names_of_columns(tables: Sequence[TermNames], columns: Ints, bits: int) -> list[str]:
    """For reading, see `NameTable.names_of`. tables: of each part of the text."""
    whole = TermNames()
    for table in tables:
        whole.add(list(table.documents), np.array(list(table.documents.values()), dtype=np.int64))
    return whole.names_of(columns, bits)


def estimated_terms(occupied: int, bits: int) -> float:
    """How many terms there are, from how many of the 2^bits columns they occupy (linear counting; Whang et al. 1990)."""
    columns = float(1 << bits)
    return float(-columns * np.log1p(-min(occupied, columns - 1) / columns))


def sharing(terms: float, bits: int) -> float:
    """The expected share of terms that share their column with another: 1 − (1 − 2^−bits)^(terms − 1)."""
    return float(-np.expm1((max(terms, 1.0) - 1.0) * np.log1p(-(0.5**bits))))
