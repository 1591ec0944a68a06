"""XLSX spreadsheets. A formula counts as the value that was saved with it; a merged cell as its value in each of its cells."""

import io
from collections.abc import Iterator
from itertools import islice
from typing import Any
from zipfile import BadZipFile

from upsort.core.errors import DataProblem, UsageProblem
from upsort.core.names import listed, suggestion
from upsort.files.below import without_rows_below
from upsort.files.heading import heading_as_told, names_in, told_titles
from upsort.files.reasons import Reason, Why
from upsort.files.rows import ROWS_A_BLOCK, Block, Entry, Reading, Refused, Table, cell_of

_LOOK_AT = 50  # rows
_STREAMED_FROM = 30_000_000  # bytes of file from which rows are streamed and merged cells are left as they are


def spreadsheet_table(entry: Entry, reading: Reading) -> Table:
    """One sheet as a table: the one named, else the first that is not empty."""
    with entry.open() as stream:
        content = stream.read()
    streamed = len(content) > _STREAMED_FROM
    sheet = _sheet(entry, content, reading, streamed)
    first = list(islice(((number, row) for number, row in enumerate(_rows(sheet, streamed), 1) if any(row)), _LOOK_AT))
    if not first:
        raise DataProblem(f"The sheet {sheet.title!r} of {entry.name} is empty.", "Name another with --sheet.")
    numbers, rows = [number for number, _ in first], [row for _, row in first]
    heading = heading_as_told(reading, rows, numbers, entry.name, header=True)
    columns = names_in(heading, [_without_end(row) for row in rows], max(len(_without_end(row)) for row in rows))
    width = len(columns)
    begin = numbers[heading.row] + 1 if heading.row is not None else 1
    notes = [] if reading.header_row else told_titles(entry.name, heading)
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
            if number < begin or not any(row):
                continue
            if any(row[width:]):
                cells = _without_end(row)
                reason = Reason(Why.WIDTH, (f"{len(cells)} cells", str(width)))
                block.refused.append(Refused(entry.name, number, reason, tuple(cells)))
            else:
                block.rows.append((row + [""] * width)[:width])
                block.lines.append(number)
            if len(block.rows) + len(block.refused) == ROWS_A_BLOCK:
                yield block
                block = Block(source=entry.name, columns=columns, rows=[], lines=[])
        yield block

    return Table(name=entry.name, columns=columns, blocks=lambda: without_rows_below(blocks()), notes=tuple(notes))


def _without_end(row: list[str]) -> list[str]:
    """A row up to its last filled cell."""
    return row[: max((place for place, cell in enumerate(row, 1) if cell), default=0)]


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
