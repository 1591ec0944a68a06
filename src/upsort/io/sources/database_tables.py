"""Tables and queries of databases as tables to read, and a table to write that can be resumed.

Rows go to `TABLE_unfinished` next to the target (a digest for TABLE where that is too long); each batch is one transaction,
which also notes in `upsort_unfinished` how many input rows are done. The target appears, or is replaced, in one transaction at
the end."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import replace
from hashlib import sha256
from pathlib import Path
from types import TracebackType
from typing import Any, Self

from upsort.core.arrays import TextColumn, holds_any, lengths_of
from upsort.core.errors import DataProblem, Problem, ResumeProblem, UsageProblem, counted, listed
from upsort.core.lazy import sqlalchemy
from upsort.io.outputs.atomic import keep_unfinished
from upsort.io.outputs.table_file import RunNote, check_same_run
from upsort.io.outputs.writers import value_of
from upsort.io.sources.addresses import (
    DUCKDB,
    SQLITE,
    database_file,
    full_address,
    is_database,
    scheme_of,
    whole_address,
    without_secrets,
)
from upsort.io.sources.databases import Connection, Selected, Selection, check_table, table_named
from upsort.io.sources.file_databases import DuckDBConnection, SQLiteConnection
from upsort.io.sources.postgresql import server_connection
from upsort.io.tables.nested_values import AbsentCell, BytesCell, TypedCell
from upsort.io.tables.rows import WHOLE, Block, Chunk, Chunking, ColumnType, ReadSettings, SourceTable, TableLayout


def connected(address: str, writing: bool = False) -> Connection:
    """A connection. address: with its password hidden. Raises DataProblem where there is none to be had, UsageProblem for what is
    no address."""
    files: dict[str, Callable[[str, bool], Connection]] = {SQLITE: SQLiteConnection, DUCKDB: DuckDBConnection}
    of_file = files.get(scheme_of(address))
    return of_file(address, writing) if of_file is not None else server_connection(address)


def same_database(one: str, other: str) -> bool:
    """Whether two addresses are of one database, by file, or by host and name."""
    both = (one, other)
    if any(map(database_file, both)):
        paths = [Path(database_file(address)) for address in both]
        return scheme_of(one) == scheme_of(other) and all(path.exists() for path in paths) and paths[0].samefile(paths[1])
    urls = [sqlalchemy.make_url(full_address(address)) for address in both]
    places = [("" if url.host in ("localhost", "127.0.0.1", "::1", None) else url.host, url.database) for url in urls]
    return scheme_of(one) == scheme_of(other) and places[0] == places[1]


class _DatabaseSource:
    """Connects when it is asked first. It may be sent to other processes, who connect for themselves, by `place`."""

    def __init__(self, address: str, what: Selection, place: str = "") -> None:
        self.address, self.what, self.place = address, what, place
        self.opened: Selected | None = None

    def __reduce__(self) -> tuple[Any, ...]:
        return (_DatabaseSource, (self.address, self.what, self.place or whole_address(self.address)))

    def _selected(self) -> Selected:
        if self.opened is None:
            try:
                connection = connected(without_secrets(self.place) or self.address)
            except Problem as problem:
                if self.place:  # elsewhere: another machine than the one that found it
                    raise DataProblem(problem.what, problem.remedy) from ConnectionError()
                raise
            if not self.what.query:
                self.what = self.what if self.what.table else replace(self.what, table=_only_table(connection))
                check_table(connection, table_named(connection, self.what.table))
            self.opened = connection.select(self.what)
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
        for name in self._selected().columns:
            candidates = (name, *(f"{name} ({number})" for number in range(2, len(used) + 3)))
            used.append(next(candidate for candidate in candidates if candidate not in used))
        return tuple(used)

    def types(self) -> dict[str, ColumnType]:
        """Of the columns that are no text."""
        selected = self._selected()
        if len({*selected.columns}) < len(selected.columns):
            return {}  # of several of one name
        return dict(selected.types())

    @property
    def division(self) -> Chunking | None:
        """How it is read in stretches, where it can be; by this process alone, where only that has the password."""
        return Chunking(self.chunks, self.blocks, not whole_address(self.address)) if self._selected().chunks else None

    def chunks(self) -> Iterator[Chunk]:
        """The stretches."""
        found = self._selected().chunks
        return found() if found is not None else iter([WHOLE])

    def blocks(self, chunk: Chunk = WHOLE) -> Iterator[Block]:
        """The rows of a stretch, numbered from 1 in the whole."""
        name, columns, line = self.name, self.columns, chunk.line
        for rows in self._selected().rows(chunk):
            yield Block(source=name, columns=columns, rows=rows, lines=list(range(line, line + len(rows))))
            line += len(rows)


def database_table(address: str, reading: ReadSettings) -> SourceTable:
    """What is to be read of a database, `reading.table` or `reading.query`; its only table where neither is said.

    address: with its password hidden. Raises DataProblem for a database or a table that is not there."""
    if reading.query and (reading.table or reading.columns):
        other = "--table" if reading.table else "--columns"
        raise UsageProblem(f"{other} and --query are two ways of saying what to read.", "Leave one of them out.")
    source = _DatabaseSource(address, Selection(reading.table, reading.query, reading.columns))
    return SourceTable(
        name=source.name, columns=source.columns, blocks=source.blocks, division=source.division, types=source.types
    )


def _only_table(connection: Connection) -> str:
    there = connection.tables()
    if len(there) == 1:
        return there[0]
    named = f": {listed(there)}" if there else ""
    raise UsageProblem(
        f"{connection.address} has {counted(len(there), 'table')}{named}.", "Name one with --table, or use --query."
    )


def common_types(tables: Sequence[SourceTable]) -> dict[str, ColumnType]:
    """The types of the columns that are of one type in all tables that have them."""
    types: dict[str, ColumnType | None] = {}
    for table in tables:
        own = table.types()
        for name in table.columns:
            types[name] = own.get(name) if types.get(name, own.get(name)) == own.get(name) else None
    return {name: type_ for name, type_ in types.items() if type_ is not None}


def check_not_read(place: tuple[str, str], sources: Sequence[str], what: Selection) -> None:
    """Raise DataProblem where a table, at an address, is among those that are read. sources: names of files, and addresses."""
    address, target = place
    for source in sources:
        if not is_database(source) or not same_database(source, address):
            continue
        connection = connected(source)
        try:
            named = what if what.query or what.table else Selection(_only_table(connection))
            written = table_named(connection, target, "--into")
            read = connection.tables_read(named)
            if any(connection.same(table.name, written.name) and table.schema == written.schema for table in read):
                raise DataProblem(
                    f"{target} is read by this command, and would be written over.", "Choose another name with --into."
                )
        finally:
            connection.close()


_SUFFIX = "_unfinished"
_NOTES = "upsort_unfinished"
_DIGEST = 16  # hexadecimal digits that represent a name too long for the suffix
_ROWS_AT_ONCE = 5000  # that a driver is given
_NUMBER = ColumnType("DOUBLE PRECISION", "", "")


class DatabaseTable:
    """A block in which rows are written, and told how many input rows are done; see `resumable.ResumableTable`.

    place: the address of the database, with its password hidden, and the table. key: what must be the same for going on. resume:
    whether to resume an earlier run. overwrite: whether the table, or what an earlier run left, may be replaced. Raises
    DataProblem where the table is there and is not to be replaced, or an earlier run left rows and is not to be resumed, or was
    another one."""

    def __init__(
        self, place: tuple[str, str], layout: TableLayout, key: Mapping[str, Any], resume: bool, overwrite: bool
    ) -> None:
        self.address, named = place
        self.layout, self.key = layout, dict(key)
        self.rows = 0
        self.state: dict[str, Any] = {}
        self.buffered: list[Sequence[Sequence[Any]]] = []  # stretches of rows, column by column
        self.connection: Connection = connected(self.address, writing=True)
        try:
            self.target = table_named(self.connection, named, "--into")
            self._begin(resume, overwrite)
        except BaseException:
            self.connection.close()
            raise

    def _begin(self, resume: bool, overwrite: bool) -> None:
        there = self.connection.tables(self.target.schema)
        self._check_names(there)
        if self.target.name in there and not overwrite:
            raise DataProblem(
                f"{self.address} has a table {str(self.target)!r}, which is kept.",
                "Choose another name with --into, or replace it with --overwrite.",
            )
        self.again = "--resume --overwrite" if self.target.name in there else "--resume"
        self.part, self.notes = self.connection.quoted(self.unfinished), self.connection.quoted(self.target.beside(_NOTES))
        earlier = self._noted() if _NOTES in there and self.unfinished.name in there else None
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
        if earlier is None and self.unfinished.name in there:
            raise DataProblem(
                f"{self.address} has a table {self.unfinished} that is no unfinished run's, and is kept.",
                "Choose another name with --into.",
            )
        self.connection.check_replaceable(self.target)
        try:
            self._create(_NOTES in there, earlier is not None)
        except DataProblem:
            with suppress(DataProblem):  # where tables are made at once, whatever a transaction does
                self._forget()
            raise

    def _check_names(self, there: Sequence[str]) -> None:
        """Settle the names of the target and of the table of unfinished rows. Raises DataProblem or UsageProblem for names that
        the database cannot give, or gives to something else."""
        name, same, most = self.target.name, self.connection.same, self.connection.longest_name
        if same(name[-len(_SUFFIX) :], _SUFFIX):
            raise UsageProblem(f"The name {name} is reserved for unfinished tables.", "Choose another name with --into.")
        if any(same(name, view) for view in self.connection.views(self.target.schema)):
            raise DataProblem(f"{self.target} is no table, and is kept.", "Choose another name with --into.")
        for each in (name, *self.layout.columns):
            if most and len(each.encode()) > most:
                raise DataProblem(
                    f"The name {each!r} is too long: {self.address} takes {most} bytes.",
                    "Choose another name with --into." if each is name else "Give the column a shorter name.",
                )
        self.target = self.target.beside(next((table for table in there if same(table, name)), name))
        unfinished = f"{self.target.name}{_SUFFIX}"
        if most and len(unfinished.encode()) > most:
            digest = sha256(self.target.name.encode()).hexdigest()[:_DIGEST]
            unfinished = f"upsort_{digest}{_SUFFIX}"
        self.unfinished = self.target.beside(unfinished)

    def _create(self, with_notes: bool, again: bool) -> None:
        """An empty table next to the target, and the note of it."""
        types = {**self.layout.types, **dict.fromkeys(self.layout.numbers, _NUMBER)}
        columns = ", ".join(
            f"{self.connection.quoted(name)} {self.connection.type_name(types.get(name))}" for name in self.layout.columns
        )
        self.noted = self._note(0, {})
        with self.connection.transaction():
            if not with_notes:
                self.connection.execute(f"CREATE TABLE {self.notes} (name VARCHAR(200) PRIMARY KEY, held TEXT)")
            if again:
                self.connection.execute(f"DROP TABLE {self.part}")
                self.connection.execute(f"DELETE FROM {self.notes} WHERE name = :name", {"name": self.target.name})
            self.connection.execute(f"CREATE TABLE {self.part} ({columns})")
            self.connection.execute(
                f"INSERT INTO {self.notes} (name, held) VALUES (:name, :held)", {"name": self.target.name, "held": self.noted}
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
                self._drop()
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
        self.write_columns([*zip(*rows, strict=True)])

    def write_columns(self, columns: Sequence[Sequence[Any]], /) -> None:
        """The same, given column by column."""
        self.buffered += [columns] if columns else []

    def done(self, rows: int, state: Mapping[str, Any]) -> None:
        """Write what was taken: so many input rows are done. state: what the run needs to know of itself when it goes on."""
        before, noted = self.noted, self._note(rows, state)
        with self.connection.transaction():
            now = self._noted()
            if now != before:
                raise DataProblem(f"{self.unfinished} is being written by another run.", "Wait for it, or choose another --into.")
            self._insert()
            self.connection.execute(
                f"UPDATE {self.notes} SET held = :held WHERE name = :name", {"name": self.target.name, "held": noted}
            )
        self.buffered, self.rows, self.noted = [], rows, noted

    def _insert(self) -> None:
        """Write what was taken."""
        for columns in self.buffered:
            for begin in range(0, len(columns[0]), _ROWS_AT_ONCE):
                some = [cells[begin : begin + _ROWS_AT_ONCE] for cells in columns]
                values = [self._values(name, cells) for name, cells in zip(self.layout.columns, some, strict=True)]
                self.connection.insert(self.unfinished, self.layout.columns, values)

    def _values(self, column: str, cells: Sequence[Any]) -> Sequence[Any]:
        """The values of a column; text that the database makes numbers of, where it can."""
        type_, number = self.layout.types.get(column), column in self.layout.numbers
        own = type_ is not None and type_.of == self.connection.kind
        typed = number or (type_ is not None and type_.standard != "TEXT" and bool(own or type_.standard))
        sound = isinstance(cells, TextColumn) and not holds_any(cells, "\0")
        if sound and (not typed or (self.connection.reads_text and lengths_of(cells).all())):
            return cells
        if typed:
            return [value_of(cell) if number else _value(cell) for cell in cells]
        return [_any_value(cell) if own else _text_or_none(cell) for cell in cells]

    def _finish(self) -> None:
        """Let the table take its name."""
        replaced = self.target.name in self.connection.tables(self.target.schema)
        with self.connection.transaction():
            self._insert()
            self.connection.put_in_place(self.unfinished, self.target, replaced)
            self._forget()

    def _drop(self) -> None:
        """Leave nothing of this run."""
        with self.connection.transaction():
            self._forget()
            self.connection.execute(f"DROP TABLE {self.part}")

    def _forget(self) -> None:
        """Remove the note, and the table of notes with the last of them."""
        self.connection.execute(f"DELETE FROM {self.notes} WHERE name = :name", {"name": self.target.name})
        if not self.connection.execute(f"SELECT name FROM {self.notes}"):
            self.connection.execute(f"DROP TABLE {self.notes}")

    def _note(self, rows: int, state: Mapping[str, Any]) -> str:
        return RunNote(self.key, rows, dict(state)).text()

    def _noted(self) -> str | None:
        """The note that is there."""
        notes = self.connection.execute(f"SELECT held FROM {self.notes} WHERE name = :name", {"name": self.target.name})
        return str(notes[0][0]) if notes else None


def _text_or_none(cell: Any) -> str | bytes | None:
    """A cell as a value of a column of text; None for nothing at all."""
    if isinstance(cell, AbsentCell) or (isinstance(cell, TypedCell) and cell.value is None):
        return None
    return _sound(cell)


def _any_value(cell: Any) -> Any:
    """A cell as a value of a column that may hold anything."""
    return cell.value if isinstance(cell, TypedCell | BytesCell) else _text_or_none(cell)


def _value(cell: Any) -> Any:
    """A cell as a value of a column that has another type; None for an empty one."""
    if isinstance(cell, TypedCell | BytesCell):
        return cell.value
    return _sound(cell) if cell else None


def _sound(cell: Any) -> str:
    """A cell as databases take it: none of them takes half a character, and PostgreSQL no zero byte."""
    return str(cell).encode("utf-8", "backslashreplace").decode("utf-8").replace("\0", "\\x00")
