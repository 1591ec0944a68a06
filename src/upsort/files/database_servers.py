"""Databases of servers, by SQLAlchemy and the driver of each (the extra `upsort[sql]` has that of PostgreSQL)."""

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from typing import Any

from upsort.core.deferred import sqlalchemy
from upsort.core.errors import UsageProblem
from upsort.files.addresses import full_address, without_password
from upsort.files.databases import Rows, Selection, Values, refusals
from upsort.files.rows import ROWS_A_BLOCK

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
                "pip install 'upsort[sql]' has PostgreSQL's; install the driver of another database beside it.",
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
