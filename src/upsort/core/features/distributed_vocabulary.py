"""Vocabularies of documents that are counted in parts, each by itself, and hashed features (Weinberger, Dasgupta, Langford, Smola
& Attenberg 2009)."""

from collections.abc import Callable, Sequence
from collections.abc import Set as AbstractSet
from dataclasses import field, replace
from typing import Any

import numpy as np
import xxhash
from scipy.sparse import csr_array

from upsort.core.arrays import AnyArray, Ints, WordKeys, compact, union_of_keys, word_keys
from upsort.core.features.counting import Counts
from upsort.core.features.ngrams import grams_of, letters_of
from upsort.core.lazy import record
from upsort.core.matrices.sparse import column_sizes, column_sums, empty, from_cells, narrow, stacked
from upsort.core.plan import Features
from upsort.core.text.final_forms import FinalForms
from upsort.core.text.tokeniser import Tokens

MOST_NAMES = 200_000
_NAMES_A_COLUMN = 3


def hashed_places(terms: Sequence[str], bits: int) -> tuple[Ints, Ints]:
    """(n,) the column and (n,) the sign of each term.

    A term's column is the lowest `bits` bits of its 64-bit xxHash (XXH64, seed 0, of its UTF-8 bytes), and its sign the highest
    bit, so that terms that share a column cancel as often as they add. No vocabulary is kept; names are, for reading, in a table
    of bounded size."""
    digests = np.array([xxhash.xxh64_intdigest(term.encode("utf-8", "surrogatepass")) for term in terms], dtype=np.uint64)
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
        """A name for each column: its most common terms, or its number where none is known."""
        ranked = [name for name, _ in sorted(self.documents.items(), key=lambda entry: (-entry[1], entry[0]))]
        names: dict[int, list[str]] = {}
        for name, column in zip(ranked, hashed_places(ranked, bits)[0].tolist(), strict=True):
            names.setdefault(column, []).append(name)
        return [" | ".join(names[column][:_NAMES_A_COLUMN]) if column in names else f"#{column}" for column in columns.tolist()]


@record
class RecordedNames:
    """What a `TermNames` is reported, in order, for one that is elsewhere."""

    messages: list[tuple[Sequence[str], Ints]] = field(default_factory=list)

    def add(self, names: Sequence[str], documents: Ints) -> None:
        """As `TermNames.add`."""
        self.messages.append((compact(names), narrow(documents)))

    def record_names(self, table: TermNames) -> None:
        """Pass it on."""
        for names, documents in self.messages:
            table.add(names, documents)


class HashedCounting:
    """Counts the hashed terms of blocks of documents as they come; nothing grows with the vocabulary."""

    def __init__(
        self,
        settings: Features,
        suffix: str = "",
        forms: FinalForms | None = None,
        table: TermNames | RecordedNames | None = None,
    ) -> None:
        self.settings = settings
        self.suffix = suffix
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
        for gram in grams_of(units, self.settings, suffix=self.suffix):
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

        Values may be negative. Also (n_terms,) the number of each column below 2^bits, ascending."""
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
    """For reading, see `TermNames.names_of`. tables: of each part of the text."""
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


Ask = Callable[..., list[Any]]
"""Gives what a piece of work makes of the vocabulary of each stretch and of what else it is given."""


@record(frozen=True)
class Vocabulary:
    """Terms, sorted; in how many documents each stands, and how often in all of them."""

    terms: list[str]
    frequency: Ints
    totals: Ints


@record(frozen=True, kw_only=True)
class ChosenTerms:
    """terms: in enough documents, sorted. distinct, seen_once, rare: of all terms, as `Counts` has them."""

    terms: list[str]
    distinct: int
    seen_once: int
    rare: WordKeys = field(default_factory=lambda: word_keys(()))


def vocabulary_of(counts: csr_array, terms: list[str]) -> Vocabulary:
    """The terms of some documents. counts: (n, len(terms))."""
    return Vocabulary(terms, column_sizes(counts), np.rint(column_sums(counts)).astype(np.int64))


def partitioned(vocabulary: Vocabulary, partitions: int) -> list[Vocabulary]:
    """So many stretches of it, by the hashes of the terms."""
    if partitions == 1:
        return [vocabulary]
    partition = np.array([_partition_of(term, partitions) for term in vocabulary.terms], dtype=np.int64)
    each = [np.flatnonzero(partition == number) for number in range(partitions)]
    return [
        Vocabulary([vocabulary.terms[place] for place in at.tolist()], vocabulary.frequency[at], vocabulary.totals[at])
        for at in each
    ]


def _partition_of(term: str, partitions: int) -> int:
    return xxhash.xxh3_64_intdigest(term.encode("utf-8", "surrogatepass")) % partitions


def of_all(*parts: Vocabulary) -> Vocabulary:
    """The terms of all of them."""
    if len(parts) == 1:
        return parts[0]
    terms = sorted({term for part in parts for term in part.terms})
    place = {term: number for number, term in enumerate(terms)}
    frequency, totals = np.zeros(len(terms), dtype=np.int64), np.zeros(len(terms), dtype=np.int64)
    for part in parts:
        where = np.array([place[term] for term in part.terms], dtype=np.int64)
        frequency[where] += part.frequency
        totals[where] += part.totals
    return Vocabulary(terms, frequency, totals)


def countable(settings: Features, at_least: int) -> Features:
    """What parts are to count, so that `chosen` knows what the whole has: single units too, where longer terms depend on in how
    many documents those stand."""
    if at_least > 1 and max(settings.lengths) > 1:
        return replace(settings, lengths=(1, max(settings.lengths)))
    return settings


def chosen(ask: Ask, settings: Features, at_least: int, suffixes: Sequence[str]) -> ChosenTerms:
    """The terms in enough documents. A longer one is looked at only if its beginning and its last unit are in enough, as where
    all documents are counted at once; so that each length takes an asking.

    The counts of a part stay where they were made. What goes round is how often each term is in it. The terms are dealt to
    stretches by their hashes, so that nobody needs all of them; those of each stretch are merged, and what comes here are the
    terms in enough documents. Two rounds are all: which terms there are, then each part in their columns."""
    longest, shortest = max(settings.lengths), min(settings.lengths)
    if at_least == 1 or longest == 1:
        return _combined(ask(_enough, at_least))
    request = _TermRequest(letters=settings.units == "letters", at_least=at_least, suffixes=tuple(suffixes))
    chosen_terms = []
    singles: AbstractSet[str] = frozenset()
    before: AbstractSet[str] = frozenset()
    for length in range(1, longest + 1):
        chosen_terms.append(_combined(ask(_enough_so_long, request, length, before, singles)))
        before = frozenset(chosen_terms[-1].terms)
        singles = singles or before
    return _combined(chosen_terms[shortest - 1 :])


@record(frozen=True, kw_only=True)
class _TermRequest:
    """Which terms are. letters: whether letters are units."""

    letters: bool
    at_least: int
    suffixes: tuple[str, ...]

    def suffix_of(self, term: str) -> str:
        """What comes after its last unit."""
        return max((suffix for suffix in self.suffixes if term.endswith(suffix)), key=len)

    def units(self, term: str) -> int:
        """How many it has."""
        end = len(term) - len(self.suffix_of(term))
        return end if self.letters else term.count(" ", 0, end) + 1

    def halves(self, term: str) -> tuple[str, str]:
        """All but the last unit of a longer term, and that as a term."""
        suffix = self.suffix_of(term)
        end = len(term) - len(suffix)
        cut = end - 1 if self.letters else term.rindex(" ", 0, end)
        return term[:cut] + suffix, term[cut if self.letters else cut + 1 :]


def _enough(vocabulary: Vocabulary, at_least: int) -> ChosenTerms:
    return _of_places(vocabulary, np.arange(len(vocabulary.terms)), at_least)


def _enough_so_long(
    vocabulary: Vocabulary, request: _TermRequest, length: int, before: AbstractSet[str], singles: AbstractSet[str]
) -> ChosenTerms:
    """Those of a number of units. before: the terms of one less in enough documents; singles: the single units."""

    def is_candidate(term: str) -> bool:
        if request.units(term) != length:
            return False
        if length == 1:
            return True
        beginning, last = request.halves(term)
        return beginning in before and last in singles

    places = np.array([place for place, term in enumerate(vocabulary.terms) if is_candidate(term)], dtype=np.int64)
    chosen_of_length = _of_places(vocabulary, places, request.at_least)
    return chosen_of_length if length == 1 else replace(chosen_of_length, rare=word_keys(()))


def _of_places(vocabulary: Vocabulary, places: Ints, at_least: int) -> ChosenTerms:
    enough = vocabulary.frequency[places] >= at_least
    return ChosenTerms(
        terms=[vocabulary.terms[place] for place in places[enough].tolist()],
        distinct=places.size,
        seen_once=int((vocabulary.totals[places] == 1).sum()),
        rare=word_keys(vocabulary.terms[place] for place in places[~enough].tolist()),
    )


def _combined(parts: Sequence[ChosenTerms]) -> ChosenTerms:
    return ChosenTerms(
        terms=sorted(term for part in parts for term in part.terms),
        distinct=sum(part.distinct for part in parts),
        seen_once=sum(part.seen_once for part in parts),
        rare=union_of_keys(part.rare for part in parts),
    )


def in_terms(counts: csr_array, own: Sequence[str], terms: Sequence[str]) -> csr_array:
    """(n, len(terms)) counts in the columns of other terms. own: those that they are of; both are sorted."""
    place = {term: number for number, term in enumerate(terms)}
    return in_columns(counts, np.array([place.get(term, -1) for term in own], dtype=np.int64), len(terms))


def in_columns(counts: csr_array, where: Ints, width: int) -> csr_array:
    """(n, width) the same values in other columns, of the same order. where: of each column, −1 for none."""
    columns = where[counts.indices] if where.size else np.zeros(0, dtype=np.int64)
    inside = columns >= 0
    ends = np.concatenate((np.zeros(1, dtype=np.int64), np.cumsum(inside)))[counts.indptr]
    kind = counts.indices.dtype
    made = csr_array((counts.data[inside], columns[inside].astype(kind), ends.astype(kind)), shape=(counts.shape[0], width))
    made.has_sorted_indices = True
    made.has_canonical_format = True
    return made
