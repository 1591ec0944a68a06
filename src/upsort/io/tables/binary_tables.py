"""Parquet tables, read batch by batch, and XLSX spreadsheets.

A formula counts as the value saved with it; a merged cell as its value in each of its cells."""

import io
import re
from collections.abc import Iterator, Sequence
from contextlib import suppress
from functools import cache
from itertools import islice
from typing import Any
from zipfile import ZipFile

from upsort.core.arrays import TextColumn, compact
from upsort.core.errors import DataProblem, UsageProblem, listed, suggestion
from upsort.core.lazy import arrow_parquet, openpyxl, pyarrow
from upsort.io.tables.bounds import DAMAGED, DamagedSource, check_unpacked
from upsort.io.tables.columnar import ColumnarRows, chosen_rows
from upsort.io.tables.heading import heading_from_options, names_in, title_notices, without_footer_rows
from upsort.io.tables.nested_values import cell_of
from upsort.io.tables.rows import (
    ROWS_A_BLOCK,
    WHOLE,
    Block,
    Chunk,
    Chunking,
    ReadSettings,
    ReasonKind,
    RejectedRow,
    RejectionReason,
    SourceEntry,
    SourceNote,
    SourceTable,
    blocks_of,
)

_LARGEST = 16_000_000  # bytes of a stretch, unpacked, unless ROWS_A_BLOCK are more


@cache
def _broken() -> tuple[type[Exception], ...]:
    """What reading a damaged file raises."""
    return (pyarrow.ArrowException, OSError, ValueError, TypeError, KeyError, IndexError, OverflowError, UnicodeError)


def parquet_table(entry: SourceEntry, reading: ReadSettings) -> SourceTable:
    """A Parquet file; values become the text of cells."""
    file = _file(entry)
    groups = [file.metadata.row_group(number) for number in range(file.num_row_groups)]
    check_unpacked(sum(group.total_byte_size for group in groups), entry.name, reading)
    bounds = _chunks([(group.num_rows, group.total_byte_size) for group in groups])
    columns = tuple(file.schema_arrow.names)

    def blocks(chunk: Chunk) -> Iterator[Block]:
        line = chunk.line
        for cells, wrong in _batches(entry, chunk):
            rows = ColumnarRows(cells) if cells else []
            lines = list(range(line, line + len(rows)))
            line += len(rows)
            yield Block(
                source=entry.name,
                columns=columns,
                rows=chosen_rows(rows, [place for place in range(len(rows)) if place not in wrong]) if wrong else rows,
                lines=[number for place, number in enumerate(lines) if place not in wrong],
                refused=[
                    RejectedRow(entry.name, lines[place], RejectionReason(ReasonKind.YEAR), tuple(rows[place]))
                    for place in sorted(wrong)
                ],
            )

    division = Chunking(lambda: iter(bounds), blocks, entry.passing)
    return SourceTable(name=entry.name, columns=columns, blocks=lambda: blocks(WHOLE), division=division)


def _chunks(groups: Sequence[tuple[int, int]]) -> list[Chunk]:
    """Row groups, large ones in several stretches. groups: their rows, and their bytes unpacked."""
    chunks, begin = [], 0
    for rows, size in groups:
        most = max(1, _LARGEST * rows // max(size, 1) // ROWS_A_BLOCK) * ROWS_A_BLOCK
        for first in range(begin, begin + rows, most):
            end = min(first + most, begin + rows)
            chunks.append(Chunk(begin=first, end=end, line=first + 1))
        begin += rows
    return chunks


_Batch = tuple[list[Sequence[str]], set[int]]
"""The cells of each column, and the places of rows that cannot be used."""


def _batches(entry: SourceEntry, chunk: Chunk) -> Iterator[_Batch]:
    """The batches of a stretch of rows, each of one row group. What stands before it in its row group is unpacked, but not made
    into values."""
    file = _file(entry)
    begin = 0
    for group in range(file.num_row_groups):
        end = begin + file.metadata.row_group(group).num_rows
        if end > chunk.begin and (chunk.end is None or begin < chunk.end):
            yield from _batches_of_group(entry, file, group, begin, chunk)
        begin = end


def _batches_of_group(entry: SourceEntry, file: Any, group: int, begin: int, chunk: Chunk) -> Iterator[_Batch]:
    """The batches of a row group that are in a stretch. begin: the number of its first row."""
    batches = file.iter_batches(batch_size=ROWS_A_BLOCK, row_groups=[group])
    while True:
        try:
            batch = next(batches)
            if chunk.end is not None and begin >= chunk.end:
                return
            first = max(chunk.begin - begin, 0)
            many = batch.num_rows - first if chunk.end is None else min(batch.num_rows, chunk.end - begin) - first
            wrong: set[int] = set()
            cells = [_as_cells(column, wrong) for column in batch.slice(first, many).columns] if many > 0 else None
            begin += batch.num_rows
        except StopIteration:
            return
        except _broken() as error:
            raise DamagedSource(entry.name, error) from error
        if cells is not None:
            yield cells, wrong


def _as_cells(column: Any, wrong: set[int]) -> Sequence[str]:
    """The values of a column as cells. wrong: as in `_values`."""
    types = pyarrow.types
    if any(kind(column.type) for kind in (types.is_string, types.is_large_string, types.is_integer, types.is_boolean)):
        text = column.cast(pyarrow.large_string()).fill_null("")
        with suppress(pyarrow.ArrowInvalid):  # bytes that are no text
            text.validate(full=True)
            return TextColumn(text)
    return compact([cell_of(value) for value in _values(column, wrong)], few=-1)


def _values(column: Any, wrong: set[int]) -> list[Any]:
    """The values of a column; the text of those that Python has no value for: nanoseconds, and years beyond 9999. wrong: is given
    the places of those that are no date or time of this program."""
    try:
        return list(column.to_pylist())
    except (OverflowError, ValueError):
        values: list[Any] = []
    for place, value in enumerate(column):
        try:
            values.append(value.as_py())
        except (OverflowError, ValueError):
            values.append(_text_of(value))
            if not _KEPT.match(values[-1]):
                wrong.add(place)
    return values


def _text_of(value: Any) -> str:
    """A value as Arrow writes it; empty where it cannot."""
    try:
        return str(value.cast(pyarrow.string()))
    except pyarrow.ArrowException:
        return ""


def _file(entry: SourceEntry) -> Any:
    stream = entry.open()
    try:
        whole = stream if hasattr(stream, "fileno") else io.BytesIO(stream.read())
        return arrow_parquet.ParquetFile(whole, page_checksum_verification=True)
    except _broken() as error:
        raise DataProblem(f"{entry.name} is not a readable Parquet file: {error}.", "Get the file again.") from None


_KEPT = re.compile("[0-9]{4}-|[0-9]{2}:|-?[0-9]+$")  # a date, a time, a number of seconds, as Arrow writes them
_SAMPLE_ROWS = 50  # rows
_STREAMED_FROM = 30_000_000  # bytes of file from which rows are streamed and merged cells are left as they are

_MOST_MERGED = 1_000_000  # cells, beyond which merged ones are left as they are
_MERGED = re.compile(rb'<(?:\w+:)?mergeCell [^>]*ref="([A-Z]+[0-9]+:[A-Z]+[0-9]+)"')
_BROKEN = (
    *DAMAGED, SyntaxError, LookupError, ValueError, TypeError, AttributeError, ArithmeticError, OSError, NotImplementedError,
    RecursionError, RuntimeError,
)  # fmt: skip
"""What the library raises for a file that is no spreadsheet, or a damaged one; the errors of XML are syntax errors."""

_CODED = re.compile(r"_x([0-9A-Fa-f]{4})_")


def spreadsheet_table(entry: SourceEntry, reading: ReadSettings) -> SourceTable:
    """One sheet as a table: the one named, else the first that is not empty."""
    with entry.open() as stream:
        content = stream.read()
    streamed = len(content) > _STREAMED_FROM or _merged_cells(entry, content, reading) > _MOST_MERGED
    sheet = _sheet(entry, content, reading, streamed)
    first = list(islice(((number, row) for number, row in _rows(entry, sheet, streamed) if any(row)), _SAMPLE_ROWS))
    if not first:
        raise DataProblem(f"The sheet {sheet.title!r} of {entry.name} is empty.", "Name another with --sheet.")
    numbers, rows = [number for number, _ in first], [row for _, row in first]
    heading = heading_from_options(reading, rows, numbers, entry.name, header=True)
    columns = names_in(heading, [_without_end(row) for row in rows], max(len(_without_end(row)) for row in rows))
    width = len(columns)
    begin = numbers[heading.row] + 1 if heading.row is not None else 1
    notes = [] if reading.header_row else title_notices(entry.name, heading)
    if not reading.sheet and len(_titles(sheet)) > 1:
        what = f": reading the sheet {sheet.title!r} of {listed(_titles(sheet))}; --sheet names another."
        notes.append(SourceNote(entry.name, what))
    if streamed:
        what = ": in merged cells only the first keeps its value; it has too many cells for more."
        notes.append(SourceNote(entry.name, what))

    def found() -> Iterator[tuple[int, list[str]] | RejectedRow]:
        for number, row in _rows(entry, _sheet(entry, content, reading, streamed), streamed):
            if number < begin or not any(row):
                continue
            if any(row[width:]):
                cells = _without_end(row)
                reason = RejectionReason(ReasonKind.WIDTH, (f"{len(cells)} cells", str(width)))
                yield RejectedRow(entry.name, number, reason, tuple(cells))
            else:
                yield number, (row + [""] * width)[:width]

    def blocks() -> Iterator[Block]:
        return without_footer_rows(blocks_of(entry.name, columns, found()))

    return SourceTable(name=entry.name, columns=columns, blocks=blocks, notes=tuple(notes))


def _without_end(row: list[str]) -> list[str]:
    """A row up to its last filled cell."""
    return row[: max((place for place, cell in enumerate(row, 1) if cell), default=0)]


def _sheet(entry: SourceEntry, content: bytes, reading: ReadSettings, streamed: bool) -> Any:
    try:
        book = openpyxl.load_workbook(io.BytesIO(content), read_only=streamed, data_only=True)
    except (openpyxl.utils.exceptions.InvalidFileException, *_BROKEN) as error:
        raise DataProblem(f"{entry.name} is not a readable spreadsheet: {error}.", "Save it as .xlsx or .csv.") from None
    if reading.sheet:
        if reading.sheet not in book.sheetnames:
            raise UsageProblem(
                f"{entry.name} has no sheet {reading.sheet!r}.", suggestion(reading.sheet, book.sheetnames, "sheets")
            )
        return book[reading.sheet]
    if not book.worksheets:
        raise DataProblem(f"{entry.name} holds no sheet.", "Save it as .xlsx or .csv.")
    filled = [sheet for sheet in book.worksheets if (sheet.max_row or 0) > 1]
    return filled[0] if filled else book.worksheets[0]


def _titles(sheet: Any) -> list[str]:
    return list(sheet.parent.sheetnames)


def _merged_cells(entry: SourceEntry, content: bytes, reading: ReadSettings) -> int:
    """How many cells the merged areas of all sheets have, by a look at the XML: the library makes an object of each."""
    merged = 0
    try:
        with ZipFile(io.BytesIO(content)) as archive:
            members = archive.infolist()
            check_unpacked(sum(member.file_size for member in members), entry.name, reading)
            for member in members:
                if not member.filename.startswith("xl/worksheets/"):
                    continue
                for area in _MERGED.findall(archive.read(member)):
                    left, top, right, bottom = openpyxl.utils.cell.range_boundaries(area.decode("ascii"))
                    merged += (right - left + 1) * (bottom - top + 1)
    except _BROKEN:
        return 0  # what is wrong with it, the library says
    return merged


def _rows(entry: SourceEntry, sheet: Any, streamed: bool) -> Iterator[tuple[int, list[str]]]:
    """The rows that have cells, with their numbers; what is between them is never gone through. Raises Damaged."""
    rows = _cells(sheet, streamed)
    while True:
        try:
            row = next(rows)
        except StopIteration:
            return
        except _BROKEN as error:
            raise DamagedSource(entry.name, error) from error
        yield row


def _cells(sheet: Any, streamed: bool) -> Iterator[tuple[int, list[str]]]:
    if streamed:
        sheet.reset_dimensions()  # else every row is filled up to what the file claims
        for number, row in enumerate(sheet.iter_rows(values_only=True), 1):
            yield number, [_read(value) for value in row]
        return
    values = {place: cell.value for place, cell in sheet._cells.items() if cell.value is not None}
    for area in sheet.merged_cells.ranges:
        value = values.get((area.min_row, area.min_col))
        if value is not None:
            rows = range(area.min_row, area.max_row + 1)
            values |= {(row, column): value for row in rows for column in range(area.min_col, area.max_col + 1)}
    by_row: dict[int, dict[int, Any]] = {}
    for (row_number, column), value in values.items():
        by_row.setdefault(row_number, {})[column] = value
    for number in sorted(by_row):
        cells = by_row[number]
        yield number, [_read(cells.get(column)) for column in range(1, max(cells) + 1)]


def _read(value: Any) -> str:
    """A cell's text, its characters that are written as codes (ECMA-376, 22.9.2.19) as themselves."""
    text = cell_of(value)
    return _CODED.sub(lambda match: chr(int(match[1], 16)), text) if "_x" in text else text
