"""Rows that are held column by column, as large tables are read; and blocks of rows joined and bounded, however held."""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from typing import overload

from upsort.core.arrays import TextColumn
from upsort.io.tables.bounds import SHOWN, size_text
from upsort.io.tables.rows import Block, ReadSettings, ReasonKind, RejectedRow, RejectionReason, Rows, in_large


class ColumnarRows(Sequence[list[str]]):
    """Rows that are held column by column. columns: of one length each."""

    def __init__(self, columns: Sequence[TextColumn]) -> None:
        self.columns = tuple(columns)

    def __len__(self) -> int:
        return len(self.columns[0])

    @overload
    def __getitem__(self, place: int, /) -> list[str]: ...

    @overload
    def __getitem__(self, place: slice, /) -> "ColumnarRows": ...

    def __getitem__(self, place: int | slice, /) -> "list[str] | ColumnarRows":
        if isinstance(place, slice):
            return ColumnarRows([column[place] for column in self.columns])
        return [column[place] for column in self.columns]

    def __iter__(self) -> Iterator[list[str]]:
        return map(list, zip(*self.columns, strict=True))


def rows_of_columns(columns: Sequence[Sequence[str]]) -> Rows:
    """Rows of such cells."""
    texts = [column for column in columns if isinstance(column, TextColumn)]
    return ColumnarRows(texts) if texts and len(texts) == len(columns) else [list(row) for row in zip(*columns, strict=True)]


def column_of(rows: Rows, place: int) -> Sequence[str]:
    """The cells of one column."""
    return rows.columns[place] if isinstance(rows, ColumnarRows) else [row[place] for row in rows]


def chosen_rows(rows: Rows, places: Sequence[int]) -> Rows:
    """Some of the rows."""
    if isinstance(rows, ColumnarRows):
        return ColumnarRows([column.take(places) for column in rows.columns])
    return [rows[place] for place in places]


def joined_rows(parts: Sequence[Rows]) -> Rows:
    """The rows of consecutive blocks of one table."""
    columnar = [part for part in parts if isinstance(part, ColumnarRows)]
    if len(columnar) < len(parts) or not parts:
        return [row for part in parts for row in part]
    return ColumnarRows([TextColumn.joined(columns) for columns in zip(*(part.columns for part in columnar), strict=True)])


def large_row_blocks(blocks: Iterable[Block], characters: int) -> Iterator[Block]:
    """Blocks of at least so many characters in all cells, see `in_large`."""
    return in_large(blocks, lambda block: _characters_in(block.rows), _joined_blocks, characters)


def _characters_in(rows: Rows) -> int:
    if isinstance(rows, ColumnarRows):
        return sum(column.characters for column in rows.columns)
    return sum(len(cell) for row in rows for cell in row)


def _joined_blocks(blocks: list[Block]) -> Block:
    first = blocks[0]
    if len(blocks) == 1:
        return first
    return replace(
        first,
        rows=joined_rows([block.rows for block in blocks]),
        lines=[line for block in blocks for line in block.lines],
        refused=[refused for block in blocks for refused in block.refused],
        files=[name for block in blocks for name in block.files or ()] if first.files is not None else None,
    )


def without_large_rows(blocks: Iterator[Block], reading: ReadSettings) -> Iterator[Block]:
    """The same blocks, rows with more than `reading.largest_cell` characters refused."""
    most = reading.largest_cell
    for block in blocks:
        if isinstance(block.rows, ColumnarRows) and _characters_in(block.rows) <= most:
            yield block
            continue
        sizes = [sum(map(len, row)) for row in block.rows]
        if max(sizes, default=0) <= most:
            yield block
            continue
        reason = RejectionReason(ReasonKind.TOO_LARGE, (size_text(most),), "--largest-cell allows more")
        good = [place for place, size in enumerate(sizes) if size <= most]
        refused = [
            RejectedRow(block.source, block.lines[place], reason, tuple(cell[:SHOWN] for cell in block.rows[place]))
            for place, size in enumerate(sizes)
            if size > most
        ]
        yield replace(
            block,
            rows=chosen_rows(block.rows, good),
            lines=[block.lines[place] for place in good],
            files=block.files and [block.files[place] for place in good],
            refused=[*block.refused, *refused],
        )
