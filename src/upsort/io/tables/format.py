"""The record that each format of tables fills in. Reading, writing, detection and help go by it."""

from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager
from typing import Any, BinaryIO, Protocol, TextIO, runtime_checkable

from upsort.core.lazy import record
from upsort.io.tables.rows import ReadSettings, SourceEntry, SourceTable

WITH_TABS = frozenset({"tsv", "tab"})
"""Endings of separated cells that have tabs between them; others have commas."""


TextOf = Callable[[Sequence[Sequence[Any]]], str]


class RowSink(Protocol):
    """Takes rows."""

    def writerows(self, rows: Sequence[Sequence[Any]], /) -> object:
        """Write many."""


class RowWriter(Protocol):
    """Takes rows one after the other."""

    def writerow(self, row: Sequence[Any], /) -> object:
        """Write one row of cells."""

    def writerows(self, rows: Sequence[Sequence[Any]], /) -> object:
        """Write many."""


@runtime_checkable
class TextWriter(Protocol):
    """A writer of rows that are text, each for itself."""

    def text_of(self) -> TextOf | None:
        """What makes the text of rows, given column by column; it may be sent to other processes. None where rows are no text
        after all."""

    def write(self, text: str, /) -> object:
        """Write such text."""


def text_maker(writer: RowSink) -> TextOf | None:
    """What makes the text of a writer's rows, where its rows are text."""
    return writer.text_of() if isinstance(writer, TextWriter) else None


def write_made(writer: RowSink, text: str, columns: Sequence[Sequence[Any]]) -> None:
    """Write rows that were made text, by the `text_maker` of the writer, or else given column by column."""
    if text and isinstance(writer, TextWriter):
        writer.write(text)
    else:
        writer.writerows([*zip(*columns, strict=True)])


@record(frozen=True)
class TableLayout:
    """How a table is laid out. columns: their names. numbers: those of them that hold numbers, in formats that know numbers.
    ending: of its file, where a format has several. with_head: unless there is a head already."""

    columns: Sequence[str]
    numbers: frozenset[str] = frozenset()
    ending: str = ""
    with_head: bool = True


@record(frozen=True, kw_only=True)
class Format:
    """A format of tables.

    name: as it is told. endings: of its files, without dots, the usual one first; they are the names of --as too. signature:
    whether the beginning of a file is that of this format; asked only of files without a name. read: one file as a table.
    read_together: several files as one table, where each is no table of its own. reads_with: the options of reading that it goes
    by. to_text: a writer to a text stream; tables of such a format can be gone on with. to_bytes: a writer to a stream of bytes,
    for those that have to be whole. nested: whether cells may hold objects and lists.
    """

    name: str
    endings: tuple[str, ...]
    signature: Callable[[bytes], bool] | None = None
    read: Callable[[SourceEntry, ReadSettings], SourceTable] | None = None
    read_as_one: Callable[[str, Sequence[SourceEntry], ReadSettings], SourceTable] | None = None
    reads_with: frozenset[str] = frozenset()
    to_text: Callable[[TextIO, TableLayout], RowWriter] | None = None
    to_bytes: Callable[[BinaryIO, TableLayout], AbstractContextManager[RowWriter]] | None = None

    nested: bool = False

    @property
    def written(self) -> bool:
        """Whether tables of this format can be written."""
        return self.to_text is not None or self.to_bytes is not None
