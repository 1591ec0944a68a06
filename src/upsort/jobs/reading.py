"""Documents read and worked on by several processes, each of which reads stretches of the tables by itself.

So no text travels between processes, only what the work makes of it. Tables that cannot be divided are read by the process that
asks, and their documents travel. What is done in one go depends on the files alone, not on the processes.
"""

from collections.abc import Callable, Iterable, Iterator
from dataclasses import field
from pathlib import Path
from typing import Any, Generic, Protocol, TypeVar

from upsort.core.records import record
from upsort.engine.engine import Engine
from upsort.files import remarks
from upsort.files.document_blocks import DocumentBlock, large_blocks
from upsort.files.documents import Reader
from upsort.files.rows import Block, Division, Refused, Stretch, large_row_blocks
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.files.vectors import RowVectors

Read = TypeVar("Read")
Result = TypeVar("Result")
Apart = Callable[[Division], bool]


@record(frozen=True)
class Piece(Generic[Read]):
    """What is read and worked on in one go. table: its number. stretch: of the table; or else blocks: that were read already,
    and refused: the rows between them."""

    table: int
    stretch: Stretch | None = None
    blocks: list[Read] = field(default_factory=list)
    refused: list[Refused] = field(default_factory=list)


class Readable(Protocol[Read]):
    """Tables that are read in pieces."""

    def pieces(self, apart: Apart) -> Iterator[Piece[Read]]:
        """All pieces in order. apart: whether those who work on them can read the stretches of a table."""

    def read(self, piece: Piece[Read]) -> Piece[Read]:
        """The piece with its blocks."""


@record(frozen=True)
class Worked(Generic[Result]):
    """What a piece came to: of each of its large blocks in order. remarks: what the files gave to tell."""

    results: list[Result]
    refused: list[Refused]
    remarks: dict[str, int]


@record(frozen=True, kw_only=True)
class Reading:
    """Documents that are to be read: tables, their reader, and how many characters of text, at least, are worked on at once."""

    inputs: Inputs
    reader: Reader
    characters: int

    def pieces(self, apart: Apart) -> Iterator[Piece[DocumentBlock]]:
        """All pieces, see `Readable`."""
        named = self.reader.columns.document_vectors
        vectors = RowVectors(Path(named)) if named else None  # their rows are those of the whole tables
        for number, table in enumerate(self.inputs.tables):
            if table.division is not None and vectors is None:
                yield from _stretches(self, number, table.division, apart)
                continue
            refused: list[Refused] = []
            found = self.reader.documents_in(table, table.blocks(), refused.append, vectors)
            for block in large_blocks(found, self.characters):
                yield Piece(number, None, [block], refused[:])
                refused.clear()
            if refused:
                yield Piece(number, None, [], refused)
        if vectors is not None:
            vectors.check_used_up()

    def read(self, piece: Piece[DocumentBlock]) -> Piece[DocumentBlock]:
        """The piece with its documents."""
        if piece.stretch is None:
            return piece
        table = self.inputs.tables[piece.table]
        refused: list[Refused] = []
        assert table.division is not None
        found = self.reader.documents_in(table, table.division.blocks(piece.stretch), refused.append)
        return Piece(piece.table, None, list(large_blocks(found, self.characters)), refused)


@record(frozen=True)
class RowReading:
    """Rows of tables as they are, in blocks of so many characters at least, each with the number of its table."""

    inputs: Inputs
    characters: int

    def pieces(self, apart: Apart) -> Iterator[Piece[tuple[int, Block]]]:
        """All pieces, see `Readable`."""
        for number, table in enumerate(self.inputs.tables):
            if table.division is not None:
                yield from _stretches(self, number, table.division, apart)
            else:
                for block in large_row_blocks(table.blocks(), self.characters):
                    yield Piece(number, None, [(number, block)])

    def read(self, piece: Piece[tuple[int, Block]]) -> Piece[tuple[int, Block]]:
        """The piece with its rows."""
        division = self.inputs.tables[piece.table].division
        if piece.stretch is None or division is None:
            return piece
        blocks = large_row_blocks(division.blocks(piece.stretch), self.characters)
        return Piece(piece.table, None, [(piece.table, block) for block in blocks])


def _stretches(reading: Readable[Read], table: int, division: Division, apart: Apart) -> Iterator[Piece[Read]]:
    for stretch in division.stretches():
        piece: Piece[Read] = Piece(table, stretch)
        yield piece if apart(division) else reading.read(piece)


@record(frozen=True)
class _Working:
    """Reads pieces and works on their blocks, in any process. reading: of stretches, where there are any."""

    reading: Readable[Any] | None
    work: Callable[[Any], Any]

    def __call__(self, piece: Piece[Any]) -> Worked[Any]:
        before = remarks.taken()
        if piece.stretch is not None:
            assert self.reading is not None
            piece = self.reading.read(piece)
        results = [self.work(block) for block in piece.blocks]
        found = remarks.taken()
        remarks.given(before)
        return Worked(results, piece.refused, found)


def apart_for(engine: Engine) -> Apart:
    """Whether those of an engine can read the stretches of a table."""
    return lambda division: engine.reads and not (engine.elsewhere and division.passing)


def worked_on(
    reading: Readable[Read],
    work: Callable[[Read], Result],
    aside: SetAside,
    engine: Engine,
    unfinished: Callable[[Iterable[Piece[Read]]], Iterator[Piece[Read]]] = iter,
    learns: bool = True,
) -> Iterator[Result]:
    """What the work makes of all blocks, in order; rows that the reading refuses go to `aside`.

    unfinished: leaves out what needs no work. learns: whether the work is faster for having been done before.
    """
    pieces = unfinished(reading.pieces(apart_for(engine)))
    for _, worked in engine.in_order(_Working(reading if engine.reads else None, work), pieces, learns):
        engine.piece_done()
        remarks.given(worked.remarks)
        for refused in worked.refused:
            aside.add(refused)
        yield from worked.results
