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
from upsort.io.sources.addresses import SQLITE, full_address, scheme_of, without_password
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

    def tables(self) -> list[str]:
        """The tables and views, by name."""

    def select(self, what: Selection) -> tuple[list[str], Callable[[], Rows]]:
        """The columns, and what gives the rows, some at a time, as often as it is asked."""

    def quoted(self, table: str, suffix: str = "") -> str:
        """A table as it is in a statement. suffix: a part of its name that is added."""

    def column(self, name: str) -> str:
        """A column as it is in a statement."""

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
        message = " ".join(str(getattr(error, "orig", None) or error).split())
        raise DataProblem(
            f"{address} refuses: {without_password(message, address)[:300].rstrip('.?^ ')}.",
            "Check the address, --table, --query and what the account may do.",
        ) from None


class SQLiteConnection:
    """A file, see `Connection`. While it is read it is not held: rows come page by page, so that others may write to it."""

    numbers_are = "REAL"

    def __init__(self, address: str, writing: bool) -> None:
        self.address = address
        _, _, name = address.partition(":///")
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
        self.selected = 0

    def tables(self) -> list[str]:
        rows = self.execute("SELECT name FROM sqlite_master WHERE type IN ('table', 'view') ORDER BY name")
        return [str(name) for (name,) in rows if not str(name).startswith("sqlite_")]

    def select(self, what: Selection) -> tuple[list[str], Callable[[], Rows]]:
        name = self.quoted(what.table) if what.table else ""
        columns_of = f"SELECT * FROM {name} LIMIT 0"
        if not name or not self._has_row_numbers(what.table):
            self.selected += 1
            view = f"temp.upsort_selected_{self.selected}"
            query = what.query.strip().rstrip(";") if what.query else f"SELECT * FROM {name}"
            self.execute(f"CREATE TEMP TABLE upsort_selected_{self.selected} AS SELECT * FROM (\n{query}\n)")
            name, columns_of = view, query
        with refusals(self.address, (sqlite3.Error,)):
            columns = [column[0] for column in self.connection.execute(columns_of).description]

        def rows() -> Rows:
            after: Any = None
            while True:
                beyond = "" if after is None else " WHERE _rowid_ > :after"
                page = self.execute(
                    f"SELECT _rowid_, * FROM {name}{beyond} ORDER BY _rowid_ LIMIT {ROWS_A_BLOCK}", {"after": after}
                )
                if not page:
                    return
                yield [row[1:] for row in page]
                after = page[-1][0]

        return columns, rows

    def _has_row_numbers(self, table: str) -> bool:
        kind = self.execute("SELECT type FROM sqlite_master WHERE name = :name", {"name": table})
        try:
            self.connection.execute(f"SELECT _rowid_ FROM {self.quoted(table)} LIMIT 0")
        except sqlite3.Error:
            return False
        return [tuple(row) for row in kind] == [("table",)]

    def quoted(self, table: str, suffix: str = "") -> str:
        return self.column(table + suffix)

    def column(self, name: str) -> str:
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
    """See `databases.Connection`. Rows are read through a cursor of the server, where its driver has such."""

    numbers_are = "DOUBLE PRECISION"

    def __init__(self, address: str) -> None:
        self.address = address
        try:
            url = sqlalchemy.make_url(full_address(address))
        except ImportError:
            raise UsageProblem(
                "Databases of servers need a library that is not installed.", "pip install 'upsort[sql]' has it."
            ) from None
        except (sqlalchemy.exc.ArgumentError, ValueError) as error:
            raise UsageProblem(
                f"{address} is no address of a database: {without_password(str(error), address).rstrip('.')}.",
                "One is postgresql://user@host/database.",
            ) from None
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

    def tables(self) -> list[str]:
        """All that are visible without naming a schema."""
        with refusals(self.address, self.kinds):
            seen = sqlalchemy.inspect(self.engine)
            return sorted([*seen.get_table_names(), *seen.get_view_names()])

    def select(self, what: Selection) -> tuple[list[str], Callable[[], Rows]]:
        query = what.query or f"SELECT * FROM {self._quoted(what.table)}{self._in_order(what.table)}"

        @contextmanager
        def running() -> Iterator[Any]:
            with refusals(self.address, self.kinds), self.engine.connect() as connection:
                choices: dict[str, Any] = {"stream_results": True, "max_row_buffer": ROWS_A_BLOCK}
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

    def quoted(self, table: str, suffix: str = "") -> str:
        """As `databases.Connection`."""
        return self.column(table + suffix)

    def column(self, name: str) -> str:
        """As `databases.Connection`."""
        return self._quoted(name).replace(":", "\\:")  # no value begins there

    def _quoted(self, name: str) -> str:
        return str(self.engine.dialect.identifier_preparer.quote_identifier(name))

    @contextmanager
    def transaction(self) -> Iterator[None]:
        """As `databases.Connection`."""
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
        """As `databases.Connection`."""
        with refusals(self.address, self.kinds):
            alone = not self.connection.in_transaction()
            result = self.connection.execute(sqlalchemy.text(statement), dict(values or {}))
            rows = list(result) if result.returns_rows else []
            if alone:  # else what was read stays locked
                self.connection.commit()
            return rows

    def insert(self, statement: str, rows: Sequence[Values]) -> None:
        """As `databases.Connection`."""
        with refusals(self.address, self.kinds):
            self.connection.execute(sqlalchemy.text(statement), list(rows))

    def close(self) -> None:
        """As `databases.Connection`."""
        with suppress(*self.kinds):
            self.connection.close()
            self.engine.dispose()


def connected(address: str, writing: bool = False) -> Connection:
    """A connection. address: with its password hidden. Raises DataProblem where there is none to be had, UsageProblem for what is
    no address."""
    if scheme_of(address) == SQLITE:
        return SQLiteConnection(address, writing)
    return ServerConnection(address)
