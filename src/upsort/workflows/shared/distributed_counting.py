"""Workers read, count and keep their partitions; only the vocabulary and small arrays per document return."""

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import replace
from itertools import islice
from operator import getitem
from typing import Any

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Ints, concatenated, distinct_sorted
from upsort.core.evaluation.distributed_duplicates import PartitionedFingerprints
from upsort.core.features import distributed_vocabulary
from upsort.core.features.corpus_counts import CorpusCounter, CorpusCounts, all_cells, suffixes
from upsort.core.features.counting import BLOCK_CHARACTERS
from upsort.core.features.documents import ExtraCells, no_cells
from upsort.core.features.fingerprints import Fingerprints
from upsort.core.features.fingerprints import joined as join_fingerprints
from upsort.core.lazy import record
from upsort.core.matrices.partitioned import Executor, PartitionedMatrix, tree_reduce
from upsort.core.plan import Clean, Columns, Features, Plan
from upsort.core.text.cleaning import Cleaner, cleaner
from upsort.core.text.final_forms import CountedWords, FinalForms, merged_counts, words_by_form
from upsort.core.text.step import Resources
from upsort.io.notices import drain_notices, merge_notices
from upsort.io.tables.document_blocks import DocumentBlock
from upsort.io.tables.documents import DocumentReader
from upsort.io.tables.rows import RejectedRow
from upsort.workflows.shared.context import Distribution, DocumentReading, ReadPiece, RunContext


@record(frozen=True)
class StoredApart:
    """What of a block stays where it is read, beside its counts: prints of its texts, and what its documents are called."""

    fingerprints: Fingerprints | None = None
    ids: Sequence[str] = ()


Keep = Callable[[DocumentBlock], tuple[Any, StoredApart]]
"""What comes here of a block, and what stays."""


@record(frozen=True, kw_only=True)
class CountingTask:
    """The settings for reading and counting. settings, resources: of a cleaner, which is made where it is used."""

    reading: DocumentReading
    settings: Clean
    resources: Resources
    columns: Columns
    features: Features
    keep: Keep


@record(frozen=True, kw_only=True)
class CountedBrief:
    """The report on some pieces. sizes: documents of each block. tokens: (n,) words of each document. block_data: of each block.
    spaced: whether a word holds a space, so that longer terms cannot be distinguished by theirs. names: of hashed terms, for each
    part of the text."""

    sizes: list[int]
    tokens: Ints
    cells: ExtraCells | None
    block_data: list[Any]
    printed: bool
    spaced: bool
    names: list[distributed_vocabulary.RecordedNames]
    refused: list[RejectedRow]
    notice_counts: dict[str, int]


@record(frozen=True, kw_only=True)
class CountedPieces:
    """Pieces that were read and counted."""

    brief: CountedBrief
    measured: CorpusCounts | None
    fingerprints: Fingerprints | None
    ids: Sequence[str]
    words: CountedWords | None


def count_pieces(job: CountingTask, *pieces: ReadPiece[DocumentBlock]) -> CountedPieces:
    """Read and count consecutive pieces."""
    before = drain_notices()
    cleaning = cleaner(job.settings, job.resources, job.features.within_sentences)
    measuring = CorpusCounter(job.columns, job.features, cleaning.forms, elsewhere=True)
    memory = None if measuring.hashed else cleaning.thread_memory()
    sizes, block_data, apart, refused = list[int](), list[Any](), list[StoredApart](), list[RejectedRow]()
    for piece in pieces:
        read = job.reading.read(piece)
        refused += read.refused
        for block in read.blocks:
            tokens = [cleaning.words_of(texts, memory) for texts in block.documents.parts]
            measuring.add(block.documents.cells(job.features.measures), tokens)
            sizes.append(len(block.rows))
            for held, kept in zip((block_data, apart), job.keep(block), strict=True):
                held.append(kept)
    fingerprints = [stored.fingerprints for stored in apart if stored.fingerprints is not None]
    measured = measuring.measured() if sizes else None
    notice_counts = drain_notices()
    merge_notices(before)
    return CountedPieces(
        brief=CountedBrief(
            sizes=sizes,
            tokens=measured.tokens if measured is not None else np.zeros(0, dtype=np.int64),
            cells=measured.cells if measured is not None else None,
            block_data=block_data,
            printed=bool(fingerprints),
            spaced=memory is not None and _spaced(memory.words, cleaning.forms),
            names=[table for table in measuring.tables if isinstance(table, distributed_vocabulary.RecordedNames)],
            refused=refused,
            notice_counts=notice_counts,
        ),
        measured=measured,
        fingerprints=join_fingerprints(fingerprints) if fingerprints else None,
        ids=concatenated([stored.ids for stored in apart]),
        words=cleaning.forms.counted_words() if cleaning.forms is not None and cleaning.forms.counted else None,
    )


def _spaced(words: Sequence[str], forms: FinalForms | None) -> bool:
    return (forms is not None and forms.spaced) or any(" " in word for word in words)


def vocabulary_partitions(corpus: CorpusCounts, many: int) -> list[distributed_vocabulary.Vocabulary]:
    """The terms, see `partitioned`."""
    return distributed_vocabulary.partitioned(distributed_vocabulary.vocabulary_of(corpus.local_counts, corpus.terms), many)


def columns_of(*corpora: Ints | CorpusCounts) -> Ints:
    """The hashed columns that any of them has."""
    return distinct_sorted(np.concatenate([part.hashed if isinstance(part, CorpusCounts) else part for part in corpora]))


def in_all_terms(counts: CorpusCounts, corpus: distributed_vocabulary.ChosenTerms) -> csr_array:
    """The counts in the columns of the corpus."""
    return distributed_vocabulary.in_terms(counts.local_counts, counts.terms, corpus.terms)


def in_all_columns(counts: CorpusCounts, columns: Ints) -> csr_array:
    """The same of hashed terms."""
    assert counts.hashed is not None
    return distributed_vocabulary.in_columns(counts.local_counts, np.searchsorted(columns, counts.hashed), columns.size)


PIECES_OF_A_PART = 4
"""So many are read and counted as one, so that a part is larger than sums by label, which are dense."""
_MOST_PARTS = 4096  # of more pieces more are counted as one: requests grow with the square of the parts
PARTS_PER_PARTITION = 64
"""The number of parts whose terms one partition looks at."""


@record(frozen=True, kw_only=True)
class DistributedCounts:
    """block_data: of each block. ids, fingerprints: of all documents, where blocks have them. words_by_form: words that stems
    or lemmas represent."""

    measured: CorpusCounts
    block_data: list[Any]
    ids: "PartitionedTexts"
    fingerprints: PartitionedFingerprints | None
    words_by_form: dict[str, list[str]]


class PartitionedTexts(Sequence[str]):
    """Texts of n documents in parts, of which the one asked for last is here. parts: handles. starts: (parts + 1,) the first text
    of each, then n."""

    def __init__(self, parts: list[Any], starts: Ints, executor: Executor) -> None:
        self._parts, self._starts, self._executor = parts, starts, executor
        self._fetched: tuple[int, Sequence[str]] = (-1, ())

    def __len__(self) -> int:
        return int(self._starts[-1])

    def __getitem__(self, place: Any, /) -> Any:
        part = int(np.searchsorted(self._starts, place, side="right")) - 1
        if part != self._fetched[0]:
            self._fetched = part, self._executor.gather([self._parts[part]])[0]
        return self._fetched[1][place - int(self._starts[part])]

    def __iter__(self) -> Iterator[str]:
        for part in self._parts:
            yield from self._executor.gather([part])[0]

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Sequence) and len(self) == len(other) and all(map(str.__eq__, self, other))

    __hash__ = None  # type: ignore[assignment]

    def gathered(self) -> Sequence[str]:
        """All of them, for any order of asking."""
        return concatenated(self._executor.gather(self._parts))


def can_distribute(work: RunContext) -> bool:
    """Whether the counts of documents may stay with those who read them: all tables are read apart, and nothing is learned of
    the words beyond the terms."""
    features, columns = work.plan.features, work.plan.columns
    ends = suffixes(columns, features)
    return (
        work.engine.executor is not None
        and work.sorter is None
        and not (features.vectors_file or features.skip or columns.document_vectors)
        and not any(suffix != other and other.endswith(suffix) for suffix in ends for other in ends)
        and all(table.division is not None and Distribution(work.engine)(table.division) for table in work.inputs.tables)
    )


def distributed_counts(
    work: RunContext, reader: DocumentReader, cleaning: Cleaner, at_least: int, keep: Keep
) -> DistributedCounts | None:
    """All usable documents. at_least: documents that a term must be in. None where the terms cannot be distinguished after all,
    or there is no document."""
    executor, features = work.engine.executor, work.plan.features
    assert executor is not None
    reading = DocumentReading(inputs=work.inputs, reader=reader, characters=BLOCK_CHARACTERS)
    job = executor.put(
        CountingTask(
            reading=reading,
            settings=cleaning.settings,
            resources=cleaning.resources,
            columns=work.plan.columns,
            features=features if features.hash_bits else distributed_vocabulary.countable(features, at_least),
            keep=keep,
        )
    )
    each = list(reading.pieces(Distribution(work.engine)))
    pieces = list(_partitioned(each, max(PIECES_OF_A_PART, -(-len(each) // _MOST_PARTS))))
    read = [executor.submit(count_pieces, job, *some) for some in pieces]
    counts, fingerprints, ids, words, brief_handles = (
        [executor.submit(getattr, handle, name) for handle in read]
        for name in ("measured", "fingerprints", "ids", "words", "brief")
    )
    del read
    tables = [distributed_vocabulary.TermNames() for _ in suffixes(work.plan.columns, features)]
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
        merge_notices(brief.notice_counts)
        for refused in brief.refused:
            work.rejects.add(refused)
    filled = [place for place, brief in enumerate(briefs) if brief.sizes]
    starts = np.cumsum([0, *(briefs[place].tokens.size for place in filled)], dtype=np.int64)
    combine = _in_columns if features.hash_bits else _in_terms
    measured = combine(_CountedParts([counts[place] for place in filled], starts, executor), work.plan, at_least, tables)
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
        ids=PartitionedTexts([ids[place] for place in filled], starts, executor),
        fingerprints=PartitionedFingerprints(printed, starts, executor) if printed else None,
        words_by_form=words_by_form(merged_counts(*executor.gather(tree_reduce(executor, formed, merged_counts))))
        if formed
        else {},
    )


def _forwarded(
    brief: CountedBrief, pieces: int, tables: Sequence[distributed_vocabulary.TermNames], work: RunContext
) -> CountedBrief:
    """The report on several pieces, the names of hashed terms passed on."""
    for table, names in zip(tables, brief.names, strict=True):
        names.record_names(table)
    for _ in range(pieces):
        work.engine.piece_done()
    work.advance(brief.tokens.size)
    return replace(brief, names=[])


def _partitioned(pieces: Iterable[ReadPiece[DocumentBlock]], together: int) -> Iterator[list[ReadPiece[DocumentBlock]]]:
    rest = iter(pieces)
    while some := list(islice(rest, together)):
        yield some


@record(frozen=True)
class _CountedParts:
    """handles: of `CorpusCounts` with terms of its own each. starts: (parts + 1,) the first document of each, then n."""

    handles: list[Any]
    starts: Ints
    executor: Executor

    def measured(self, work: Callable[..., Any], terms: list[str], given: Any) -> CorpusCounts:
        """All of them in the columns of the corpus. work: puts each there; given: what it is reported of those."""
        argument = self.executor.put(given)
        parts = [self.executor.submit(work, handle, argument) for handle in self.handles]
        return CorpusCounts(
            counts=PartitionedMatrix(parts, self.starts, len(terms), self.executor),
            terms=terms,
            tokens=np.zeros(0, dtype=np.int64),
            cells=no_cells(0),
        )


def _in_columns(
    parts: _CountedParts, choices: Plan, at_least: int, tables: list[distributed_vocabulary.TermNames]
) -> CorpusCounts:
    """Hashed terms. at_least: makes no difference."""
    executor = parts.executor
    columns = tree_reduce(executor, [executor.submit(columns_of, handle) for handle in parts.handles], columns_of)
    (present,) = executor.gather([executor.submit(columns_of, *columns)])
    names = distributed_vocabulary.names_of_columns(tables, present, choices.features.hash_bits)
    return replace(parts.measured(in_all_columns, names, present), hashed=present, distinct=int(present.size))


def _in_terms(parts: _CountedParts, choices: Plan, at_least: int, _: list[distributed_vocabulary.TermNames]) -> CorpusCounts:
    executor, many = parts.executor, -(-len(parts.handles) // PARTS_PER_PARTITION)
    partitioned = [executor.submit(vocabulary_partitions, handle, many) for handle in parts.handles]
    vocabulary_parts = []
    for number in range(many):
        mine = tree_reduce(
            executor, [executor.submit(getitem, handle, number) for handle in partitioned], distributed_vocabulary.of_all
        )
        vocabulary_parts.append(executor.submit(distributed_vocabulary.of_all, *mine))
    del partitioned

    def ask(work: Callable[..., Any], *given: Any) -> list[Any]:
        handles = [executor.put(argument) for argument in given]
        return executor.gather([executor.submit(work, part, *handles) for part in vocabulary_parts])

    terms = distributed_vocabulary.chosen(ask, choices.features, at_least, suffixes(choices.columns, choices.features))
    return replace(
        parts.measured(in_all_terms, terms.terms, terms),
        distinct=terms.distinct,
        seen_once=terms.seen_once,
        left_out=max(terms.distinct - len(terms.terms), 0),
        rare=terms.rare,
    )
