"""What every workflow is given: inputs, plan, rejected rows, progress, executor; the detected language of inputs; and documents
read and worked on by several at once, each of whom reads stretches of the tables.

Tables that cannot be divided are read by the one who asks. What is done in one go depends on the files alone."""

from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from dataclasses import field, replace
from pathlib import Path
from typing import Any, Generic, Protocol, TypeVar

from upsort.core import plan
from upsort.core.executors import ParallelMap, Result, map_threads, reporting
from upsort.core.lazy import record
from upsort.core.matrices.partitioned import PartitionedMatrix
from upsort.core.plan import Plan
from upsort.core.text.characters import lower
from upsort.core.text.languages import LETTERS_OF_WORDS, NAMES, WITHOUT_SPACES, DetectedLanguage, among_others, spoken_in
from upsort.core.text.steps.characters import LINE_ENDS
from upsort.core.text.tokeniser import tokenise
from upsort.core.training.labelled import LabelledDocuments
from upsort.core.training.sorter import TrainedSorter
from upsort.io.notices import RejectedRows, add_notice_once, drain_notices, merge_notices
from upsort.io.plan.resources import RowVectors, profiles
from upsort.io.sources.inputs import Inputs
from upsort.io.tables.columnar import large_row_blocks
from upsort.io.tables.columns import roles_in
from upsort.io.tables.document_blocks import DocumentBlock, large_blocks
from upsort.io.tables.documents import DocumentReader, sampled_rows, texts_of
from upsort.io.tables.rows import Block, Chunk, Chunking, RejectedRow
from upsort.parallel.cluster import connected
from upsort.parallel.threads import ExecutionEngine as ExecutionEngine
from upsort.parallel.threads import Threads, fitting, ignore, usual_workers

Advance = Callable[[int], None]
"""Called with the number of documents done since the last call."""


Begin = Callable[[str, int], None]
"""Called when a stage begins, with its name and the number of pieces that are then advanced by; 0 where that is not known."""


def no_stage(name: str, pieces: int) -> None:
    """Begin nothing."""


def nothing_usable(rejects: RejectedRows) -> str:
    """Why nothing was left, from the reasons of the rows set aside."""
    if not rejects.count:
        return "the table has no rows"
    return "; ".join(f"{number} rows with {reason}" for reason, number in rejects.reasons.most_common(3))


CHARACTERS_AT_ONCE = 2_000_000
"""Of text that bulk commands work on in one go, at least: array operations like long arrays."""

ALONE = Threads()
_CONCURRENT_TRAININGS = 6  # trainings at once whose documents lie with others
_WORTH_THREADS = 5_000  # documents, each counted as often as it is in a piece of work


@record(frozen=True, kw_only=True)
class RunContext:
    """inputs: the tables. plan: with its columns complete. rejects: takes refused rows. advance: is called with the documents, or
    the pieces of the stage, that are done. begin: is called when a stage begins. engine: does what can be shared. notify: is
    reported, before it begins, what changes how it is done. folding: threads to share trainings, 0 to find out. sorter: whose
    plan it is, where it is that of a sorter, which then gives what the plan was made with."""

    inputs: Inputs
    plan: Plan
    rejects: RejectedRows
    advance: Advance = ignore
    begin: Begin = no_stage
    engine: ExecutionEngine = ALONE
    notify: Callable[[str], None] = add_notice_once
    folding: int = 0
    sorter: TrainedSorter | None = None

    def parallel(self, documents: LabelledDocuments, stage: str = "training", trainings: int = 1) -> ParallelMap:
        """Does pieces of work, each of a number of trainings on the documents. stage: its name, for the progress.

        Where nobody says by how many threads, little work is not worth several; where they are more than memory has room for,
        fewer do it, which is reported."""

        run_pieces: ParallelMap
        if isinstance(documents.measured.counts, PartitionedMatrix):  # the work on partitions is shared; this process only asks
            run_pieces = self._by_threads
        elif self.engine.elsewhere:
            run_pieces = self.engine.parallel(documents.documents, self.advance)
        else:
            run_pieces = self._by_fitting_threads(documents, trainings)

        def run_all(piece: Callable[[int], Result], count: int) -> list[Result]:
            self.begin(stage, count)
            return run_pieces(piece, count)

        return run_all

    def _by_threads(self, piece: Callable[[int], Result], count: int) -> list[Result]:
        return map_threads(reporting(piece, self.advance), range(count), min(count, _CONCURRENT_TRAININGS))

    def _by_fitting_threads(self, documents: LabelledDocuments, trainings: int) -> ParallelMap:
        """As many threads as the work is worth and memory has room for."""

        def run_all(piece: Callable[[int], Result], count: int) -> list[Result]:
            worth = documents.documents * trainings * count >= _WORTH_THREADS
            requested = min(self.folding or (usual_workers() if worth else 1), count)
            able = fitting(requested, _bytes_of_training(documents)) if requested > 1 else 1
            if able < requested:
                self.notify(f"Memory has room for {able} of {requested} threads.")
            return self.engine.parallel(able, self.advance)(piece, count)

        return run_all


@record(frozen=True, kw_only=True)
class ScoringContext(RunContext):
    """The context of a command that uses a sorter. reader: of documents, bound to the sorter."""

    reader: DocumentReader
    _counted: list[int] = field(default_factory=list)

    def blocks(self) -> Iterator[DocumentBlock]:
        """All usable documents."""
        for block in self.reader.blocks(self.inputs, self.rejects):
            self._counted.append(len(block.rows))
            yield block

    def advance_rows(self, rows: int) -> None:
        """So many usable rows have come and are done."""
        self._counted.append(rows)
        self.advance(rows)

    @property
    def read(self) -> int:
        """How many usable rows have come so far."""
        return sum(self._counted)


@contextmanager
def executor_for(workers: int, cluster: str) -> Iterator[ExecutionEngine]:
    """Who does the work. workers: threads of this process, 0 for the usual number. cluster: the address of one instead."""
    if not cluster:
        yield Threads(workers or usual_workers())
        return
    with connected(cluster) as engine:
        yield engine


@contextmanager
def kept_cluster(address: str) -> Iterator[str]:
    """A cluster that stays for several commands: its address for them. Raises as `executor_for`."""
    with connected(address) as engine:
        yield engine.where


def _bytes_of_training(documents: LabelledDocuments) -> int:
    """About what a training takes next to the counts: the matrix of one side of a split, exact and short, that of its own folds,
    and weights with the directions in which they are changed."""
    numbers, terms = documents.measured.counts.nnz, documents.measured.counts.shape[1]
    return 40 * int(numbers) + 10 * 8 * terms * len(documents.names)


_SAMPLED_EVERY = 3  # rows of a sample
_LEAST_DOCUMENTS = 3
_LEAST_SHARE = 0.6


def main_language(counts: Counter[DetectedLanguage]) -> DetectedLanguage:
    """What most of the documents of which anything is known are in; nothing where that are too few, or no clear majority."""
    for most, times in counts.most_common(1):
        if times >= _LEAST_SHARE * counts.total() and times >= _LEAST_DOCUMENTS:
            return most
    return DetectedLanguage()


def language_of(inputs: Inputs, columns: plan.Columns) -> DetectedLanguage:
    """The language of most of some documents of the first table."""
    table = inputs.tables[0]
    roles = roles_in(table.columns, table.name, plan.Columns(text=columns.text))
    texts = [lower(text, "") for text in texts_of(sampled_rows(table)[::_SAMPLED_EVERY], roles)]
    return main_language(among_others(spoken_in(tokenise(texts), profiles())).counts)


def in_its_language(choices: Plan, inputs: Inputs) -> tuple[Plan, DetectedLanguage]:
    """The plan with the language of the texts, if it leaves that open, and what was detected. English if none is clear. Terms of
    a language without spaces between words become letters."""
    if choices.clean.language != plan.AUTO:
        return choices, DetectedLanguage()
    detected = language_of(inputs, choices.columns)
    clean, features = replace(choices.clean, language=detected.code or plan.USUAL_LANGUAGE), choices.features
    if detected.code in WITHOUT_SPACES and features.units == "words":
        features = replace(features, units="letters", lengths=LETTERS_OF_WORDS)
        clean = replace(clean, steps=tuple(dict.fromkeys((LINE_ENDS.name, *clean.steps))))
    return replace(choices, clean=clean, features=features), detected


def other_language(detected: DetectedLanguage, choices: plan.Plan) -> str:
    """What is to be said where texts are in another language than the plan says; empty where they are not."""
    language = choices.clean.language
    if not detected.code or detected.code == language:
        return ""
    return (
        f"the texts are {NAMES[detected.code]}; stop words, stems and lower case follow "
        f"{NAMES.get(language, repr(language))} (--language {detected.code}, or clean.language in the plan)."
    )


Read = TypeVar("Read")


class Distribution:
    """Which tables the workers of an engine can read."""

    def __init__(self, engine: ExecutionEngine) -> None:
        self.engine = engine

    def __call__(self, division: Chunking) -> bool:
        """Whether they can read the stretches of a table."""
        return not (self.engine.elsewhere and division.passing)

    def chunks(self, division: Chunking) -> Iterable[Chunk]:
        """The stretches of a table. Of one that lies in a store a worker finds them, so that it does not come here."""
        if not (self.engine.elsewhere and division.far):
            return division.chunks()
        ((_, found),) = self.engine.in_order(_chunks_of, [division])
        return found


def _chunks_of(division: Chunking) -> list[Chunk]:
    return list(division.chunks())


@record(frozen=True)
class ReadPiece(Generic[Read]):
    """What is read and worked on in one go. table: its number. chunk: of the table; or else blocks: that were read already, and
    refused: the rows between them."""

    table: int
    chunk: Chunk | None = None
    blocks: list[Read] = field(default_factory=list)
    refused: list[RejectedRow] = field(default_factory=list)


class Readable(Protocol[Read]):
    """Tables that are read in pieces."""

    def pieces(self, distributes: Distribution) -> Iterator[ReadPiece[Read]]:
        """All pieces in order. distributes: whether those who work on them can read the stretches of a table."""

    def read(self, piece: ReadPiece[Read]) -> ReadPiece[Read]:
        """The piece with its blocks."""


@record(frozen=True)
class PieceResult(Generic[Result]):
    """What a piece came to: of each of its large blocks in order. notice_counts: how often each notice came up."""

    results: list[Result]
    refused: list[RejectedRow]
    notice_counts: dict[str, int]


@record(frozen=True, kw_only=True)
class DocumentReading:
    """Documents that are to be read: tables, their reader, and how many characters of text, at least, are worked on at once."""

    inputs: Inputs
    reader: DocumentReader
    characters: int

    def pieces(self, distributes: Distribution) -> Iterator[ReadPiece[DocumentBlock]]:
        """All pieces, see `Readable`."""
        named = self.reader.columns.document_vectors
        vectors = RowVectors(Path(named)) if named else None  # their rows are those of the whole tables
        for number, table in enumerate(self.inputs.tables):
            if table.division is not None and vectors is None:
                yield from _chunk_pieces(self, number, table.division, distributes)
                continue
            refused: list[RejectedRow] = []
            documents = self.reader.documents_in(table, table.blocks(), refused.append, vectors)
            for block in large_blocks(documents, self.characters):
                yield ReadPiece(number, None, [block], refused[:])
                refused.clear()
            if refused:
                yield ReadPiece(number, None, [], refused)
        if vectors is not None:
            vectors.check_used_up()

    def read(self, piece: ReadPiece[DocumentBlock]) -> ReadPiece[DocumentBlock]:
        """The piece with its documents."""
        if piece.chunk is None:
            return piece
        table = self.inputs.tables[piece.table]
        refused: list[RejectedRow] = []
        assert table.division is not None
        documents = self.reader.documents_in(table, table.division.blocks(piece.chunk), refused.append)
        return ReadPiece(piece.table, None, list(large_blocks(documents, self.characters)), refused)


@record(frozen=True)
class RowReading:
    """Rows of tables as they are, in blocks of at least a number of characters, each with the number of its table."""

    inputs: Inputs
    characters: int

    def pieces(self, distributes: Distribution) -> Iterator[ReadPiece[tuple[int, Block]]]:
        """All pieces, see `Readable`."""
        for number, table in enumerate(self.inputs.tables):
            if table.division is not None:
                yield from _chunk_pieces(self, number, table.division, distributes)
            else:
                for block in large_row_blocks(table.blocks(), self.characters):
                    yield ReadPiece(number, None, [(number, block)])

    def read(self, piece: ReadPiece[tuple[int, Block]]) -> ReadPiece[tuple[int, Block]]:
        """The piece with its rows."""
        division = self.inputs.tables[piece.table].division
        if piece.chunk is None or division is None:
            return piece
        blocks = large_row_blocks(division.blocks(piece.chunk), self.characters)
        return ReadPiece(piece.table, None, [(piece.table, block) for block in blocks])


def _chunk_pieces(
    reading: Readable[Read], table: int, division: Chunking, distributes: Distribution
) -> Iterator[ReadPiece[Read]]:
    for chunk in distributes.chunks(division):
        piece: ReadPiece[Read] = ReadPiece(table, chunk)
        yield piece if distributes(division) else reading.read(piece)


@record(frozen=True)
class _PieceWorker:
    """Reads pieces and works on their blocks, anywhere."""

    reading: Readable[Any]
    work: Callable[[Any], Any]

    def __call__(self, piece: ReadPiece[Any]) -> PieceResult[Any]:
        before = drain_notices()
        if piece.chunk is not None:
            piece = self.reading.read(piece)
        results = [self.work(block) for block in piece.blocks]
        notice_counts = drain_notices()
        merge_notices(before)
        return PieceResult(results, piece.refused, notice_counts)


def map_blocks(
    reading: Readable[Read],
    work: Callable[[Read], Result],
    rejects: RejectedRows,
    engine: ExecutionEngine,
    unfinished: Callable[[Iterable[ReadPiece[Read]]], Iterator[ReadPiece[Read]]] = iter,
) -> Iterator[Result]:
    """What the work makes of all blocks, in order; rows that the reading refuses go to `rejects`.

    unfinished: leaves out what needs no work."""
    pieces = unfinished(reading.pieces(Distribution(engine)))
    for _, worked in engine.in_order(_PieceWorker(reading, work), pieces):
        engine.piece_done()
        merge_notices(worked.notice_counts)
        for refused in worked.refused:
            rejects.add(refused)
        yield from worked.results
