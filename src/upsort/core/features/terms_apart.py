"""Terms of documents that are counted in blocks, each by itself: which of them the corpus has, and the counts in its columns.

The counts of a block stay where they were made. What goes round is how often each term stands in it; the vocabularies of blocks
are merged, two rounds are all: which terms there are, then each block in their columns.
"""

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Ints
from upsort.core.features.counting import Counts
from upsort.core.plan import Features
from upsort.core.records import record
from upsort.core.sparse import column_sizes, column_sums, one_below_the_other


@record(frozen=True)
class Vocabulary:
    """Terms, sorted; in how many documents each stands, and how often in all of them."""

    terms: list[str]
    frequency: Ints
    totals: Ints


@record(frozen=True, kw_only=True)
class Chosen:
    """terms: in enough documents, sorted. distinct, seen_once: of all terms, as `Counts` has them."""

    terms: list[str]
    distinct: int
    seen_once: int


def vocabulary_of(blocks: Sequence[Counts]) -> Vocabulary:
    """The terms of some blocks."""
    return of_all(
        *(
            Vocabulary(block.terms, column_sizes(block.matrix), np.rint(column_sums(block.matrix)).astype(np.int64))
            for block in blocks
        )
    )


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
    """What blocks are to count, so that `chosen` can tell what the whole has: single units too, where longer terms hang on in how
    many documents those stand."""
    if at_least > 1 and max(settings.lengths) > 1:
        return replace(settings, lengths=(1, max(settings.lengths)))
    return settings


def chosen(all_terms: Vocabulary, settings: Features, at_least: int, prefixes: Sequence[str]) -> Chosen:
    """The terms in enough documents. A longer one is looked at only if its beginning and its last unit are in enough, as where
    all documents are counted at once."""
    longest, shortest = max(settings.lengths), min(settings.lengths)
    if at_least == 1 or longest == 1:
        once = int((all_terms.totals == 1).sum())
        kept = np.flatnonzero(all_terms.frequency >= at_least).tolist()
        return Chosen(terms=[all_terms.terms[n] for n in kept], distinct=len(all_terms.terms), seen_once=once)
    letters = settings.units == "letters"
    by_length: dict[int, list[tuple[int, str, str]]] = {length: [] for length in range(1, longest + 1)}
    for number, term in enumerate(all_terms.terms):
        prefix = next(begin for begin in prefixes if term.startswith(begin))
        units = len(term) - len(prefix) if letters else term.count(" ", len(prefix)) + 1
        beginning, last = ("", term)
        if units > 1:
            cut = len(term) - 1 if letters else term.rindex(" ")
            beginning, last = term[:cut], prefix + term[cut if letters else cut + 1 :]
        by_length[units].append((number, beginning, last))
    singles: set[str] = set()
    before: set[str] = set()
    terms: list[str] = []
    distinct = seen_once = 0
    for length in range(1, longest + 1):
        looked_at = [
            number
            for number, beginning, last in by_length[length]
            if length == 1 or (beginning in before and last in singles)
        ]
        enough = {all_terms.terms[number] for number in looked_at if all_terms.frequency[number] >= at_least}
        if length == 1:
            singles = enough
        if length >= shortest:
            distinct += len(looked_at)
            seen_once += sum(all_terms.totals[number] == 1 for number in looked_at)
            terms += enough
        before = enough
    return Chosen(terms=sorted(terms), distinct=distinct, seen_once=int(seen_once))


def in_terms(blocks: Sequence[Counts], terms: Sequence[str]) -> csr_array:
    """(n, len(terms)) the counts of blocks, one below the other, in the columns of terms, which are sorted as their own are."""
    place = {term: number for number, term in enumerate(terms)}
    return one_below_the_other([_in_columns(block, place) for block in blocks])


def _in_columns(block: Counts, place: Mapping[str, int]) -> csr_array:
    where = np.array([place.get(term, -1) for term in block.terms], dtype=np.int64)
    counts = block.matrix
    columns = where[counts.indices] if where.size else np.zeros(0, dtype=np.int64)
    inside = columns >= 0
    ends = np.concatenate((np.zeros(1, dtype=np.int64), np.cumsum(inside)))[counts.indptr]
    kind = counts.indices.dtype
    made = csr_array(
        (counts.data[inside], columns[inside].astype(kind), ends.astype(kind)), shape=(counts.shape[0], len(place))
    )
    made.has_sorted_indices = True
    made.has_canonical_format = True
    return made
