"""Connections to databases that are a file here: those of SQLite, and those of DuckDB (the extra `upsort[duckdb]`)."""

import re
import sqlite3
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any

from upsort.core.arrays import TextColumn
from upsort.core.errors import DataProblem, UsageProblem
from upsort.core.lazy import duckdb, pyarrow
from upsort.io.sources.addresses import DUCKDB, SQLITE, database_file
from upsort.io.sources.databases import (
    Selected,
    Selection,
    TableName,
    Values,
    attempt_to_replace,
    chosen_columns,
    key_chunks,
    page_of,
    refusals,
    standard_name,
    table_named,
    tables_named,
    within,
)
from upsort.io.tables.columnar import ColumnarRows
from upsort.io.tables.nested_values import cells_of
from upsort.io.tables.rows import ROWS_A_BLOCK, WHOLE, Chunk, ColumnType


class SQLiteConnection:
    """A file, see `Connection`. While it is read it is not held, so that others may write to it: a table comes page by page, what
    has no row numbers (views, queries) from a copy."""

    kind, reads_text = SQLITE, False
    usual_schema = ""
    longest_name = 0

    def __init__(self, address: str, writing: bool) -> None:
        self.address = address
        name = database_file(address)
        self.path = Path(name)
        if not name:
            raise UsageProblem(f"{address} names no file.", "For example: sqlite:///desk.db")
        self.made = writing and not self.path.exists()
        if not writing and not self.path.is_file():
            raise DataProblem(f"There is no database {self.path}.", "Check the name; it begins behind sqlite:///.")
        with refusals(address, (sqlite3.Error,)):
            self.connection = sqlite3.connect(
                f"{self.path.absolute().as_uri()}?mode={'rwc' if writing else 'ro'}",
                uri=True,
                isolation_level=None,
                check_same_thread=False,
            )
        self.connection.text_factory = _text
        if writing:  # else a table that a view reads cannot be replaced
            self.execute("PRAGMA legacy_alter_table = ON")
        self.selected = 0

    def schemas(self) -> list[str]:
        return []

    def tables(self, schema: str = "") -> list[str]:
        return self._named("'table', 'view'")

    def views(self, schema: str = "") -> list[str]:
        return self._named("'view', 'index'")  # an index is in the way of a table as well

    def _named(self, kinds: str) -> list[str]:
        rows = self.execute(f"SELECT name FROM sqlite_master WHERE type IN ({kinds}) ORDER BY name")
        return [str(name) for (name,) in rows if not str(name).startswith("sqlite_")]

    def same(self, one: str, other: str) -> bool:
        return one.encode().lower() == other.encode().lower()  # of ASCII alone, as SQLite compares names

    def tables_read(self, what: Selection) -> set[TableName]:
        found: set[TableName] = set()

        def note(action: int, table: str | None, *_: object) -> int:
            if action == sqlite3.SQLITE_READ and table:
                found.add(TableName(table))
            return sqlite3.SQLITE_OK

        self.connection.set_authorizer(note)
        try:
            self.execute(f"SELECT * FROM (\n{self._query(what)}\n) LIMIT 0")
        finally:
            self.connection.set_authorizer(None)
        return found

    def _query(self, what: Selection) -> str:
        return what.query.strip().rstrip(";") if what.query else f"SELECT * FROM {self.quoted(what.table)}"

    def select(self, what: Selection) -> Selected:
        row_number = self._row_number(what.table) if what.table else ""
        name, query = what.table, self._query(what)
        if not row_number:
            self.selected += 1
            name = f"upsort_selected_{self.selected}"
            self.execute(f"CREATE TEMP TABLE {name} AS SELECT * FROM (\n{query}\n)")
        with refusals(self.address, (sqlite3.Error,)):
            there = [column[0] for column in self.connection.execute(query).description]
        columns = chosen_columns(there, what, self.address)
        wanted = ", ".join(map(self.quoted, columns)) if what.columns else "*"

        def types() -> dict[str, ColumnType]:
            declared = {str(row[1]): str(row[2]) for row in self._info(name)}
            return self._types(name, columns, declared)

        if not row_number:
            return Selected(columns, lambda _: self._copied(name, wanted), types)
        table = self.quoted(name)

        def next_key(where: str, many: int) -> int | None:
            found = self.execute(f"SELECT {row_number} FROM {table}{where} ORDER BY {row_number} LIMIT 1 OFFSET {many}")
            return found[0][0] if found else None

        def chunks() -> Iterator[Chunk]:
            version, chunk = self._version(), WHOLE
            first = next(self._pages(table, row_number, wanted, WHOLE), ColumnarRows([()]))
            for chunk in key_chunks(first, next_key, row_number):
                yield chunk
            self._check_count(table, version, chunk.line - 1 + self._count(table + within(row_number, chunk)))

        return Selected(columns, lambda chunk: self._pages(table, row_number, wanted, chunk), types, chunks)

    def _copied(self, name: str, wanted: str) -> Iterator[ColumnarRows]:
        """The rows of a copy, which nobody else sees."""
        with refusals(self.address, (sqlite3.Error,)):
            cursor = self.connection.execute(f"SELECT {wanted} FROM temp.{name}")
            while page := cursor.fetchmany(ROWS_A_BLOCK):
                yield page_of(page)

    def _pages(self, name: str, row_number: str, wanted: str, chunk: Chunk) -> Iterator[ColumnarRows]:
        """The rows of a stretch of a table."""
        read, selected, version = 0, name + within(row_number, chunk), self._version()
        while page := self.execute(
            f"SELECT {wanted}, {row_number} FROM {name}{within(row_number, chunk)} ORDER BY {row_number} LIMIT {ROWS_A_BLOCK}"
        ):
            read += len(page)
            chunk = replace(chunk, begin=page[-1][-1] + 1, line=chunk.line + len(page))
            yield ColumnarRows(page_of(page).columns[:-1])
        self._check_count(selected, version, read)

    def _check_count(self, name: str, version: int, read: int) -> None:
        """Raises DataProblem where a table gave another number of rows than it counts, though nobody changed it since."""
        if (there := self._count(name)) != read and self._version() == version:
            raise DataProblem(f"{self.address} counts {there:,} rows in {name}, but gave {read:,}.", "Check the database.")

    def _count(self, name: str) -> int:
        """How many rows a table, or a stretch of it, has."""
        return int(self.execute(f"SELECT count(*) FROM {name}")[0][0])

    def _version(self) -> int:
        """A number that changes when others write to the database."""
        return int(self.execute("PRAGMA data_version")[0][0])

    def _info(self, table: str) -> list[Sequence[Any]]:
        """Number, name and declared type of each column of a table, and more."""
        return self.execute(f"PRAGMA table_xinfo({self.quoted(table)})")

    def _types(self, table: str, columns: Sequence[str], declared: Mapping[str, str]) -> dict[str, ColumnType]:
        """The types of columns. One of SQLite may hold anything, whatever is declared: the values themselves say whether all of
        them are numbers, days or times."""
        types: dict[str, ColumnType] = {}
        for name in columns:
            column, own = self.quoted(name), declared.get(name, "")
            (held,) = self.execute(f"SELECT group_concat(DISTINCT typeof({column})) FROM {self.quoted(table)}")[0]
            kinds = set(str(held or "").split(",")) - {"null"}
            standard = _STANDARD.get(frozenset(kinds), "TEXT")
            if standard == "BIGINT" and "BOOL" in own.upper():
                (least, most) = self.execute(f"SELECT min({column}), max({column}) FROM {self.quoted(table)}")[0]
                standard = "BOOLEAN" if least >= 0 and most <= 1 else standard
            if kinds == {"text"} and ("DATE" in own.upper() or "TIME" in own.upper()):
                (days, times) = self.execute(
                    f"SELECT min(date({column}) IS {column}), min(datetime({column}) IS {column}) FROM {self.quoted(table)} "
                    f"WHERE {column} IS NOT NULL"
                )[0]
                standard = "DATE" if days else "TIMESTAMP" if times else "TEXT"
            types[name] = ColumnType(standard, own, SQLITE)
        return types

    def type_name(self, type_: ColumnType | None) -> str:
        if type_ is None:
            return "TEXT"
        if type_.of == SQLITE:
            return type_.own if _PLAIN_TYPE.fullmatch(type_.own) else ""  # of which a column may hold anything
        standard = standard_name(type_, 0)  # a number of SQLite has fifteen digits
        return _SQLITE_TYPES.get(standard, standard or "TEXT")

    def _row_number(self, table: str) -> str:
        """The name of the row number of a table, one that no column has; empty where it has none."""
        kind = self.execute("SELECT type FROM sqlite_master WHERE name = :name", {"name": table})
        if [tuple(row) for row in kind] != [("table",)]:
            return ""
        columns = {str(row[1]).lower() for row in self._info(table)}
        name = next((name for name in ("_rowid_", "rowid", "oid") if name not in columns), "")
        try:
            self.connection.execute(f"SELECT {name} FROM {self.quoted(table)} LIMIT 0")
        except sqlite3.Error:  # a table without row numbers
            return ""
        return name

    def quoted(self, table: TableName | str) -> str:
        return '"' + str(table).replace('"', '""') + '"'

    @contextmanager
    def transaction(self) -> Iterator[None]:
        self.execute("BEGIN IMMEDIATE")
        try:
            yield
        except BaseException:
            self.connection.execute("ROLLBACK")
            raise
        self.execute("COMMIT")

    def execute(self, statement: str, values: Values | None = None) -> list[Sequence[Any]]:
        with refusals(self.address, (sqlite3.Error,)):
            return self.connection.execute(statement, values or {}).fetchall()

    def insert(self, table: TableName, names: Sequence[str], columns: Sequence[Sequence[Any]]) -> None:
        into = f"{self.quoted(table)} ({', '.join(map(self.quoted, names))})"
        with refusals(self.address, (sqlite3.Error, OverflowError)):
            self.connection.executemany(f"INSERT INTO {into} VALUES ({', '.join('?' * len(names))})", zip(*columns, strict=True))

    def put_in_place(self, part: TableName, target: TableName, replaced: bool) -> None:
        if replaced:
            self.execute(f"DROP TABLE {self.quoted(target)}")
        self.execute(f"ALTER TABLE {self.quoted(part)} RENAME TO {self.quoted(target)}")

    def check_replaceable(self, table: TableName) -> None:
        attempt_to_replace(self, table)

    def close(self) -> None:
        empty = self.made and not self.tables()
        self.connection.close()
        if empty:  # nothing came of what it was made for
            self.path.unlink(missing_ok=True)


_PLAIN_TYPE = re.compile(r"[\w ]*(\(\d+(, ?\d+)?\))?", re.ASCII)
"""A declared type that is nothing else in a statement; it may be any text of whoever made the file."""
_SQLITE_TYPES = {"BIGINT": "INTEGER", "DOUBLE PRECISION": "REAL"}
_STANDARD = {
    frozenset({"integer"}): "BIGINT",
    frozenset({"real"}): "DOUBLE PRECISION",
    frozenset({"integer", "real"}): "DOUBLE PRECISION",
}
"""The standard type of a column that holds such values."""


def _text(stored: bytes) -> str | bytes:
    """What SQLite holds as text; the bytes where they are none."""
    try:
        return stored.decode("utf-8")
    except UnicodeDecodeError:
        return stored


class DuckDBConnection:
    """A file, see `Connection`. It is read or written by one process at a time, as DuckDB has it."""

    kind, reads_text, longest_name = DUCKDB, True, 0
    usual_schema = "main"

    def __init__(self, address: str, writing: bool) -> None:
        self.address = address
        path = Path(database_file(address))
        if not database_file(address):
            raise UsageProblem(f"{address} names no file.", "For example: desk.duckdb")
        if not writing and not path.is_file():
            raise DataProblem(f"There is no database {path}.", "Check the name.")
        try:
            self.refused = (duckdb.Error,)
        except ImportError:
            raise UsageProblem("DuckDB is not installed.", "pip install 'upsort[duckdb]' has it.") from None
        self.made = Path() if path.exists() else path
        try:
            with refusals(address, self.refused):
                self.connection = duckdb.connect(str(path), read_only=not writing)
        except DataProblem:
            if writing and path.is_file():
                raise DataProblem(
                    f"{path} is in use, by this command perhaps: DuckDB lets nobody write to a file that is read.",
                    "Write to another file, or wait.",
                ) from None
            raise

    def schemas(self) -> list[str]:
        own = "SELECT schema_name FROM information_schema.schemata WHERE catalog_name = current_database() ORDER BY 1"
        return [str(name) for (name,) in self.execute(own)]

    def tables(self, schema: str = "") -> list[str]:
        return self._named(schema, "")

    def views(self, schema: str = "") -> list[str]:
        return self._named(schema, "AND table_type = 'VIEW'")

    def _named(self, schema: str, kind: str) -> list[str]:
        rows = self.execute(
            f"SELECT table_name FROM information_schema.tables WHERE table_schema = :schema {kind} ORDER BY 1",
            {"schema": schema or self.usual_schema},
        )
        return [str(name) for (name,) in rows]

    def same(self, one: str, other: str) -> bool:
        return one.casefold() == other.casefold()

    def tables_read(self, what: Selection) -> set[TableName]:
        return tables_named(self, what)

    def select(self, what: Selection) -> Selected:
        query = what.query.strip().rstrip(";") or f"SELECT * FROM {self.quoted(table_named(self, what.table))}"
        described = [(str(name), str(type_)) for name, type_, *_ in self.execute(f"DESCRIBE {query}")]
        there = [name for name, _ in described]
        columns = chosen_columns(there, what, self.address)
        at = [there.index(name) for name in columns] if what.columns else range(len(there))  # several may have one name
        read = [
            f"CAST(c{place} AS VARCHAR)" if described[place][1].startswith(("DATE", "TIME")) else f"c{place}" for place in at
        ]  # no other kind of value knows infinite dates
        aliases = ", ".join(f"c{place}" for place in range(len(there)))
        statement = f"SELECT {', '.join(read)} FROM (\n{query}\n) AS selected({aliases})"

        def rows(_: Chunk) -> Iterator[ColumnarRows]:
            with refusals(self.address, self.refused):
                for batch in self.connection.cursor().sql(statement).to_arrow_reader(ROWS_A_BLOCK):
                    yield ColumnarRows([cells_of(column.to_pylist()) for column in batch.columns])

        return Selected(columns, rows, lambda: {name: _type_of(type_) for name, type_ in described if type_ != "VARCHAR"})

    def type_name(self, type_: ColumnType | None) -> str:
        if type_ is None:
            return "VARCHAR"
        return type_.own if type_.of == DUCKDB else standard_name(type_, 38).replace("TEXT", "VARCHAR") or "VARCHAR"

    def quoted(self, table: TableName | str) -> str:
        parts = (table.schema, table.name) if isinstance(table, TableName) else (table,)
        return ".".join('"' + part.replace('"', '""') + '"' for part in parts if part)

    @contextmanager
    def transaction(self) -> Iterator[None]:
        self.execute("BEGIN")
        try:
            yield
        except BaseException:
            self.execute("ROLLBACK")
            raise
        self.execute("COMMIT")

    def execute(self, statement: str, values: Values | None = None) -> list[Sequence[Any]]:
        for name in values or ():
            statement = statement.replace(f":{name}", f"${name}")
        with refusals(self.address, self.refused):
            return list(self.connection.execute(statement, dict(values) if values else None).fetchall())

    def insert(self, table: TableName, names: Sequence[str], columns: Sequence[Sequence[Any]]) -> None:
        arrays = [column.array if isinstance(column, TextColumn) else pyarrow.array(column) for column in columns]
        places = list(map(str, range(len(names))))
        with refusals(self.address, (*self.refused, pyarrow.ArrowException)):
            self.connection.register("upsort_rows", pyarrow.table(arrays, names=places))
            self.execute(f"INSERT INTO {self.quoted(table)} ({', '.join(map(self.quoted, names))}) SELECT * FROM upsort_rows")
            self.connection.unregister("upsort_rows")

    def put_in_place(self, part: TableName, target: TableName, replaced: bool) -> None:
        if replaced:
            self.execute(f"DROP TABLE {self.quoted(target)}")
        self.execute(f"ALTER TABLE {self.quoted(part)} RENAME TO {self.quoted(target.name)}")

    def check_replaceable(self, table: TableName) -> None:
        attempt_to_replace(self, table)

    def close(self) -> None:
        empty = self.made.name and not self.tables()
        self.connection.close()
        if empty:  # nothing came of what it was made for
            self.made.unlink(missing_ok=True)


_WHOLE_NUMBERS = re.compile("U?(TINY|SMALL)?INT(EGER)?$|BIGINT$")


def _type_of(own: str) -> ColumnType:
    """A type of DuckDB."""
    standard = {"DOUBLE": "DOUBLE PRECISION", "FLOAT": "DOUBLE PRECISION"}.get(own, "")
    if own in ("BOOLEAN", "DATE", "TIME", "TIMESTAMP", "TIMESTAMP WITH TIME ZONE"):
        standard = own
    elif own.startswith("DECIMAL"):
        standard = own.replace("DECIMAL", "NUMERIC")
    elif _WHOLE_NUMBERS.match(own):
        standard = "BIGINT"
    return ColumnType(standard, own, DUCKDB)
