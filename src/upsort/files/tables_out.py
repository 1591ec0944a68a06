"""Writing tables: comma- or tab-separated by the file's ending, always UTF-8, one line end style."""

import csv
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Protocol, TextIO

from upsort.core.errors import UsageProblem
from upsort.files.writing import replacing_text

_DELIMITERS = {".csv": ",", ".tsv": "\t", ".tab": "\t"}


class RowWriter(Protocol):
    """Takes rows one after the other."""

    def writerow(self, row: Sequence[object]) -> object:
        """Write one row of cells."""

    def writerows(self, rows: Sequence[Sequence[object]]) -> object:
        """Write many."""


def delimiter_for(path: Path) -> str:
    """The delimiter that a file's ending stands for. Raises UsageProblem for an ending that is none of ours."""
    try:
        return _DELIMITERS[path.suffix.lower()]
    except KeyError:
        raise UsageProblem(
            f"{path} has no ending that names a kind of table.", f"Use one of {', '.join(_DELIMITERS)}."
        ) from None


@contextmanager
def table_file(path: Path, columns: Sequence[str]) -> Iterator[RowWriter]:
    """A writer of rows under `columns`, to a file that appears when the block ends well."""
    delimiter = delimiter_for(path)
    with replacing_text(path) as stream:
        yield table_stream(stream, columns, delimiter)


def table_stream(stream: TextIO, columns: Sequence[str], delimiter: str) -> RowWriter:
    """A writer of rows under `columns`, to an open stream."""
    writer = csv.writer(stream, delimiter=delimiter, lineterminator="\n")
    writer.writerow(columns)
    return writer
