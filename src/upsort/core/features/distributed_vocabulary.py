"""Terms of documents that are counted in parts, each by itself: which of them the corpus has, and the counts in its columns.

The counts of a part stay where they were made. What goes round is how often each term stands in it. The terms are dealt to
stretches by their hashes, so that nobody needs all of them; those of each stretch are merged, and what comes here are the terms
in enough documents. Two rounds are all: which terms there are, then each part in their columns.
"""

from collections.abc import Callable, Sequence
from collections.abc import Set as AbstractSet
from dataclasses import replace
from typing import Any

import numpy as np
import xxhash
from scipy.sparse import csr_array

from upsort.core.arrays import Ints
from upsort.core.lazy import record
from upsort.core.matrices.sparse import column_sizes, column_sums
from upsort.core.plan import Features

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
    """terms: in enough documents, sorted. distinct, seen_once: of all terms, as `Counts` has them."""

    terms: list[str]
    distinct: int
    seen_once: int


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
    """What parts are to count, so that `chosen` can tell what the whole has: single units too, where longer terms hang on in how
    many documents those stand."""
    if at_least > 1 and max(settings.lengths) > 1:
        return replace(settings, lengths=(1, max(settings.lengths)))
    return settings


def chosen(ask: Ask, settings: Features, at_least: int, prefixes: Sequence[str]) -> ChosenTerms:
    """The terms in enough documents. A longer one is looked at only if its beginning and its last unit are in enough, as where
    all documents are counted at once; so that each length takes an asking."""
    longest, shortest = max(settings.lengths), min(settings.lengths)
    if at_least == 1 or longest == 1:
        return _combined(ask(_enough, at_least))
    request = _TermRequest(letters=settings.units == "letters", at_least=at_least, prefixes=tuple(prefixes))
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
    prefixes: tuple[str, ...]

    def prefix_of(self, term: str) -> str:
        """What comes before its first unit."""
        return next(begin for begin in self.prefixes if term.startswith(begin))

    def units(self, term: str) -> int:
        """How many it has."""
        begin = len(self.prefix_of(term))
        return len(term) - begin if self.letters else term.count(" ", begin) + 1

    def halves(self, term: str) -> tuple[str, str]:
        """All but the last unit of a longer term, and that as a term."""
        cut = len(term) - 1 if self.letters else term.rindex(" ")
        return term[:cut], self.prefix_of(term) + term[cut if self.letters else cut + 1 :]


def _enough(vocabulary: Vocabulary, at_least: int) -> ChosenTerms:
    return _of_places(vocabulary, np.arange(len(vocabulary.terms)), at_least)


def _enough_so_long(
    vocabulary: Vocabulary, request: _TermRequest, length: int, before: AbstractSet[str], singles: AbstractSet[str]
) -> ChosenTerms:
    """Those of so many units. before: the terms of one less in enough documents; singles: the single units."""

    def is_candidate(term: str) -> bool:
        if request.units(term) != length:
            return False
        if length == 1:
            return True
        beginning, last = request.halves(term)
        return beginning in before and last in singles

    places = np.array([place for place, term in enumerate(vocabulary.terms) if is_candidate(term)], dtype=np.int64)
    return _of_places(vocabulary, places, request.at_least)


def _of_places(vocabulary: Vocabulary, places: Ints, at_least: int) -> ChosenTerms:
    frequent = places[vocabulary.frequency[places] >= at_least].tolist()
    once = int((vocabulary.totals[places] == 1).sum())
    return ChosenTerms(terms=[vocabulary.terms[place] for place in frequent], distinct=places.size, seen_once=once)


def _combined(parts: Sequence[ChosenTerms]) -> ChosenTerms:
    return ChosenTerms(
        terms=sorted(term for part in parts for term in part.terms),
        distinct=sum(part.distinct for part in parts),
        seen_once=sum(part.seen_once for part in parts),
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
    made = csr_array(
        (counts.data[inside], columns[inside].astype(kind), ends.astype(kind)), shape=(counts.shape[0], width)
    )
    made.has_sorted_indices = True
    made.has_canonical_format = True
    return made
