"""Tables as blocks of rows that know their source and line, the reasons for rejecting a row, and the record of a table format."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass, field, replace
from enum import StrEnum
from typing import Any, BinaryIO, Protocol, TextIO, TypeVar, runtime_checkable

from upsort.core.errors import DataProblem
from upsort.core.lazy import record


class ReasonKind(StrEnum):
    """The kinds of reason. {0} and {1} represents what a reason is about."""

    WIDTH = "{0} where the table has {1} columns"
    BYTES = "{0}"
    NOT_JSON = "not JSON: {0}"
    NOT_AN_OBJECT = "not a JSON object"
    DOUBLE_KEY = "a JSON key that occurs twice"
    NUMBER = "a number that cannot be stored"
    TOO_DEEP = "values nested more than {0} deep"
    TOO_LARGE = "larger than {0}"
    BROKEN_JSON = "the JSON is broken off or wrong here: {0}"
    OPEN_QUOTE = "a quote is opened that is not closed"
    NO_TEXT = "no text"
    NO_LABEL = "no label"
    NO_WEIGHT = "no weight above 0"
    NO_NUMBER = "no number in column {0}"
    NO_DATE = "no date"
    YEAR = "a date outside the years 1 to 9999"
    NO_DATE_IN = "no date in column {0}"
    SLOW_PATTERN = "the patterns of the plan took longer than {0} seconds on this machine, or made it far too long"
    TOO_SHORT = "shorter than {0} words"
    FOOTER = "a total or a note below the table"
    REPETITION = "the same few words repeated"
    JUNK = "junk"
    NOT_CHOSEN = "label not chosen"
    RARE = "rare label"
    COPY = "exact copy"
    NEAR_COPY = "near copy"
    OTHERWISE_LABELLED_COPY = "exact copy under another label"
    OTHERWISE_LABELLED_NEAR_COPY = "near copy under another label"
    HELD_OUT_GROUP = "in one group with a held-out row, or a copy of one"


@record(frozen=True)
class RejectionReason:
    """about: what is in the places of the kind's wording. detail: what is special to the row."""

    why: ReasonKind
    about: tuple[str, ...] = ()
    detail: str = ""

    @property
    def what(self) -> str:
        """The reason without its detail: what rows with the same reason have in common."""
        return self.why.value.format(*self.about)

    def __str__(self) -> str:
        return f"{self.what}, {self.detail}" if self.detail else self.what


ROWS_A_BLOCK = 2000


class EmptySource(DataProblem):
    """A file without content; among the files of a folder or archive it is passed over and told."""


@record(frozen=True, kw_only=True)
class ReadSettings:
    """How a source is to be read where that is not left to be detected.

    kind: an ending without its dot (`csv`, `jsonl`, `text` …). encoding: a codec's name. delimiter: one character. header:
    whether the first row names the columns. header_row: the line of the row that does, counted from 1; 0 where that is to be
    detected. sheet: of a spreadsheet. rows: where they are inside a JSON document. table, query, columns: of a database.
    each_line: each line of a text file is a document. label_from: where the label of a text file is taken from: `folder`,
    `name`, or a regular expression with a group. unpack_limit: bytes that one archive may unpack to. largest_cell: bytes or
    characters that one row, or one cell, may have. shared: whether other machines read, too."""

    kind: str = ""
    encoding: str = ""
    delimiter: str = ""
    header: bool | None = None
    header_row: int = 0
    sheet: str = ""
    rows: str = ""
    table: str = ""
    query: str = ""
    columns: tuple[str, ...] = ()
    each_line: bool = False
    label_from: str = ""
    unpack_limit: int = 4_000_000_000
    largest_cell: int = 64_000_000
    shared: bool = False


@dataclass(frozen=True, slots=True)
class RejectedRow:
    """A row that cannot be used. cells: what could be read of it."""

    source: str
    line: int
    reason: RejectionReason
    cells: tuple[str, ...]


Rows = Sequence[list[str]]
"""Rows of cells, a list for each."""


@record(frozen=True, kw_only=True)
class Block:
    """A stretch of one table.

    columns: names, in order. rows: one list of cells each, as long as `columns`. lines: the line (or row, or item) of `source` at
    which each row begins, counted from 1. refused: the rows of this stretch that cannot be used. files: where each row is a file
    of its own, their names."""

    source: str
    columns: tuple[str, ...]
    rows: Rows
    lines: list[int]
    refused: list[RejectedRow] = field(default_factory=list)
    files: list[str] | None = None

    def origin(self, row: int) -> str:
        """Where a row came from: `file:line`, or the file."""
        return self.files[row] if self.files is not None else f"{self.source}:{self.lines[row]}"


def blocks_of(source: str, columns: tuple[str, ...], found: Iterable[tuple[int, list[str]] | RejectedRow]) -> Iterator[Block]:
    """The rows of a table, each with its line, and between them the rejected ones, in blocks; the last one may be empty."""
    rows: list[list[str]] = []
    lines: list[int] = []
    refused: list[RejectedRow] = []
    for each in found:
        if isinstance(each, RejectedRow):
            refused.append(each)
        else:
            lines.append(each[0])
            rows.append(each[1])
        if len(rows) + len(refused) == ROWS_A_BLOCK:
            yield Block(source=source, columns=columns, rows=rows, lines=lines, refused=refused)
            rows, lines, refused = [], [], []
    yield Block(source=source, columns=columns, rows=rows, lines=lines, refused=refused)


class SourceBlocks(Protocol):
    """What comes from one source."""

    @property
    def source(self) -> str:
        """Its name."""


Some = TypeVar("Some", bound=SourceBlocks)


def in_large(
    blocks: Iterable[Some], size_of: Callable[[Some], int], joined: Callable[[list[Some]], Some], least: int
) -> Iterator[Some]:
    """Consecutive blocks of one source joined to at least such a size, but for its last; array operations like long arrays. Where
    blocks end depends on the rows alone."""
    pending: list[Some] = []
    size = 0
    for block in blocks:
        if pending and (pending[0].source != block.source or size >= least):
            yield joined(pending)
            pending, size = [], 0
        pending.append(block)
        size += size_of(block)
    if pending:
        yield joined(pending)


@record(frozen=True, kw_only=True)
class Chunk:
    """Some consecutive rows of a table, to be read without those before them. begin, end: in bytes, or in what else the table is
    counted by; end None: to its end. line: of the first row, or the number before it. last: whether the table ends with it.
    snapshot: the name of the state of a database that all stretches are of."""

    begin: int
    end: int | None
    line: int = 1
    last: bool = True
    snapshot: str = ""


WHOLE = Chunk(begin=0, end=None)
"""All of a table."""


@record(frozen=True)
class Chunking:
    """How a table is read in stretches, which together are the table. chunks: found as they are asked for. blocks: of one.
    passing, far: see `SourceEntry`."""

    chunks: Callable[[], Iterator[Chunk]]
    blocks: Callable[[Chunk], Iterator[Block]]
    passing: bool = False
    far: bool = False


@record(frozen=True)
class ColumnType:
    """Of a column of a database that holds no text. standard: its name in SQL, TEXT where it may hold anything; empty where there
    is none. own: its name in the kind of database `of`."""

    standard: str
    own: str
    of: str


@record(frozen=True)
class SourceNote:
    """What was detected about a source and should be reported: its name, and how the sentence goes on. example: of the sentence,
    what is of this source alone; sources whose sentences are else the same are reported together."""

    source: str
    rest: str
    example: str = ""

    def __str__(self) -> str:
        return self.source + self.rest

    @property
    def kind(self) -> str:
        """What sources have in common that are reported together."""
        return self.rest.replace(self.example, "") if self.example else self.rest


@record(frozen=True, kw_only=True)
class SourceTable:
    """A table that can be read any number of times. notes: what was detected about it. text, label: columns of which it is known,
    without a look at the rows, that they hold texts and labels. division: where it can be read in stretches. types: of the
    columns of a database that are no text, found when it is asked. alone: whether it is the only table that is read."""

    name: str
    columns: tuple[str, ...]
    blocks: Callable[[], Iterator[Block]]
    notes: tuple[SourceNote, ...] = ()
    text: str = ""
    label: str = ""
    division: Chunking | None = None
    types: Callable[[], Mapping[str, ColumnType]] = dict
    alone: bool = True

    def through(self, change: Callable[[Iterator[Block]], Iterator[Block]]) -> "SourceTable":
        """The same table with its blocks changed on their way, however it is read."""
        blocks, division = self.blocks, self.division
        if division is not None:
            inner = division.blocks
            division = replace(division, blocks=lambda chunk: change(inner(chunk)))
        return replace(self, blocks=lambda: change(blocks()), division=division)


@record(frozen=True, kw_only=True)
class SourceEntry:
    """One file to be read, wherever it lies: on disk, in an archive, on standard input.

    name: as shown to people. path: its folders and name inside the source. open: gives a new stream that can be rewound.
    passing: whether it is a copy that ends with the command, which no other machine has. far: whether it lies in a store, which
    every machine asks for itself. size: bytes as it lies there, packed where it is packed; None where that is not known."""

    name: str
    path: tuple[str, ...]
    open: Callable[[], BinaryIO]
    passing: bool = False
    far: bool = False
    size: int | None = None


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

    def flush(self) -> object:
        """Write what waits for further rows."""


@runtime_checkable
class ColumnWriter(Protocol):
    """A writer that would rather have columns than rows."""

    def write_columns(self, columns: Sequence[Sequence[Any]], /) -> object:
        """Write rows, given column by column."""


def text_maker(writer: RowSink) -> TextOf | None:
    """What makes the text of a writer's rows, where its rows are text."""
    return writer.text_of() if isinstance(writer, TextWriter) else None


def flush_rows(writer: RowSink) -> None:
    """Write the rows that a writer of text still holds."""
    if isinstance(writer, TextWriter):
        writer.flush()


def write_columns(writer: RowSink, columns: Sequence[Sequence[Any]]) -> None:
    """Write rows, given column by column."""
    text_of = text_maker(writer)
    write_made(writer, text_of(columns) if text_of is not None else "", columns)


def write_made(writer: RowSink, text: str, columns: Sequence[Sequence[Any]]) -> None:
    """Write rows that were made text, by the `text_maker` of the writer, or else given column by column."""
    if text and isinstance(writer, TextWriter):
        writer.write(text)
    elif isinstance(writer, ColumnWriter):
        writer.write_columns(columns)
    else:
        writer.writerows([*zip(*columns, strict=True)])


@record(frozen=True, kw_only=True)
class TableLayout:
    """How a table is laid out. columns: their names. numbers: those of them that hold numbers, in formats that know numbers.
    ending: of its file, where a format has several. with_head: unless there is a head already. types: of columns in a
    database."""

    columns: Sequence[str]
    numbers: frozenset[str] = frozenset()
    ending: str = ""
    with_head: bool = True
    types: Mapping[str, ColumnType] = field(default_factory=dict)


@record(frozen=True, kw_only=True)
class Format:
    """A format of tables.

    name: as it is reported. endings: of its files, without dots, the usual one first; they are the names of --as too. signature:
    whether the beginning of a file is that of this format; asked only of files without a name. read: one file as a table.
    read_as_one: several files as one table, where each is no table of its own. reads_with: the options of reading that it goes
    by. to_text: a writer to a text stream; tables of such a format can be resumed. to_bytes: a writer to a stream of bytes, for
    those that have to be whole. nested: whether cells may hold objects and lists."""

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
