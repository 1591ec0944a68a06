"""Tables and queries of databases as tables to read, and a table to write that can be resumed.

Rows go to `TABLE_unfinished` next to the target (a digest for TABLE where that is too long); each batch is one transaction,
which also notes in `upsort_unfinished` how many input rows are done. The target appears, or is replaced, in one transaction at
the end."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from hashlib import sha256
from itertools import count
from types import TracebackType
from typing import Any, Self

from upsort.core.errors import DataProblem, ResumeProblem, UsageProblem, counted, listed
from upsort.io.outputs.atomic import keep_unfinished
from upsort.io.outputs.table_file import RunNote, check_same_run
from upsort.io.outputs.writers import value_of
from upsort.io.sources.addresses import is_database
from upsort.io.sources.databases import Connection, Rows, Selection, Values, check_table, connected, same_database
from upsort.io.tables.rows import Block, ReadSettings, ReasonKind, RejectedRow, RejectionReason, SourceTable, TableLayout, cell_of


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

    address: with its password hidden. Raises DataProblem for a database or a table that is not there."""
    if reading.table and reading.query:
        raise UsageProblem("--table and --query are two ways of saying what to read.", "Leave one of them out.")
    source = _DatabaseSource(address, Selection(reading.table, reading.query))
    return SourceTable(name=source.name, columns=source.columns, blocks=source.blocks)


def _only_table(connection: Connection, address: str) -> str:
    there = connection.tables()
    if len(there) == 1:
        return there[0]
    named = f": {listed(there)}" if there else ""
    raise UsageProblem(f"{address} has {counted(len(there), 'table')}{named}.", "Name one with --table, or use --query.")


def check_not_read(place: tuple[str, str], sources: Sequence[str], what: Selection) -> None:
    """Raise DataProblem where a table, at an address, is among those that are read. sources: names of files, and addresses."""
    address, target = place
    for source in sources:
        if not is_database(source) or not same_database(source, address):
            continue
        connection = connected(source)
        try:
            named = what if what.query or what.table else Selection(_only_table(connection, source))
            read = connection.tables_read(named)
            if any(connection.same(table, target) for table in (named.table, *read)):
                raise DataProblem(
                    f"{target} is read by this command, and would be written over.", "Choose another name with --into."
                )
        finally:
            connection.close()


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


_SUFFIX = "_unfinished"
_NOTES = "upsort_unfinished"
_DIGEST = 16  # hexadecimal digits that represent a name too long for the suffix
_ROWS_AT_ONCE = 5000  # that a driver is given


class DatabaseTable:
    """A block in which rows are written, and told how many input rows are done; see `resumable.ResumableTable`.

    place: the address of the database, with its password hidden, and the table. key: what must be the same for going on. resume:
    whether to resume an earlier run. overwrite: whether the table, or what an earlier run left, may be replaced. Raises
    DataProblem where the table is there and is not to be replaced, or an earlier run left rows and is not to be resumed, or was
    another one."""

    def __init__(
        self, place: tuple[str, str], layout: TableLayout, key: Mapping[str, Any], resume: bool, overwrite: bool
    ) -> None:
        self.address, self.table = place
        self.layout, self.key = layout, dict(key)
        self.rows = 0
        self.state: dict[str, Any] = {}
        self.buffered: list[Sequence[Any]] = []
        self.connection: Connection = connected(self.address, writing=True)
        try:
            self._begin(resume, overwrite)
        except BaseException:
            self.connection.close()
            raise

    def _begin(self, resume: bool, overwrite: bool) -> None:
        there = self.connection.tables()
        self._check_names(there)
        if self.table in there and not overwrite:
            raise DataProblem(
                f"{self.address} has a table {self.table!r}, which is kept.",
                "Choose another name with --into, or replace it with --overwrite.",
            )
        self.again = "--resume --overwrite" if self.table in there else "--resume"
        self.target = self.connection.quoted(self.table)
        self.part, self.notes = self.connection.quoted(self.unfinished), self.connection.quoted(_NOTES)
        earlier = self._noted() if _NOTES in there and self.unfinished in there else None
        if earlier is not None and resume:
            note = RunNote.read(earlier, self.notes)
            check_same_run(note.key, self.key)
            self.rows, self.state, self.noted = note.rows, note.state, earlier
            return
        if earlier is not None and not overwrite and RunNote.read(earlier, self.notes).rows:
            raise DataProblem(
                f"{self.address} has what an interrupted run left, {self.unfinished}.",
                f"Resume it: {self.again}. Or start over: --overwrite.",
            )
        if earlier is None and self.unfinished in there:
            raise DataProblem(
                f"{self.address} has a table {self.unfinished} that is no unfinished run's, and is kept.",
                "Choose another name with --into.",
            )
        self._create(_NOTES in there, earlier is not None)

    def _check_names(self, there: Sequence[str]) -> None:
        """Settle the names of the target and of the table of unfinished rows. Raises DataProblem or UsageProblem for names that
        the database cannot give, or gives to something else."""
        name, same, most = self.table, self.connection.same, self.connection.longest_name
        if same(name[-len(_SUFFIX) :], _SUFFIX):
            raise UsageProblem(f"The name {name} is reserved for unfinished tables.", "Choose another name with --into.")
        if any(same(name, view) for view in self.connection.views()):
            raise DataProblem(f"{name} is no table, and is kept.", "Choose another name with --into.")
        for each in (name, *self.layout.columns):
            if most and len(each.encode()) > most:
                raise DataProblem(
                    f"The name {each!r} is too long: {self.address} takes {most} bytes.",
                    "Choose another name with --into." if each is name else "Give the column a shorter name.",
                )
        self.table = next((table for table in there if same(table, name)), name)
        self.unfinished = f"{self.table}{_SUFFIX}"
        if most and len(self.unfinished.encode()) > most:
            digest = sha256(self.table.encode()).hexdigest()[:_DIGEST]
            self.unfinished = f"upsort_{digest}{_SUFFIX}"

    def _create(self, with_notes: bool, again: bool) -> None:
        """An empty table next to the target, and the note of it."""
        columns = ", ".join(
            f"{self.connection.quoted(name)} {self.connection.numbers_are if name in self.layout.numbers else 'TEXT'}"
            for name in self.layout.columns
        )
        self.noted = self._note(0, {})
        with self.connection.transaction():
            if not with_notes:
                self.connection.execute(f"CREATE TABLE {self.notes} (name VARCHAR(200) PRIMARY KEY, held TEXT)")
            if again:
                self.connection.execute(f"DROP TABLE {self.part}")
                self.connection.execute(f"DELETE FROM {self.notes} WHERE name = :name", {"name": self.table})
            self.connection.execute(f"CREATE TABLE {self.part} ({columns})")
            self.connection.execute(
                f"INSERT INTO {self.notes} (name, held) VALUES (:name, :held)", {"name": self.table, "held": self.noted}
            )

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        try:
            if error is None:
                self._finish()
            elif isinstance(error, ResumeProblem):
                return
            elif self.rows:
                keep_unfinished(self._resume_note())
            else:
                with self.connection.transaction():
                    self._forget()
                    self.connection.execute(f"DROP TABLE {self.part}")
        except DataProblem:
            if error is None:
                keep_unfinished(self._resume_note())
                raise  # else what went wrong first is reported
        finally:
            self.connection.close()

    def _resume_note(self) -> str:
        return f"{self.rows:,} rows are done and kept in {self.unfinished}; resume with {self.again}."

    def writerow(self, row: Sequence[Any], /) -> None:
        """Write one row."""
        self.writerows([row])

    def writerows(self, rows: Sequence[Sequence[Any]], /) -> None:
        """Take rows, to be written at the next `done`."""
        self.buffered += rows

    def done(self, rows: int, state: Mapping[str, Any]) -> None:
        """Write what was taken: so many input rows are done. state: what the run needs to know of itself when it goes on."""
        before, noted = self.noted, self._note(rows, state)
        with self.connection.transaction():
            now = self._noted()
            if now != before:
                raise DataProblem(f"{self.unfinished} is being written by another run.", "Wait for it, or choose another --into.")
            self._insert(self.buffered)
            self.connection.execute(
                f"UPDATE {self.notes} SET held = :held WHERE name = :name", {"name": self.table, "held": noted}
            )
        self.buffered, self.rows, self.noted = [], rows, noted

    def _insert(self, rows: Sequence[Sequence[Any]]) -> None:
        names = [f"c{number}" for number in range(len(self.layout.columns))]
        columns = ", ".join(map(self.connection.quoted, self.layout.columns))
        statement = f"INSERT INTO {self.part} ({columns}) VALUES ({', '.join(f':{name}' for name in names)})"
        numbers = [column in self.layout.numbers for column in self.layout.columns]
        for begin in range(0, len(rows), _ROWS_AT_ONCE):
            values: list[Values] = [
                {name: value_of(cell) if number else _sound(cell) for name, number, cell in zip(names, numbers, row, strict=True)}
                for row in rows[begin : begin + _ROWS_AT_ONCE]
            ]
            self.connection.insert(statement, values)

    def _finish(self) -> None:
        """Let the table take its name."""
        replaced = self.table in self.connection.tables()
        with self.connection.transaction():
            self._insert(self.buffered)
            if replaced:
                self.connection.execute(f"DROP TABLE {self.target}")
            self.connection.execute(f"ALTER TABLE {self.part} RENAME TO {self.target}")
            self._forget()

    def _forget(self) -> None:
        """Remove the note, and the table of notes with the last of them."""
        self.connection.execute(f"DELETE FROM {self.notes} WHERE name = :name", {"name": self.table})
        if not self.connection.execute(f"SELECT name FROM {self.notes}"):
            self.connection.execute(f"DROP TABLE {self.notes}")

    def _note(self, rows: int, state: Mapping[str, Any]) -> str:
        return RunNote(self.key, rows, dict(state)).text()

    def _noted(self) -> str | None:
        """The note that is there."""
        notes = self.connection.execute(f"SELECT held FROM {self.notes} WHERE name = :name", {"name": self.table})
        return str(notes[0][0]) if notes else None


def _sound(cell: Any) -> str:
    """A cell as databases take it: none of them takes half a character, and PostgreSQL no zero byte."""
    return str(cell).encode("utf-8", "backslashreplace").decode("utf-8").replace("\0", "\\x00")
