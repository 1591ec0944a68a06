"""Documents counted by those who read them, whose counts stay with them: what comes here is the vocabulary, and what a corpus
keeps of each document beside its counts."""

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import replace
from itertools import islice
from operator import getitem
from typing import Any

import numpy as np

from upsort.core.arrays import Ints
from upsort.core.features.beside import no_cells
from upsort.core.features.counting import BLOCK_CHARACTERS
from upsort.core.features.hashing import NameTable, names_of_columns
from upsort.core.features.measured import Measured
from upsort.core.features.measuring import all_cells, prefixes
from upsort.core.features.terms_apart import chosen, countable, of_all
from upsort.core.judging.copies_apart import PrintsApart
from upsort.core.parted import Hands, Parted, merged
from upsort.core.plan import Plan
from upsort.core.records import record
from upsort.core.text.cleaning import Cleaner
from upsort.core.text.final_forms import counted_together, full_forms
from upsort.files import remarks
from upsort.files.document_blocks import DocumentBlock
from upsort.files.documents import Reader
from upsort.jobs import pieces_counted
from upsort.jobs.pieces_counted import Brief, Counting, Keep
from upsort.jobs.reading import Piece, Reading, apart_for
from upsort.jobs.work import Work

WORTH_IT = 24
"""Pieces of tables, of about a megabyte each, from which on the counts stay with those who read them. What is asked of parts
takes some hundredths of a second each time, whatever their size."""
PIECES_OF_A_PART = 4
"""So many are read and counted as one, so that a part is larger than sums by label, which are dense."""
PARTS_OF_A_STRETCH = 64
"""Of so many parts the terms are looked at by one."""


@record(frozen=True, kw_only=True)
class CountedApart:
    """kept: of each block. prints: of all documents, where blocks have them. full_forms: words that stems or lemmas stand for."""

    measured: Measured
    kept: list[Any]
    prints: PrintsApart | None
    full_forms: dict[str, str]


def can_be(work: Work) -> bool:
    """Whether the counts of documents may stay with those who read them, and better do: all tables are read apart, in many
    pieces, and nothing is learned of the words beyond the terms."""
    features, columns = work.plan.features, work.plan.columns
    begins = prefixes(columns, features)
    return (
        work.engine.hands is not None
        and work.sorter is None
        and not (features.vectors_file or features.skip or columns.document_vectors)
        and not any(one != other and other.startswith(one) for one in begins for other in begins)
        and _many(work)
    )


def _many(work: Work) -> bool:
    """Whether all tables can be read apart, and in enough pieces."""
    divisions = [table.division for table in work.inputs.tables]
    if not all(division is not None and apart_for(work.engine)(division) for division in divisions):
        return False
    pieces = (stretch for division in divisions if division is not None for stretch in division.stretches())
    return sum(1 for _ in islice(pieces, WORTH_IT)) == WORTH_IT


def counted_apart(work: Work, reader: Reader, cleaning: Cleaner, at_least: int, keep: Keep) -> CountedApart | None:
    """All usable documents. keep: what is kept of each block. at_least: documents that a term must stand in. None where the terms
    cannot be told apart after all, or there is no document."""
    hands, features = work.engine.hands, work.plan.features
    assert hands is not None
    reading = Reading(inputs=work.inputs, reader=reader, characters=BLOCK_CHARACTERS)
    job = hands.held(
        Counting(
            reading=reading,
            settings=cleaning.settings,
            resources=cleaning.resources,
            columns=work.plan.columns,
            features=features if features.hash_bits else countable(features, at_least),
            keep=keep,
        )
    )
    pieces = list(_in_parts(reading.pieces(apart_for(work.engine))))
    read = [hands.work(pieces_counted.counted, job, *some) for some in pieces]
    counts, prints, words, told = (
        [hands.work(getattr, one, name) for one in read] for name in ("measured", "prints", "words", "brief")
    )
    del read
    tables = [NameTable() for _ in prefixes(work.plan.columns, features)]
    briefs = []
    for some in pieces:
        (brief,) = hands.results([told.pop(0)])
        briefs.append(_passed_on(brief, len(some), tables, work))
    by_beginning = max(features.lengths) > 1 and features.units == "words" and at_least > 1 and not features.hash_bits
    sizes = [size for brief in briefs for size in brief.sizes]
    if not sum(sizes) or (by_beginning and any(one.spaced for one in briefs)):
        work.advance(-sum(sizes))  # they are counted once more
        return None
    for brief in briefs:
        remarks.given(brief.remarks)
        for refused in brief.refused:
            work.aside.add(refused)
    filled = [place for place, brief in enumerate(briefs) if brief.sizes]
    starts = np.cumsum([0, *(briefs[place].tokens.size for place in filled)], dtype=np.int64)
    together = _in_columns if features.hash_bits else _in_terms
    measured = together(_Parts([counts[place] for place in filled], starts, hands), work.plan, at_least, tables)
    printed = [prints[place] for place in filled if briefs[place].printed]
    formed = [words[place] for place in filled] if cleaning.forms is not None and cleaning.forms.counted else []
    return CountedApart(
        measured=replace(
            measured,
            tokens=np.concatenate([brief.tokens for brief in briefs]),
            cells=all_cells([brief.cells for brief in briefs if brief.cells is not None]),
            blocks=np.cumsum([0, *sizes], dtype=np.int64),
        ),
        kept=[one for brief in briefs for one in brief.kept],
        prints=PrintsApart(printed, starts, hands) if printed else None,
        full_forms=full_forms(counted_together(*hands.results(merged(hands, formed, counted_together))))
        if formed
        else {},
    )


def _passed_on(brief: Brief, pieces: int, tables: Sequence[NameTable], work: Work) -> Brief:
    """What is told of so many pieces, the names of hashed terms passed on."""
    for table, names in zip(tables, brief.names, strict=True):
        names.tell(table)
    for _ in range(pieces):
        work.engine.piece_done()
    work.advance(brief.tokens.size)
    return replace(brief, names=[])


def _in_parts(pieces: Iterable[Piece[DocumentBlock]]) -> Iterator[list[Piece[DocumentBlock]]]:
    rest = iter(pieces)
    while some := list(islice(rest, PIECES_OF_A_PART)):
        yield some


@record(frozen=True)
class _Parts:
    """handles: of `Measured` with terms of its own each. starts: (parts + 1,) the first document of each, then n."""

    handles: list[Any]
    starts: Ints
    hands: Hands

    def measured(self, work: Callable[..., Any], terms: list[str], given: Any) -> Measured:
        """All of them in the columns of the corpus. work: puts each there; given: what it is told of those."""
        held = self.hands.held(given)
        parts = [self.hands.work(work, one, held) for one in self.handles]
        return Measured(
            counts=Parted(parts, self.starts, len(terms), self.hands),
            terms=terms,
            tokens=np.zeros(0, dtype=np.int64),
            cells=no_cells(0),
        )


def _in_columns(parts: _Parts, choices: Plan, at_least: int, tables: list[NameTable]) -> Measured:
    """Hashed terms. at_least: makes no difference."""
    hands, columns_of = parts.hands, pieces_counted.columns_of
    columns = merged(hands, [hands.work(columns_of, one) for one in parts.handles], columns_of)
    (present,) = hands.results([hands.work(columns_of, *columns)])
    names = names_of_columns(tables, present, choices.features.hash_bits)
    return replace(
        parts.measured(pieces_counted.in_all_columns, names, present), hashed=present, distinct=int(present.size)
    )


def _in_terms(parts: _Parts, choices: Plan, at_least: int, _: list[NameTable]) -> Measured:
    hands, many = parts.hands, -(-len(parts.handles) // PARTS_OF_A_STRETCH)
    dealt = [hands.work(pieces_counted.stretches_of, one, many) for one in parts.handles]
    stretches = []
    for number in range(many):
        mine = merged(hands, [hands.work(getitem, one, number) for one in dealt], of_all)
        stretches.append(hands.work(of_all, *mine))
    del dealt

    def ask(work: Callable[..., Any], *given: Any) -> list[Any]:
        held = [hands.held(one) for one in given]
        return hands.results([hands.work(work, one, *held) for one in stretches])

    found = chosen(ask, choices.features, at_least, prefixes(choices.columns, choices.features))
    return replace(
        parts.measured(pieces_counted.in_all_terms, found.terms, found),
        distinct=found.distinct,
        seen_once=found.seen_once,
        left_out=max(found.distinct - len(found.terms), 0),
    )
