"""The writers of the formats of tables: separated cells, JSON Lines, Parquet, spreadsheets. All text is UTF-8."""

import io
import json
import re
import shutil
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from functools import partial
from json.encoder import encode_basestring
from tempfile import SpooledTemporaryFile
from typing import Any, BinaryIO, TextIO

from upsort.core.arrays import TextColumn, compact, concatenated, holds_any
from upsort.core.errors import DataProblem
from upsort.core.lazy import arrow_compute, arrow_parquet, openpyxl, pyarrow
from upsort.io.notices import add_notice
from upsort.io.tables.delimited import SAMPLE_CHARACTERS, quoted_names_needed
from upsort.io.tables.nested_values import AbsentCell, TypedCell
from upsort.io.tables.rows import WITH_TABS, RowWriter, TableLayout, TextOf

_ROWS_A_GROUP = 20_000
_IN_MEMORY = 1 << 26  # bytes of a spreadsheet; a larger one is put together in a temporary file
_MOST_XLSX_ROWS = 1_048_575
_MOST_XLSX_CELL = 32_767
_NOT_IN_XML = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\ud800-\udfff\ufffe\uffff]")
"""Characters that XML 1.0 does not have (section 2.2)."""
_LIKE_A_CODE = re.compile(r"_(x[0-9A-Fa-f]{4}_)")
"""What a spreadsheet would read as the code of a character (ECMA-376, 22.9.2.19)."""


def delimited(stream: TextIO, layout: TableLayout) -> RowWriter:
    """Separated cells, by commas or, for the endings of WITH_TABS, by tabs."""
    return _Delimited(stream, "\t" if layout.ending in WITH_TABS else ",", layout.columns if layout.with_head else None)


class _Delimited:
    """Separated cells, quoted if they hold a delimiter, a quote or a line end (RFC 4180). Column names that a reader would take
    for data are all quoted, which marks them as names; so the first rows are waited for.

    Rows are written column by column of a block: most columns hold nothing that needs a quote, which one look at the whole column
    says. That is several times as fast as looking at each cell's characters."""

    def __init__(self, stream: TextIO, delimiter: str, names: Sequence[str] | None) -> None:
        self._stream, self._delimiter = stream, delimiter
        self._names = names
        self._waiting: list[str] = []
        self._size = 0

    def writerow(self, row: Sequence[Any], /) -> None:
        self.writerows([[cell if isinstance(cell, str) else str(cell) for cell in row]])

    def writerows(self, rows: Sequence[Sequence[str]], /) -> None:
        self.write(delimited_text(self._delimiter, [*zip(*rows, strict=True)]))

    def write(self, text: str, /) -> None:
        if self._names is None:
            self._stream.write(text)
            return
        self._waiting.append(text)
        self._size += len(text)
        if self._size >= SAMPLE_CHARACTERS:
            self.flush()

    def flush(self) -> None:
        if self._names is None:
            return
        names, self._names = self._names, None
        head = delimited_text(self._delimiter, [[name] for name in names])
        rows = "".join(self._waiting)
        self._waiting.clear()
        if quoted_names_needed(head + rows[:SAMPLE_CHARACTERS], names, self._delimiter):
            quoted = ['"' + name.replace('"', '""') + '"' for name in names]
            head = f"{self._delimiter.join(quoted)}\n"
        self._stream.write(head + rows)

    def text_of(self) -> TextOf:
        return partial(delimited_text, self._delimiter)


def delimited_text(delimiter: str, columns: Sequence[Sequence[str]]) -> str:
    """The rows of columns as separated cells, a line each."""
    few = {"few": 0} if any(isinstance(column, TextColumn) for column in columns) else {}
    arrays = [column if isinstance(column, TextColumn) else compact([*map(str, column)], **few) for column in columns]
    if len(arrays) > 1 and all(isinstance(column, TextColumn) for column in arrays):
        return _joined_columns(delimiter, arrays)
    quoted = [_quoted(column, delimiter) for column in columns]
    if len(quoted) == 1:  # an empty cell alone on its line would be no row at all
        quoted = [[cell or '""' for cell in quoted[0]]]
    lines = map(delimiter.join, zip(*quoted, strict=True))
    return "".join([f"{line}\n" for line in lines])


def _quoted(column: Sequence[str], delimiter: str) -> Sequence[str]:
    if not holds_any(column, _special(delimiter)):
        return column
    special = [character for character in _special(delimiter) if holds_any(column, character)]
    return ['"' + cell.replace('"', '""') + '"' if any(character in cell for character in special) else cell for cell in column]


def _joined_columns(delimiter: str, columns: Sequence[Any]) -> str:
    """The same with columns of Arrow."""
    quote, nothing, between, end = TextColumn.of(['"', "", delimiter, "\n"]).array
    joined = arrow_compute.binary_join_element_wise
    cells = []
    for column in columns:
        array = column.array
        if holds_any(column, _special(delimiter)):
            needed = arrow_compute.match_substring_regex(array, f"[{_special(delimiter)}]")
            quoted = joined(quote, arrow_compute.replace_substring(array, '"', '""'), quote, nothing)
            array = arrow_compute.if_else(needed, quoted, array)
        cells.append(array)
    content, _ = TextColumn(joined(joined(*cells, between), nothing, end)).utf8()
    return str(content, "utf-8")


def _special(delimiter: str) -> str:
    """What makes quotes needed."""
    return f'{delimiter}"\n\r'


def value_of(cell: Any) -> float | None:
    """A cell of a column of numbers as a number; None for an empty one."""
    return float(cell) if cell not in ("", None) else None


class _Rows:
    def writerow(self, row: Sequence[Any], /) -> None:
        raise NotImplementedError

    def writerows(self, rows: Sequence[Sequence[Any]], /) -> None:
        for row in rows:
            self.writerow(row)


def json_lines(stream: TextIO, layout: TableLayout) -> RowWriter:
    """Rows as JSON objects, one a line."""
    return _JsonLines(stream, layout)


@contextmanager
def json_array(stream: BinaryIO, layout: TableLayout) -> Iterator[RowWriter]:
    """Rows as the objects of one array, an object a line."""
    text = io.TextIOWrapper(stream, encoding="utf-8", errors="backslashreplace", newline="")
    text.write("[")
    yield _JsonArray(text, layout)
    text.write("\n]\n")
    text.flush()
    text.detach()


class _JsonArray(_Rows):
    def __init__(self, stream: TextIO, layout: TableLayout) -> None:
        self._stream, self._layout, self._before = stream, layout, "\n "

    def writerow(self, row: Sequence[Any], /) -> None:
        self._stream.write(self._before)
        json.dump(as_object(row, self._layout), self._stream, ensure_ascii=False)
        self._before = ",\n "


class _JsonLines(_Rows):
    def __init__(self, stream: TextIO, layout: TableLayout) -> None:
        self._stream, self._layout = stream, layout

    def writerow(self, row: Sequence[Any], /) -> None:
        self.write(_json_text(self._layout, [[cell] for cell in row]))

    def text_of(self) -> TextOf:
        return partial(_json_text, self._layout)

    def write(self, text: str, /) -> None:
        self._stream.write(text)

    def flush(self) -> None:
        """Nothing waits."""


def _json_text(layout: TableLayout, columns: Sequence[Sequence[Any]]) -> str:
    if any(not isinstance(column, TextColumn) and AbsentCell in map(type, column) for column in columns):
        rows = zip(*columns, strict=True)
        return "".join([json.dumps(as_object(row, layout), ensure_ascii=False) + "\n" for row in rows])
    pairs = [_json_pairs(name, column, name in layout.numbers) for name, column in zip(layout.columns, columns, strict=True)]
    return "".join(["{" + ", ".join(row) + "}\n" for row in zip(*pairs, strict=True)])


_ENCODED = json.JSONEncoder(ensure_ascii=False).encode


def _json_pairs(name: str, column: Sequence[Any], number: bool) -> list[str]:
    """A column as members of objects, each with the name."""
    key = f"{encode_basestring(name)}: "
    if number:
        return [f"{key}{'null' if value is None else repr(value)}" for value in map(value_of, column)]
    return [key + (_ENCODED(cell.value) if isinstance(cell, TypedCell) else encode_basestring(cell)) for cell in column]


def as_object(row: Sequence[Any], layout: TableLayout) -> dict[str, Any]:
    """A row as an object of JSON: numbers as numbers, values that came from JSON as they were, without what was not there."""
    return {
        name: cell.value if isinstance(cell, TypedCell) else value_of(cell) if name in layout.numbers else cell
        for name, cell in zip(layout.columns, row, strict=True)
        if not isinstance(cell, AbsentCell)
    }


@contextmanager
def parquet(stream: BinaryIO, layout: TableLayout) -> Iterator[RowWriter]:
    """Columns of text or of numbers, written in groups of rows."""
    writer = _Parquet(stream, layout)
    try:
        yield writer
        writer.close()
    finally:
        writer.release()


class _Parquet:
    def __init__(self, stream: Any, layout: TableLayout) -> None:
        self._schema = pyarrow.schema(
            [(column, pyarrow.float64() if column in layout.numbers else pyarrow.string()) for column in layout.columns]
        )
        self._numbers = [column in layout.numbers for column in layout.columns]
        self._writer = arrow_parquet.ParquetWriter(stream, self._schema, write_page_checksum=True)
        self._rows: list[Sequence[Any]] = []  # that come behind the buffered ones
        self._buffered: list[Sequence[Any]] = [[] for _ in layout.columns]

    def writerow(self, row: Sequence[Any], /) -> None:
        self.writerows([row])

    def writerows(self, rows: Sequence[Sequence[Any]], /) -> None:
        self._rows += rows
        if len(self._rows) >= _ROWS_A_GROUP:
            self._take_rows()

    def _take_rows(self) -> None:
        rows, self._rows = self._rows, []
        if rows:
            self.write_columns([*zip(*rows, strict=True)])

    def write_columns(self, columns: Sequence[Sequence[Any]], /) -> None:
        self._take_rows()
        self._buffered = [
            concatenated((before, cells)) if len(before) else cells for before, cells in zip(self._buffered, columns, strict=True)
        ]
        while len(self._buffered[0]) >= _ROWS_A_GROUP:
            self._flush()

    def _flush(self) -> None:
        """Write one group of rows, or what there is."""
        group = [column[:_ROWS_A_GROUP] for column in self._buffered]
        self._buffered = [column[_ROWS_A_GROUP:] for column in self._buffered]
        arrays = [
            _number_array(cells) if number else _text_array(cells, field.type)
            for cells, number, field in zip(group, self._numbers, self._schema, strict=True)
        ]
        self._writer.write_table(pyarrow.Table.from_arrays(arrays, schema=self._schema))

    def close(self) -> None:
        self._take_rows()
        if len(self._buffered[0]):
            self._flush()
        self._writer.close()

    def release(self) -> None:
        """Close what a failure left open, while there is a stream; the file is then no Parquet file."""
        with suppress(OSError, pyarrow.ArrowException):
            self._writer.close()
        self._writer.is_open = False  # else it is closed once more when it is forgotten, and the stream is gone by then


def _number_array(cells: Sequence[Any]) -> Any:
    """Cells of numbers; nothing where one is empty."""
    if not isinstance(cells, TextColumn):
        return pyarrow.array(map(value_of, cells), pyarrow.float64())
    empty = arrow_compute.equal(cells.array, "")
    return arrow_compute.if_else(empty, pyarrow.scalar(None, cells.array.type), cells.array).cast(pyarrow.float64())


def _text_array(cells: Sequence[Any], kind: Any) -> Any:
    return cells.array.cast(kind) if isinstance(cells, TextColumn) else pyarrow.array(map(_sound, cells), kind)


def _sound(cell: Any) -> str:
    return str(cell).encode("utf-8", "backslashreplace").decode("utf-8")


@contextmanager
def spreadsheet(stream: BinaryIO, layout: TableLayout) -> Iterator[RowWriter]:
    """One sheet, held in memory until it is whole; cells are text or numbers, never formulas."""
    writer = _Spreadsheet(layout)
    try:
        yield writer
        with SpooledTemporaryFile(_IN_MEMORY) as whole:  # an archive that cannot be written to the stream would stay open
            writer.save(whole)
            whole.seek(0)
            shutil.copyfileobj(whole, stream)
    finally:
        writer.release()


class _Spreadsheet(_Rows):
    def __init__(self, layout: TableLayout) -> None:
        self._new_cell = openpyxl.cell.WriteOnlyCell
        self._book = openpyxl.Workbook(write_only=True)
        self._sheet = self._book.create_sheet("corpus")
        self._rows = 0
        self._numbers = [column in layout.numbers for column in layout.columns]
        self._replaced = 0
        self._sheet.append([self._text(name) for name in layout.columns])

    def _text(self, value: str) -> Any:
        """A cell of text. What XML cannot hold is replaced by a sign that shows it; a carriage return is written as its code."""
        text, times = _NOT_IN_XML.subn("\ufffd", _LIKE_A_CODE.sub(r"_x005F_\1", value))
        text = text.replace("\r", "_x000D_")
        self._replaced += times
        cell = self._new_cell(self._sheet)
        cell.value = text
        cell.data_type = "s"
        return cell

    def writerow(self, row: Sequence[Any], /) -> None:
        self._rows += 1
        if self._rows > _MOST_XLSX_ROWS or any(len(str(cell)) > _MOST_XLSX_CELL for cell in row):
            raise DataProblem(
                f"Row {self._rows:,} does not fit a spreadsheet: at most {_MOST_XLSX_ROWS:,} rows and "
                f"{_MOST_XLSX_CELL:,} characters a cell.",
                "Write .csv, .jsonl or .parquet instead.",
            )
        cells = []
        for value, number in zip(row, self._numbers, strict=True):
            if not number:
                cells.append(self._text(str(value)))
                continue
            cell = self._new_cell(self._sheet)
            cell.value = value_of(value)
            cells.append(cell)
        self._sheet.append(cells)

    def save(self, stream: Any) -> None:
        """Write the book."""
        self._book.save(stream)
        add_notice("{n} characters were replaced by \ufffd: a spreadsheet cannot hold such.", self._replaced)

    def release(self) -> None:
        """End a sheet that a failure left open."""
        with suppress(OSError, openpyxl.utils.exceptions.WorkbookAlreadySaved):
            self._sheet.close()
