"""Tables of databases, and what queries give, read as tables."""

from collections.abc import Callable, Iterator, Sequence
from itertools import count
from typing import Any

from upsort.core.errors import UsageProblem
from upsort.core.names import counted, listed
from upsort.files.connecting import connected
from upsort.files.databases import Connection, Rows, Selection, check_table
from upsort.files.reasons import ReasonKind, RejectionReason
from upsort.files.rows import Block, ReadSettings, RejectedRow, SourceTable, cell_of


class _DatabaseSource:
    """Connects when it is asked first. It may be sent to other processes, who connect for themselves."""

    def __init__(self, address: str, what: Selection) -> None:
        self.address, self.what = address, what
        self.opened: tuple[Connection, list[str], Callable[[], Rows]] | None = None

    def __reduce__(self) -> tuple[Any, ...]:
        return (_DatabaseSource, (self.address, self.what))

    def _selected(self) -> tuple[Connection, list[str], Callable[[], Rows]]:
        if self.opened is None:
            connection = connected(self.address)
            if not self.what.query:
                self.what = self.what if self.what.table else Selection(_only_table(connection, self.address))
                check_table(connection, self.what, self.address)
            self.opened = (connection, *connection.select(self.what))
        return self.opened

    @property
    def name(self) -> str:
        """Where rows come from, for people."""
        self._selected()
        return f"{self.address}#{self.what.description}"

    @property
    def columns(self) -> tuple[str, ...]:
        """Their names, each of its own."""
        used: list[str] = []
        for name in self._selected()[1]:
            candidates = (name, *(f"{name} ({number})" for number in range(2, len(used) + 3)))
            used.append(next(candidate for candidate in candidates if candidate not in used))
        return tuple(used)

    def blocks(self) -> Iterator[Block]:
        """All rows, numbered from 1."""
        name, columns, numbers = self.name, self.columns, count(1)
        for page in self._selected()[2]():
            rows, lines, refused = [], [], []
            for values, line in zip(page, numbers, strict=False):
                cells, wrong = _cells(values, columns)
                if wrong is None:
                    rows.append(cells)
                    lines.append(line)
                else:
                    refused.append(RejectedRow(name, line, wrong, tuple(cells)))
            yield Block(source=name, columns=columns, rows=rows, lines=lines, refused=refused)


def database_table(address: str, reading: ReadSettings) -> SourceTable:
    """What is to be read of a database, `reading.table` or `reading.query`; its only table where neither is said.

    address: with its password hidden. Raises DataProblem for a database or a table that is not there.
    """
    if reading.table and reading.query:
        raise UsageProblem("--table and --query are two ways of saying what to read.", "Leave one of them out.")
    source = _DatabaseSource(address, Selection(reading.table, reading.query))
    return SourceTable(name=source.name, columns=source.columns, blocks=source.blocks)


def _only_table(connection: Connection, address: str) -> str:
    there = connection.tables()
    if len(there) == 1:
        return there[0]
    named = f": {listed(there)}" if there else ""
    raise UsageProblem(
        f"{address} has {counted(len(there), 'table')}{named}.", "Name one with --table, or use --query."
    )


def _cells(values: Sequence[Any], columns: Sequence[str]) -> tuple[list[str], RejectionReason | None]:
    """The text of each value, and what is wrong with them."""
    wrong = None
    cells = []
    for value, column in zip(values, columns, strict=True):
        if isinstance(value, bytes | memoryview | bytearray):
            stored = bytes(value)
            try:
                cells.append(stored.decode("utf-8"))
            except UnicodeDecodeError:
                cells.append(stored.decode("utf-8", "backslashreplace"))
                wrong = RejectionReason(ReasonKind.BYTES, ("bytes that are no text",), f"in the column {column}")
        else:
            cells.append(cell_of(value))
    return cells, wrong
