"""XLSX spreadsheets. A formula counts as the value that was saved with it; a merged cell as its value in each of its cells."""

import io
from collections.abc import Iterator
from typing import Any
from zipfile import BadZipFile

from upsort.core.errors import DataProblem, UsageProblem
from upsort.core.names import listed, suggestion
from upsort.files.delimited import distinct_names
from upsort.files.rows import ROWS_A_BLOCK, Block, Entry, Reading, Table, cell_of

_STREAMED_FROM = 30_000_000  # bytes of file from which rows are streamed and merged cells are left as they are


def spreadsheet_table(entry: Entry, reading: Reading) -> Table:
    """One sheet as a table: the one named, else the first that is not empty."""
    with entry.open() as stream:
        content = stream.read()
    streamed = len(content) > _STREAMED_FROM
    sheet = _sheet(entry, content, reading, streamed)
    rows = _rows(sheet, streamed)
    first = next(((number, row) for number, row in enumerate(rows, 1) if any(row)), None)
    if first is None:
        raise DataProblem(f"The sheet {sheet.title!r} of {entry.name} is empty.", "Name another with --sheet.")
    header_at, names = first
    has_header = reading.header is not False
    width = len(names)
    columns = tuple(distinct_names(names) if has_header else [str(number + 1) for number in range(width)])
    notes = []
    if not reading.sheet and len(_titles(sheet)) > 1:
        notes.append(
            f"{entry.name}: reading the sheet {sheet.title!r} of {listed(_titles(sheet))}; --sheet names another."
        )
    if streamed:
        notes.append(f"{entry.name} is large: in merged cells only the first keeps its value.")

    def blocks() -> Iterator[Block]:
        again = _sheet(entry, content, reading, streamed)
        block = Block(source=entry.name, columns=columns, rows=[], lines=[])
        for number, row in enumerate(_rows(again, streamed), 1):
            if number < header_at or (has_header and number == header_at) or not any(row):
                continue
            block.rows.append((row + [""] * width)[:width])
            block.lines.append(number)
            if len(block.rows) == ROWS_A_BLOCK:
                yield block
                block = Block(source=entry.name, columns=columns, rows=[], lines=[])
        yield block

    return Table(entry.name, columns, blocks, tuple(notes))


def _sheet(entry: Entry, content: bytes, reading: Reading, streamed: bool) -> Any:
    import openpyxl  # slow to load, and needed by few

    try:
        book = openpyxl.load_workbook(io.BytesIO(content), read_only=streamed, data_only=True)
    except (openpyxl.utils.exceptions.InvalidFileException, BadZipFile, KeyError, ValueError, OSError) as error:
        raise DataProblem(
            f"{entry.name} is not a readable spreadsheet: {error}.", "Save it as .xlsx or .csv."
        ) from None
    if reading.sheet:
        if reading.sheet not in book.sheetnames:
            raise UsageProblem(
                f"{entry.name} has no sheet {reading.sheet!r}.", suggestion(reading.sheet, book.sheetnames, "sheets")
            )
        return book[reading.sheet]
    filled = [sheet for sheet in book.worksheets if (sheet.max_row or 0) > 1]
    return filled[0] if filled else book.worksheets[0]


def _titles(sheet: Any) -> list[str]:
    return list(sheet.parent.sheetnames)


def _rows(sheet: Any, streamed: bool) -> Iterator[list[str]]:
    covered: dict[tuple[int, int], Any] = {}
    if not streamed:
        for area in sheet.merged_cells.ranges:
            value = sheet.cell(area.min_row, area.min_col).value
            for row in range(area.min_row, area.max_row + 1):
                for column in range(area.min_col, area.max_col + 1):
                    covered[row, column] = value
    for number, row in enumerate(sheet.iter_rows(values_only=True), 1):
        yield [cell_of(covered.get((number, place), value)) for place, value in enumerate(row, 1)]
