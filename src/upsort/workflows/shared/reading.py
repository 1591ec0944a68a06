"""Documents read and worked on by several at once, each of whom reads stretches of the tables.

Tables that cannot be divided are read by the one who asks. What is done in one go depends on the files alone."""

from collections.abc import Callable, Iterable, Iterator
from dataclasses import field
from pathlib import Path
from typing import Any, Generic, Protocol, TypeVar

from upsort.core.lazy import record
from upsort.io.notices import drain_notices, merge_notices
from upsort.io.outputs.rejects import RejectedRows
from upsort.io.plan.resources import RowVectors
from upsort.io.sources.inputs import Inputs
from upsort.io.tables.columnar import large_row_blocks
from upsort.io.tables.document_blocks import DocumentBlock, large_blocks
from upsort.io.tables.documents import DocumentReader
from upsort.io.tables.rows import Block, Chunk, Chunking, RejectedRow
from upsort.parallel.threads import ExecutionEngine

Read = TypeVar("Read")
Result = TypeVar("Result")
MayDistribute = Callable[[Chunking], bool]


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

    def pieces(self, distributes: MayDistribute) -> Iterator[ReadPiece[Read]]:
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

    def pieces(self, distributes: MayDistribute) -> Iterator[ReadPiece[DocumentBlock]]:
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

    def pieces(self, distributes: MayDistribute) -> Iterator[ReadPiece[tuple[int, Block]]]:
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
    reading: Readable[Read], table: int, division: Chunking, distributes: MayDistribute
) -> Iterator[ReadPiece[Read]]:
    for chunk in division.chunks():
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


def distribution_for(engine: ExecutionEngine) -> MayDistribute:
    """Whether those of an engine can read the stretches of a table."""
    return lambda division: not (engine.elsewhere and division.passing)


def map_blocks(
    reading: Readable[Read],
    work: Callable[[Read], Result],
    rejects: RejectedRows,
    engine: ExecutionEngine,
    unfinished: Callable[[Iterable[ReadPiece[Read]]], Iterator[ReadPiece[Read]]] = iter,
) -> Iterator[Result]:
    """What the work makes of all blocks, in order; rows that the reading refuses go to `rejects`.

    unfinished: leaves out what needs no work."""
    pieces = unfinished(reading.pieces(distribution_for(engine)))
    for _, worked in engine.in_order(_PieceWorker(reading, work), pieces):
        engine.piece_done()
        merge_notices(worked.notice_counts)
        for refused in worked.refused:
            rejects.add(refused)
        yield from worked.results
