"""Rows that are held column by column, as large tables are read; and blocks of rows joined and bounded, however held."""

import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from typing import overload

import numpy as np

from upsort.core.arrays import Ints, TextColumn, chosen_texts, concatenated, numbered_names
from upsort.core.lazy import arrow_csv, pyarrow
from upsort.io.tables.bounds import SHOWN, size_text
from upsort.io.tables.rows import ROWS_A_BLOCK, Block, ReadSettings, ReasonKind, RejectedRow, RejectionReason, Rows, in_large


class ColumnarRows(Sequence[list[str]]):
    """Rows that are held column by column. columns: of one length each."""

    def __init__(self, columns: Sequence[Sequence[str]]) -> None:
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

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Sequence) and list(self) == list(other)

    __hash__ = None  # type: ignore[assignment]


def regular_rows(content: bytes, delimiter: str, width: int) -> tuple[ColumnarRows, Ints] | None:
    """The rows of separated cells in UTF-8, and the number of the line on which each begins, counted from 0.

    width: cells of each row. None where a row has more or fewer, where a quote is neither at an end of a cell nor doubled, for
    blank lines, carriage returns alone and bytes that are no text: all that is not as RFC 4180 has it."""
    if b"\r" in content and content.count(b"\r") != content.count(b"\r\n"):
        return None
    if b'"' in content and b'"' in _quoted_cell(delimiter).sub(b"", content):
        return None
    types = dict.fromkeys(map(str, range(width)), pyarrow.large_string())
    try:
        table = arrow_csv.read_csv(
            pyarrow.BufferReader(content),
            arrow_csv.ReadOptions(use_threads=False, block_size=len(content) + 1, column_names=list(types)),
            arrow_csv.ParseOptions(delimiter=delimiter, newlines_in_values=True),
            arrow_csv.ConvertOptions(column_types=types),
        )
    except pyarrow.ArrowException:
        return None
    columns = [TextColumn(column.combine_chunks()) for column in table.columns]
    rows = ColumnarRows(columns)
    more = np.zeros(len(rows), dtype=np.int64)  # lines of each row beyond its first
    for column in columns:
        more += column.line_feeds()
    line_ends = np.count_nonzero(np.frombuffer(content, dtype=np.uint8) == ord("\n"))
    if len(rows) + more.sum() != line_ends + (content[-1:] != b"\n"):
        return None  # blank lines are no rows
    return rows, np.arange(len(rows)) + np.cumsum(more) - more


def _quoted_cell(delimiter: str) -> "re.Pattern[bytes]":
    """A cell in quotes, all quotes in it doubled."""
    sign = re.escape(delimiter).encode("ascii")
    return re.compile(rb'"(?<![^%b\r\n]")[^"]*+(?:""[^"]*+)*+"(?=[%b\r\n]|\Z)' % (sign, sign))


def parts_of_block(block: Block, skip: int) -> list[Block]:
    """A block in parts of ROWS_A_BLOCK rows, without the first `skip`, which count as rows of the first part."""
    parts = [slice(max(begin, skip), begin + ROWS_A_BLOCK) for begin in range(0, len(block.rows), ROWS_A_BLOCK)]
    return [replace(block, rows=block.rows[part], lines=block.lines[part]) for part in parts]


def column_of(rows: Rows, place: int) -> Sequence[str]:
    """The cells of one column."""
    return rows.columns[place] if isinstance(rows, ColumnarRows) else [row[place] for row in rows]


def origins_of(block: Block) -> Sequence[str]:
    """Where each row came from: `file:line`, or the file."""
    return block.files if block.files is not None else numbered_names(f"{block.source}:", block.lines)


def chosen_rows(rows: Rows, places: Sequence[int]) -> Rows:
    """Some of the rows."""
    if isinstance(rows, ColumnarRows):
        return ColumnarRows([chosen_texts(column, places) for column in rows.columns])
    return [rows[place] for place in places]


def joined_rows(parts: Sequence[Rows]) -> Rows:
    """The rows of consecutive blocks of one table."""
    columnar = [part for part in parts if isinstance(part, ColumnarRows)]
    if len(columnar) < len(parts) or not parts:
        return [row for part in parts for row in part]
    return ColumnarRows([concatenated(columns) for columns in zip(*(part.columns for part in columnar), strict=True)])


def large_row_blocks(blocks: Iterable[Block], characters: int) -> Iterator[Block]:
    """Blocks of at least so many characters in all cells, see `in_large`."""
    return in_large(blocks, lambda block: rows_characters(block.rows), _joined_blocks, characters)


def rows_characters(rows: Rows) -> int:
    """In all cells."""
    if isinstance(rows, ColumnarRows):
        return sum(column.characters if isinstance(column, TextColumn) else sum(map(len, column)) for column in rows.columns)
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
        if isinstance(block.rows, ColumnarRows) and rows_characters(block.rows) <= most:
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
