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
from upsort.core.features.hashing import TermNames, names_of_columns
from upsort.core.features.measured import CorpusCounts
from upsort.core.features.measuring import all_cells, prefixes
from upsort.core.features.terms_apart import chosen, countable, of_all
from upsort.core.judging.copies_apart import PartitionedFingerprints
from upsort.core.parted import Executor, PartitionedMatrix, tree_reduce
from upsort.core.plan import Plan
from upsort.core.records import record
from upsort.core.text.cleaning import Cleaner
from upsort.core.text.final_forms import full_forms, merged_counts
from upsort.files import remarks
from upsort.files.document_blocks import DocumentBlock
from upsort.files.documents import DocumentReader
from upsort.jobs import pieces_counted
from upsort.jobs.pieces_counted import CountedBrief, CountingTask, Keep
from upsort.jobs.reading import DocumentReading, ReadPiece, distribution_for
from upsort.jobs.work import RunContext

WORTH_IT = 24
"""Pieces of tables, of about a megabyte each, from which on the counts stay with those who read them. What is asked of parts
takes some hundredths of a second each time, whatever their size."""
PIECES_OF_A_PART = 4
"""So many are read and counted as one, so that a part is larger than sums by label, which are dense."""
PARTS_PER_PARTITION = 64
"""Of so many parts the terms are looked at by one."""


@record(frozen=True, kw_only=True)
class DistributedCounts:
    """kept: of each block. prints: of all documents, where blocks have them. full_forms: words that stems or lemmas stand for."""

    measured: CorpusCounts
    block_data: list[Any]
    fingerprints: PartitionedFingerprints | None
    full_forms: dict[str, str]


def can_distribute(work: RunContext) -> bool:
    """Whether the counts of documents may stay with those who read them, and better do: all tables are read apart, in many
    pieces, and nothing is learned of the words beyond the terms."""
    features, columns = work.plan.features, work.plan.columns
    begins = prefixes(columns, features)
    return (
        work.engine.executor is not None
        and work.sorter is None
        and not (features.vectors_file or features.skip or columns.document_vectors)
        and not any(prefix != other and other.startswith(prefix) for prefix in begins for other in begins)
        and _many(work)
    )


def _many(work: RunContext) -> bool:
    """Whether all tables can be read apart, and in enough pieces."""
    divisions = [table.division for table in work.inputs.tables]
    if not all(division is not None and distribution_for(work.engine)(division) for division in divisions):
        return False
    pieces = (chunk for division in divisions if division is not None for chunk in division.chunks())
    return sum(1 for _ in islice(pieces, WORTH_IT)) == WORTH_IT


def distributed_counts(
    work: RunContext, reader: DocumentReader, cleaning: Cleaner, at_least: int, keep: Keep
) -> DistributedCounts | None:
    """All usable documents. keep: what is kept of each block. at_least: documents that a term must stand in. None where the terms
    cannot be told apart after all, or there is no document."""
    executor, features = work.engine.executor, work.plan.features
    assert executor is not None
    reading = DocumentReading(inputs=work.inputs, reader=reader, characters=BLOCK_CHARACTERS)
    job = executor.put(
        CountingTask(
            reading=reading,
            settings=cleaning.settings,
            resources=cleaning.resources,
            columns=work.plan.columns,
            features=features if features.hash_bits else countable(features, at_least),
            keep=keep,
        )
    )
    pieces = list(_partitioned(reading.pieces(distribution_for(work.engine))))
    read = [executor.submit(pieces_counted.count_pieces, job, *some) for some in pieces]
    counts, fingerprints, words, brief_handles = (
        [executor.submit(getattr, handle, name) for handle in read]
        for name in ("measured", "fingerprints", "words", "brief")
    )
    del read
    tables = [TermNames() for _ in prefixes(work.plan.columns, features)]
    briefs = []
    for some in pieces:
        (brief,) = executor.gather([brief_handles.pop(0)])
        briefs.append(_forwarded(brief, len(some), tables, work))
    by_beginning = max(features.lengths) > 1 and features.units == "words" and at_least > 1 and not features.hash_bits
    sizes = [size for brief in briefs for size in brief.sizes]
    if not sum(sizes) or (by_beginning and any(brief.spaced for brief in briefs)):
        work.advance(-sum(sizes))  # they are counted once more
        return None
    for brief in briefs:
        remarks.merge_notices(brief.remarks)
        for refused in brief.refused:
            work.rejects.add(refused)
    filled = [place for place, brief in enumerate(briefs) if brief.sizes]
    starts = np.cumsum([0, *(briefs[place].tokens.size for place in filled)], dtype=np.int64)
    combine = _in_columns if features.hash_bits else _in_terms
    measured = combine(
        _CountedParts([counts[place] for place in filled], starts, executor), work.plan, at_least, tables
    )
    printed = [fingerprints[place] for place in filled if briefs[place].printed]
    formed = [words[place] for place in filled] if cleaning.forms is not None and cleaning.forms.counted else []
    return DistributedCounts(
        measured=replace(
            measured,
            tokens=np.concatenate([brief.tokens for brief in briefs]),
            cells=all_cells([brief.cells for brief in briefs if brief.cells is not None]),
            blocks=np.cumsum([0, *sizes], dtype=np.int64),
        ),
        block_data=[data for brief in briefs for data in brief.block_data],
        fingerprints=PartitionedFingerprints(printed, starts, executor) if printed else None,
        full_forms=full_forms(merged_counts(*executor.gather(tree_reduce(executor, formed, merged_counts))))
        if formed
        else {},
    )


def _forwarded(brief: CountedBrief, pieces: int, tables: Sequence[TermNames], work: RunContext) -> CountedBrief:
    """What is told of so many pieces, the names of hashed terms passed on."""
    for table, names in zip(tables, brief.names, strict=True):
        names.record_names(table)
    for _ in range(pieces):
        work.engine.piece_done()
    work.advance(brief.tokens.size)
    return replace(brief, names=[])


def _partitioned(pieces: Iterable[ReadPiece[DocumentBlock]]) -> Iterator[list[ReadPiece[DocumentBlock]]]:
    rest = iter(pieces)
    while some := list(islice(rest, PIECES_OF_A_PART)):
        yield some


@record(frozen=True)
class _CountedParts:
    """handles: of `Measured` with terms of its own each. starts: (parts + 1,) the first document of each, then n."""

    handles: list[Any]
    starts: Ints
    executor: Executor

    def measured(self, work: Callable[..., Any], terms: list[str], given: Any) -> CorpusCounts:
        """All of them in the columns of the corpus. work: puts each there; given: what it is told of those."""
        argument = self.executor.put(given)
        parts = [self.executor.submit(work, handle, argument) for handle in self.handles]
        return CorpusCounts(
            counts=PartitionedMatrix(parts, self.starts, len(terms), self.executor),
            terms=terms,
            tokens=np.zeros(0, dtype=np.int64),
            cells=no_cells(0),
        )


def _in_columns(parts: _CountedParts, choices: Plan, at_least: int, tables: list[TermNames]) -> CorpusCounts:
    """Hashed terms. at_least: makes no difference."""
    executor, columns_of = parts.executor, pieces_counted.columns_of
    columns = tree_reduce(executor, [executor.submit(columns_of, handle) for handle in parts.handles], columns_of)
    (present,) = executor.gather([executor.submit(columns_of, *columns)])
    names = names_of_columns(tables, present, choices.features.hash_bits)
    return replace(
        parts.measured(pieces_counted.in_all_columns, names, present), hashed=present, distinct=int(present.size)
    )


def _in_terms(parts: _CountedParts, choices: Plan, at_least: int, _: list[TermNames]) -> CorpusCounts:
    executor, many = parts.executor, -(-len(parts.handles) // PARTS_PER_PARTITION)
    partitioned = [executor.submit(pieces_counted.vocabulary_partitions, handle, many) for handle in parts.handles]
    vocabulary_parts = []
    for number in range(many):
        mine = tree_reduce(executor, [executor.submit(getitem, handle, number) for handle in partitioned], of_all)
        vocabulary_parts.append(executor.submit(of_all, *mine))
    del partitioned

    def ask(work: Callable[..., Any], *given: Any) -> list[Any]:
        handles = [executor.put(argument) for argument in given]
        return executor.gather([executor.submit(work, part, *handles) for part in vocabulary_parts])

    terms = chosen(ask, choices.features, at_least, prefixes(choices.columns, choices.features))
    return replace(
        parts.measured(pieces_counted.in_all_terms, terms.terms, terms),
        distinct=terms.distinct,
        seen_once=terms.seen_once,
        left_out=max(terms.distinct - len(terms.terms), 0),
    )
