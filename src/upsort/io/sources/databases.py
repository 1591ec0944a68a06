"""Connections to SQLite and to database servers. Reading changes nothing; writing is done in transactions.

Statements have their values as `:name`, and their names as `quoted` returns them. Servers are reached through SQLAlchemy (the
extra `upsort[sql]` has the driver of PostgreSQL)."""

import sqlite3
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager, suppress
from pathlib import Path
from typing import Any, Protocol

from upsort.core.errors import DataProblem, UsageProblem, suggestion
from upsort.core.lazy import record, sqlalchemy
from upsort.io.sources.addresses import SQLITE, full_address, message_about, scheme_of, sqlite_file
from upsort.io.tables.rows import ROWS_A_BLOCK

Rows = Iterator[Sequence[Sequence[Any]]]
Values = Mapping[str, Any]


@record(frozen=True)
class Selection:
    """What is read: a table, or what a query gives."""

    table: str = ""
    query: str = ""

    @property
    def description(self) -> str:
        """What it is called."""
        return self.table or "query"


class Connection(Protocol):
    """To one database. What goes wrong is raised as DataProblem."""

    numbers_are: str
    """The type of columns of numbers."""
    longest_name: int
    """Bytes of the name of a table or a column, UTF-8; 0 for no limit."""

    def tables(self) -> list[str]:
        """The tables and views, by name."""

    def views(self) -> list[str]:
        """Those that are no tables: nothing can be put in their place."""

    def tables_read(self, what: Selection) -> set[str]:
        """The tables and views that a selection reads, those behind views included; where the database does not say which, those
        that the query names."""

    def same(self, one: str, other: str) -> bool:
        """Whether two names are those of one table."""

    def select(self, what: Selection) -> tuple[list[str], Callable[[], Rows]]:
        """The columns, and what gives the rows, some at a time, as often as it is asked."""

    def quoted(self, name: str) -> str:
        """A table or a column as it is in a statement."""

    def transaction(self) -> AbstractContextManager[None]:
        """A block that is done as a whole, or not at all."""

    def execute(self, statement: str, values: Values | None = None) -> list[Sequence[Any]]:
        """Run a statement; the rows that it gives."""

    def insert(self, statement: str, rows: Sequence[Values]) -> None:
        """Run a statement for each row."""

    def close(self) -> None:
        """Leave the database."""


def check_table(connection: Connection, what: Selection, address: str) -> None:
    """Raises DataProblem for a table that is not there."""
    there = connection.tables()
    if what.table and what.table not in there:
        raise DataProblem(f"{address} has no table {what.table!r}.", suggestion(what.table, there, "tables"))


@contextmanager
def refusals(address: str, kinds: tuple[type[Exception], ...]) -> Iterator[None]:
    """Round what a database may refuse. kinds: of exceptions of its driver."""
    try:
        yield
    except kinds as error:
        raise DataProblem(
            f"{address} refuses: {message_about(getattr(error, 'orig', None) or error, address)}.",
            "Check the address, --table, --query and what the account may do.",
        ) from None


class SQLiteConnection:
    """A file, see `Connection`. While it is read it is not held, so that others may write to it: a table comes page by page, what
    has no row numbers (views, queries) from a copy."""

    numbers_are = "REAL"
    longest_name = 0

    def __init__(self, address: str, writing: bool) -> None:
        self.address = address
        name = sqlite_file(address)
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

    def tables(self) -> list[str]:
        return self._named("'table', 'view'")

    def views(self) -> list[str]:
        return self._named("'view', 'index'")  # an index is in the way of a table as well

    def _named(self, kinds: str) -> list[str]:
        rows = self.execute(f"SELECT name FROM sqlite_master WHERE type IN ({kinds}) ORDER BY name")
        return [str(name) for (name,) in rows if not str(name).startswith("sqlite_")]

    def same(self, one: str, other: str) -> bool:
        return one.encode().lower() == other.encode().lower()  # of ASCII alone, as SQLite compares names

    def tables_read(self, what: Selection) -> set[str]:
        found: set[str] = set()

        def note(action: int, table: str | None, *_: object) -> int:
            if action == sqlite3.SQLITE_READ and table:
                found.add(table)
            return sqlite3.SQLITE_OK

        self.connection.set_authorizer(note)
        try:
            self.execute(f"SELECT * FROM (\n{self._query(what)}\n) LIMIT 0")
        finally:
            self.connection.set_authorizer(None)
        return found

    def _query(self, what: Selection) -> str:
        return what.query.strip().rstrip(";") if what.query else f"SELECT * FROM {self.quoted(what.table)}"

    def select(self, what: Selection) -> tuple[list[str], Callable[[], Rows]]:
        row_number = self._row_number(what.table) if what.table else ""
        name, columns_of = self.quoted(what.table), self._query(what)
        if not row_number:
            self.selected += 1
            name = f"temp.upsort_selected_{self.selected}"
            self.execute(f"CREATE TEMP TABLE upsort_selected_{self.selected} AS SELECT * FROM (\n{columns_of}\n)")
        with refusals(self.address, (sqlite3.Error,)):
            columns = [column[0] for column in self.connection.execute(columns_of).description]
        if row_number:
            return columns, lambda: self._pages(name, row_number)
        return columns, lambda: self._copied(name)

    def _copied(self, name: str) -> Rows:
        """The rows of a copy, which nobody else sees."""
        with refusals(self.address, (sqlite3.Error,)):
            cursor = self.connection.execute(f"SELECT * FROM {name}")
        while True:
            with refusals(self.address, (sqlite3.Error,)):
                page = cursor.fetchmany(ROWS_A_BLOCK)
            if not page:
                return
            yield page

    def _pages(self, name: str, row_number: str) -> Rows:
        """The rows of a table. Raises DataProblem where they are not as many as it counts, though nobody changed it."""
        after: Any = None
        read, before = 0, self._state(name)
        while True:
            beyond = "" if after is None else f" WHERE {row_number} > :after"
            page = self.execute(
                f"SELECT {row_number}, * FROM {name}{beyond} ORDER BY {row_number} LIMIT {ROWS_A_BLOCK}", {"after": after}
            )
            if not page:
                break
            read += len(page)
            yield [row[1:] for row in page]
            after = page[-1][0]
        if before != (read, before[1]) and self._state(name) == before:
            raise DataProblem(f"{self.address} counts {before[0]:,} rows in {name}, but gave {read:,}.", "Check the database.")

    def _state(self, name: str) -> tuple[int, int]:
        """How many rows a table has, and a number that changes when others write to the database."""
        return int(self.execute(f"SELECT count(*) FROM {name}")[0][0]), int(self.execute("PRAGMA data_version")[0][0])

    def _row_number(self, table: str) -> str:
        """The name of the row number of a table, one that no column has; empty where it has none."""
        kind = self.execute("SELECT type FROM sqlite_master WHERE name = :name", {"name": table})
        if [tuple(row) for row in kind] != [("table",)]:
            return ""
        columns = {str(row[1]).lower() for row in self.execute(f"PRAGMA table_xinfo({self.quoted(table)})")}
        name = next((name for name in ("_rowid_", "rowid", "oid") if name not in columns), "")
        try:
            self.connection.execute(f"SELECT {name} FROM {self.quoted(table)} LIMIT 0")
        except sqlite3.Error:  # a table without row numbers
            return ""
        return name

    def quoted(self, name: str) -> str:
        return '"' + name.replace('"', '""') + '"'

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

    def insert(self, statement: str, rows: Sequence[Values]) -> None:
        with refusals(self.address, (sqlite3.Error, OverflowError)):
            self.connection.executemany(statement, rows)

    def close(self) -> None:
        empty = self.made and not self.tables()
        self.connection.close()
        if empty:  # nothing came of what it was made for
            self.path.unlink(missing_ok=True)


def _text(stored: bytes) -> str | bytes:
    """What SQLite holds as text; the bytes where they are none."""
    try:
        return stored.decode("utf-8")
    except UnicodeDecodeError:
        return stored


_DRIVERS = {"postgresql": "postgresql+psycopg"}  # where an address names none
_PATIENCE = 10  # seconds to reach a server
_TAKING_SECONDS = {"psycopg": "connect_timeout", "psycopg2": "connect_timeout", "pymysql": "connect_timeout"}


class ServerConnection:
    """See `Connection`; tables are those visible without naming a schema. Rows come through a cursor of the server, if it can."""

    numbers_are = "DOUBLE PRECISION"

    def __init__(self, address: str) -> None:
        self.address = address
        try:
            url = sqlalchemy.make_url(full_address(address))
        except ImportError:
            raise UsageProblem(
                "Databases of servers need a library that is not installed.", "pip install 'upsort[sql]' has it."
            ) from None
        except (sqlalchemy.exc.ArgumentError, ValueError):
            raise UsageProblem(f"{address} is no address of a database.", "One is postgresql://user@host/database.") from None
        url = url.set(drivername=_DRIVERS.get(url.drivername, url.drivername))
        try:
            seconds = _TAKING_SECONDS.get(url.get_driver_name())
            self.engine = sqlalchemy.create_engine(url, connect_args={seconds: _PATIENCE} if seconds else {})
        except (ImportError, sqlalchemy.exc.ArgumentError) as error:
            raise UsageProblem(
                f"What reads {address} is not installed: {str(error).rstrip('.')}.",
                "pip install 'upsort[sql]' has PostgreSQL's; install the driver of another database as well.",
            ) from None
        self.kinds = (sqlalchemy.exc.SQLAlchemyError, OSError)
        with refusals(address, self.kinds):
            self.connection = self.engine.connect()
        self.longest_name = int(self.engine.dialect.max_identifier_length)

    def tables(self) -> list[str]:
        with refusals(self.address, self.kinds):
            return sorted([*sqlalchemy.inspect(self.engine).get_table_names(), *self.views()])

    def views(self) -> list[str]:
        with refusals(self.address, self.kinds):
            return list(sqlalchemy.inspect(self.engine).get_view_names())

    def same(self, one: str, other: str) -> bool:
        return one == other if self.engine.dialect.name == "postgresql" else one.casefold() == other.casefold()

    def tables_read(self, what: Selection) -> set[str]:
        query = what.query or f"SELECT * FROM {self._quoted(what.table)}"
        named = {table for table in self.tables() if table in query}
        if self.engine.dialect.name == "postgresql":
            with refusals(self.address, self.kinds), self.engine.connect() as connection:
                plan = connection.exec_driver_sql(f"EXPLAIN (FORMAT JSON) {query}", execution_options=_AS_WRITTEN).scalar()
            return named | set(_relations(plan))
        return named

    def select(self, what: Selection) -> tuple[list[str], Callable[[], Rows]]:
        query = what.query or f"SELECT * FROM {self._quoted(what.table)}{self._in_order(what.table)}"

        @contextmanager
        def running() -> Iterator[Any]:
            with refusals(self.address, self.kinds), self.engine.connect() as connection:
                choices: dict[str, Any] = {"stream_results": True, "max_row_buffer": ROWS_A_BLOCK, **_AS_WRITTEN}
                if self.engine.dialect.name == "postgresql":
                    choices["postgresql_readonly"] = True
                with connection.execution_options(**choices).exec_driver_sql(query) as result:
                    if not result.returns_rows:
                        raise UsageProblem("The query gives no rows.", "Select something.")
                    yield result
                connection.rollback()

        def rows() -> Rows:
            with running() as result:
                yield from result.partitions(ROWS_A_BLOCK)

        with running() as result:
            columns = [str(name) for name in result.keys()]  # noqa: SIM118 - no dictionary
        return columns, rows

    def _in_order(self, table: str) -> str:
        """By its primary key, where it has one: a server promises no order of its own."""
        with refusals(self.address, self.kinds):
            keys = sqlalchemy.inspect(self.engine).get_pk_constraint(table)["constrained_columns"]
        return f" ORDER BY {', '.join(map(self._quoted, keys))}" if keys else ""

    def quoted(self, name: str) -> str:
        return self._quoted(name).replace(":", "\\:")  # no value begins there

    def _quoted(self, name: str) -> str:
        quote = self.engine.dialect.identifier_preparer.quote_identifier
        written = str(quote(name))
        return written.replace("%%", "%") if "%%" in str(quote("%")) else written  # doubled for a driver that looks for values

    @contextmanager
    def transaction(self) -> Iterator[None]:
        with refusals(self.address, self.kinds):
            begun = self.connection.begin()
        try:
            yield
        except BaseException:
            with suppress(*self.kinds):
                begun.rollback()
            raise
        with refusals(self.address, self.kinds):
            begun.commit()

    def execute(self, statement: str, values: Values | None = None) -> list[Sequence[Any]]:
        with refusals(self.address, self.kinds):
            alone = not self.connection.in_transaction()
            result = self.connection.execute(sqlalchemy.text(statement), dict(values or {}))
            rows = list(result) if result.returns_rows else []
            if alone:  # else what was read stays locked
                self.connection.commit()
            return rows

    def insert(self, statement: str, rows: Sequence[Values]) -> None:
        with refusals(self.address, self.kinds):
            self.connection.execute(sqlalchemy.text(statement), list(rows))

    def close(self) -> None:
        with suppress(*self.kinds):
            self.connection.close()
            self.engine.dispose()


_AS_WRITTEN = {"no_parameters": True}
"""Of a statement whose % the driver takes for no place of a value."""


def _relations(plan: Any) -> Iterator[str]:
    """The tables in a query plan of PostgreSQL."""
    if isinstance(plan, dict):
        yield from (str(name) for key, name in plan.items() if key == "Relation Name")
        plan = list(plan.values())
    if isinstance(plan, list):
        for part in plan:
            yield from _relations(part)


def same_database(one: str, other: str) -> bool:
    """Whether two addresses are of one database, by file, or by host and name."""
    both = (one, other)
    if SQLITE in map(scheme_of, both):
        paths = [Path(sqlite_file(address)) for address in both]
        return scheme_of(one) == scheme_of(other) and all(path.exists() for path in paths) and paths[0].samefile(paths[1])
    urls = [sqlalchemy.make_url(full_address(address)) for address in both]
    places = [("" if url.host in ("localhost", "127.0.0.1", "::1", None) else url.host, url.database) for url in urls]
    return scheme_of(one) == scheme_of(other) and places[0] == places[1]


def connected(address: str, writing: bool = False) -> Connection:
    """A connection. address: with its password hidden. Raises DataProblem where there is none to be had, UsageProblem for what is
    no address."""
    if scheme_of(address) == SQLITE:
        return SQLiteConnection(address, writing)
    return ServerConnection(address)
