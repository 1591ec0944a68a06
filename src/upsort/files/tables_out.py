"""Writing tables, in the kind that the file's ending names; always UTF-8, always whole or not at all."""

import io
import json
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any, Protocol, TextIO

from upsort.core.errors import DataProblem, UsageProblem
from upsort.files.writing import replacing, replacing_text

_DELIMITERS = {".csv": ",", ".tsv": "\t", ".tab": "\t"}
ENDINGS = (*_DELIMITERS, ".jsonl", ".parquet", ".xlsx")
_ROWS_A_GROUP = 20_000
_MOST_XLSX_ROWS = 1_048_575
_MOST_XLSX_CELL = 32_767


class RowWriter(Protocol):
    """Takes rows one after the other."""

    def writerow(self, row: Sequence[Any], /) -> object:
        """Write one row of cells."""

    def writerows(self, rows: Sequence[Sequence[Any]], /) -> object:
        """Write many."""


def check_ending(path: Path) -> None:
    """Raise UsageProblem for an ending that names no kind of table."""
    if path.suffix.lower() not in ENDINGS:
        raise UsageProblem(f"{path} has no ending that names a kind of table.", f"Use one of {', '.join(ENDINGS)}.")


@contextmanager
def table_file(path: Path, columns: Sequence[str]) -> Iterator[RowWriter]:
    """A writer of rows under `columns`, to a file that appears when the block ends well."""
    check_ending(path)
    match path.suffix.lower():
        case ".jsonl":
            with replacing_text(path) as text:
                yield _JsonLines(text, columns)
        case ".parquet":
            with replacing(path) as stream:
                parquet = _Parquet(stream, columns)
                yield parquet
                parquet.close()
        case ".xlsx":
            with replacing(path) as stream:
                sheet = _Spreadsheet(columns)
                yield sheet
                stream.write(sheet.content())
        case ending:
            with replacing_text(path) as text:
                yield table_stream(text, columns, _DELIMITERS[ending])


def table_stream(stream: TextIO, columns: Sequence[str], delimiter: str, with_head: bool = True) -> RowWriter:
    """A writer of rows under `columns`, to an open stream. with_head: unless the stream has a head already."""
    writer = _Delimited(stream, delimiter)
    if with_head:
        writer.writerow(columns)
    return writer


def json_lines(stream: TextIO, columns: Sequence[str]) -> RowWriter:
    """A writer of rows as JSON objects, one a line, to an open stream."""
    return _JsonLines(stream, columns)


class _Delimited:
    """Separated cells, quoted where they hold a delimiter, a quote or a line end (RFC 4180).

    Rows are written column by column of a block: most columns hold nothing that needs a quote, which one look at the whole
    column tells. That is several times as fast as looking at each cell's characters.
    """

    def __init__(self, stream: TextIO, delimiter: str) -> None:
        self._write, self._delimiter = stream.write, delimiter
        self._special = (delimiter, '"', "\n", "\r")

    def writerow(self, row: Sequence[Any], /) -> None:
        self.writerows([[cell if isinstance(cell, str) else str(cell) for cell in row]])

    def writerows(self, rows: Sequence[Sequence[str]], /) -> None:
        columns = [self._quoted(column) for column in zip(*rows, strict=True)]
        if len(columns) == 1:  # an empty cell alone on its line would be no row at all
            columns = [[cell or '""' for cell in columns[0]]]
        lines = map(self._delimiter.join, zip(*columns, strict=True))
        self._write("".join([f"{line}\n" for line in lines]))

    def _quoted(self, column: Sequence[str]) -> Sequence[str]:
        whole = "".join(column)
        special = [character for character in self._special if character in whole]
        if not special:
            return column
        return [
            '"' + cell.replace('"', '""') + '"' if any(character in cell for character in special) else cell
            for cell in column
        ]


class _Rows:
    def writerow(self, row: Sequence[Any], /) -> None:
        raise NotImplementedError

    def writerows(self, rows: Sequence[Sequence[Any]], /) -> None:
        for row in rows:
            self.writerow(row)


class _JsonLines(_Rows):
    def __init__(self, stream: TextIO, columns: Sequence[str]) -> None:
        self._stream, self._columns = stream, columns

    def writerow(self, row: Sequence[Any], /) -> None:
        json.dump(dict(zip(self._columns, row, strict=True)), self._stream, ensure_ascii=False)
        self._stream.write("\n")


class _Parquet(_Rows):
    """Text columns, written in groups of rows."""

    def __init__(self, stream: Any, columns: Sequence[str]) -> None:
        import pyarrow as pa
        from pyarrow import parquet

        self._arrow = pa
        self._schema = pa.schema([(column, pa.string()) for column in columns])
        self._writer = parquet.ParquetWriter(stream, self._schema)
        self._held: list[Sequence[Any]] = []

    def writerow(self, row: Sequence[Any], /) -> None:
        self._held.append(row)
        if len(self._held) >= _ROWS_A_GROUP:
            self._flush()

    def _flush(self) -> None:
        columns = zip(*self._held, strict=True) if self._held else [[] for _ in self._schema]
        arrays = [self._arrow.array([_sound(cell) for cell in column], self._arrow.string()) for column in columns]
        self._writer.write_table(self._arrow.Table.from_arrays(arrays, schema=self._schema))
        self._held = []

    def close(self) -> None:
        if self._held:
            self._flush()
        self._writer.close()


def _sound(cell: Any) -> str:
    return str(cell).encode("utf-8", "backslashreplace").decode("utf-8")


class _Spreadsheet(_Rows):
    """One sheet, held in memory until it is whole; cells are text, never formulas."""

    def __init__(self, columns: Sequence[str]) -> None:
        from openpyxl import Workbook

        self._book = Workbook(write_only=True)
        self._sheet = self._book.create_sheet("corpus")
        self._rows = 0
        self._sheet.append(list(columns))

    def writerow(self, row: Sequence[Any], /) -> None:
        from openpyxl.cell import WriteOnlyCell
        from openpyxl.utils.exceptions import IllegalCharacterError

        self._rows += 1
        if self._rows > _MOST_XLSX_ROWS or any(len(str(cell)) > _MOST_XLSX_CELL for cell in row):
            raise DataProblem(
                f"Row {self._rows:,} does not fit a spreadsheet: at most {_MOST_XLSX_ROWS:,} rows and "
                f"{_MOST_XLSX_CELL:,} characters a cell.",
                "Write .csv, .jsonl or .parquet instead.",
            )
        cells = []
        for value in row:
            cell = WriteOnlyCell(self._sheet)
            try:
                cell.value = str(value)
            except IllegalCharacterError:
                cell.value = "".join(
                    character for character in str(value) if character.isprintable() or character in "\n\t"
                )
            cell.data_type = "s"
            cells.append(cell)
        self._sheet.append(cells)

    def content(self) -> bytes:
        buffer = io.BytesIO()
        self._book.save(buffer)
        return buffer.getvalue()
