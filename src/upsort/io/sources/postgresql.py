"""The connection to PostgreSQL, and that to any server."""

import re
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace
from functools import lru_cache, partial
from typing import Any
from uuid import uuid4

from upsort.core.arrays import TextColumn
from upsort.core.errors import UsageProblem
from upsort.core.lazy import arrow_compute, arrow_csv, pyarrow, sqlalchemy
from upsort.io.outputs.writers import delimited_text
from upsort.io.sources.addresses import full_address, scheme_of
from upsort.io.sources.databases import (
    Connection,
    Selected,
    Selection,
    TableName,
    attempt_to_replace,
    chosen_columns,
    key_chunks,
    refusals,
    table_named,
    within,
)
from upsort.io.sources.servers import AS_WRITTEN, PATIENCE, MySQLConnection, ServerConnection
from upsort.io.tables.columnar import ColumnarRows
from upsort.io.tables.nested_values import NULL, BytesCell, TypedCell, cells_of
from upsort.io.tables.rows import ROWS_A_BLOCK, WHOLE, Chunk, ColumnType

_DRIVERS = {"postgresql": "postgresql+psycopg", "mysql": "mysql+pymysql", "mariadb": "mariadb+pymysql"}  # where none is named
_TAKING_SECONDS = {"psycopg": "connect_timeout", "psycopg2": "connect_timeout", "pymysql": "connect_timeout"}

_BOOLEAN, _BYTES, _INTEGERS, _FLOATS = 16, 17, frozenset({20, 21, 23}), frozenset({700, 701})
_TIMES = frozenset({1114, 1184})
_OWN_TO_STANDARD = {
    _BOOLEAN: "BOOLEAN",
    **dict.fromkeys(_INTEGERS, "BIGINT"),
    **dict.fromkeys(_FLOATS, "DOUBLE PRECISION"),
    1082: "DATE",
    1083: "TIME",
    1114: "TIMESTAMP",
    1184: "TIMESTAMP WITH TIME ZONE",
    1700: "NUMERIC",
}
"""Of the types of PostgreSQL, by the numbers that its catalogue gives them (pg_type.oid)."""
_FIRST_OF_USERS = 16384  # such number; those below are in every database
_TYPES_QUERY = (
    "SELECT format_type(:oid, :modifier), typcategory FROM pg_catalog.pg_type WHERE oid = :oid"  # categories: S text, X unknown
)
_MIDNIGHT, _MOMENT = "^([0-9]{4}-[0-9]{2}-[0-9]{2}) 00:00:00$", "^([0-9]{4}-[0-9]{2}-[0-9]{2}) ([^ ]+)$"
_FLAT_ARRAY = re.compile(r'\{(?:(?:"(?:[^"\\]|\\.)*"|[^"{},]+)(?:,(?!\})|(?=\})))*\}', re.DOTALL)
_ITEM = re.compile(r'"((?:[^"\\]|\\.)*)"|([^",{}]+)', re.DOTALL)
_IN_LINE = 3600  # seconds for a thread to wait until another one of this process leaves a connection
_LARGEST_PAGE = 16_000_000  # bytes
_READ: dict[str, Any] = {"postgresql_readonly": True}
_READ_SNAPSHOT = {**_READ, "isolation_level": "REPEATABLE READ"}


class PostgreSQLConnection(ServerConnection):
    """See `Connection`. Rows come and go in bulk, by COPY, as the text that the server itself makes of values; so no value is
    unknown to this program: an infinite date and one before our era are text like any other."""

    reads_text = True
    held: Any = None
    snapshot = ""

    def same(self, one: str, other: str) -> bool:
        return one == other

    def tables_read(self, what: Selection) -> set[TableName]:
        statement = self._statement(what, ())
        named = {TableName(table) for table in self.tables() if what.query and table in what.query}
        with refusals(self.address, self.kinds), self.engine.connect() as connection:
            plan = connection.exec_driver_sql(
                f"EXPLAIN (VERBOSE, FORMAT JSON) {statement}", execution_options=AS_WRITTEN
            ).scalar()
        relations = {table if table.schema != self.usual_schema else TableName(table.name) for table in _relations(plan)}
        return named | relations | ({table_named(self, what.table)} if what.table else set())

    def select(self, what: Selection) -> Selected:
        with self._reading() as cursor:
            cursor.execute(f"SELECT * FROM (\n{self._statement(what, ())}\n) AS selected LIMIT 0")
            there = [column.name for column in cursor.description]
            types = [(cursor.pgresult.ftype(place), cursor.pgresult.fmod(place)) for place in range(len(there))]
        columns = chosen_columns(there, what, self.address)
        keys = self._primary_key(table_named(self, what.table)) if what.table else []
        whole_numbers = [self._quoted(name) for name, (oid, _) in zip(there, types, strict=True) if oid in _INTEGERS]
        key = next((name for name in whole_numbers if keys == [name]), "")
        if what.columns:
            types = [types[there.index(name)] for name in columns]
        oids = [oid for oid, _ in types]

        def rows(chunk: Chunk, end: str = "") -> Iterator[ColumnarRows]:
            statement = self._statement(what, what.columns, within(key, chunk)) + end
            with (
                self._reading(chunk.snapshot) as cursor,
                cursor.copy(f"COPY (\n{statement}\n) TO STDOUT (FORMAT csv, ENCODING 'UTF8')") as copied,
            ):
                for content in _pages(copied):
                    yield ColumnarRows(_cells(content, oids))

        def chunks() -> Iterator[Chunk]:
            snapshot = self._exported_snapshot()
            first = next(rows(replace(WHOLE, snapshot=snapshot), f" LIMIT {ROWS_A_BLOCK}"), ColumnarRows([()]))
            for chunk in key_chunks(
                first, partial(self._next_key, self._place(table_named(self, what.table)), key, snapshot), key
            ):
                yield replace(chunk, snapshot=snapshot)

        return Selected(columns, rows, lambda: self._types_of(columns, types), chunks if key else None)

    def _next_key(self, table: str, key: str, snapshot: str, where: str, many: int) -> int | None:
        """See `key_chunks`."""
        with self._reading(snapshot) as cursor:
            cursor.execute(f"SELECT {key} FROM {table}{where} ORDER BY {key} LIMIT 1 OFFSET {many}")
            return next((found for (found,) in cursor), None)

    @contextmanager
    def _reading(self, snapshot: str = "") -> Iterator[Any]:
        """A block with a cursor of the driver, in a transaction that may only read. snapshot: what it sees; else all."""
        with refusals(self.address, self.kinds), self.engine.connect() as connection:
            connection.execution_options(**_READ_SNAPSHOT if snapshot else _READ)
            if snapshot:
                connection.exec_driver_sql(f"SET TRANSACTION SNAPSHOT '{snapshot}'")
            connection.exec_driver_sql("SET LOCAL DateStyle TO ISO")
            with connection.connection.driver_connection.cursor() as cursor:
                yield cursor
            connection.rollback()

    def _exported_snapshot(self) -> str:
        """The name of the state that the database is in, for other connections, as long as this one is there."""
        if self.held is None:
            with refusals(self.address, self.kinds):
                self.held = self.engine.connect()
                self.held.execution_options(**_READ_SNAPSHOT)
                self.held.exec_driver_sql("SET LOCAL idle_in_transaction_session_timeout TO 0")
                self.snapshot = str(self.held.exec_driver_sql("SELECT pg_export_snapshot()").scalar())
        return self.snapshot

    def close(self) -> None:
        if self.held is not None:
            self.held.close()
        super().close()

    def _types_of(self, columns: Sequence[str], types: Sequence[tuple[int, int]]) -> dict[str, ColumnType]:
        found = {}
        for name, (oid, modifier) in zip(columns, types, strict=True):
            ((own, category),) = self.execute(_TYPES_QUERY, {"oid": oid, "modifier": modifier})
            if oid < _FIRST_OF_USERS and category not in "SX":
                standard = _OWN_TO_STANDARD.get(oid, "")
                if standard == "NUMERIC" and "(" in own:
                    standard = own.upper()
                found[name] = ColumnType(standard, own, self.kind)
        return found

    def insert(self, table: TableName, names: Sequence[str], columns: Sequence[Sequence[Any]]) -> None:
        as_text = all(isinstance(column, TextColumn) for column in columns) and len(columns) > 1
        form = f" (FORMAT csv, NULL '{uuid4()}')" if as_text else ""  # no value is NULL there
        copy = f"COPY {self._place(table)} ({', '.join(map(self._quoted, names))}) FROM STDIN{form}"
        connection = self.connection.connection.driver_connection
        with refusals(self.address, self.kinds), connection.cursor() as cursor, cursor.copy(copy) as copied:
            if as_text:
                copied.write(delimited_text(",", columns))
            else:
                for row in zip(*columns, strict=True):
                    copied.write_row(row)

    def check_replaceable(self, table: TableName) -> None:
        attempt_to_replace(self, table, f"SET LOCAL lock_timeout TO '{PATIENCE}s'")


def _relations(plan: Any) -> Iterator[TableName]:
    """The tables in a query plan of PostgreSQL."""
    if isinstance(plan, dict):
        if "Relation Name" in plan:
            yield TableName(str(plan["Relation Name"]), str(plan.get("Schema", "")))
        plan = list(plan.values())
    if isinstance(plan, list):
        for part in plan:
            yield from _relations(part)


def _pages(copied: Iterable[memoryview]) -> Iterator[bytes]:
    """The rows of a copy, each a piece of it, some thousand at a time."""
    page: list[memoryview] = []
    size = 0
    for row in copied:
        page.append(row)
        size += len(row)
        if len(page) == ROWS_A_BLOCK or size > _LARGEST_PAGE:
            yield b"".join(page)
            page, size = [], 0
    if page:
        yield b"".join(page)


def _cells(content: bytes, types: Sequence[int]) -> list[Sequence[str]]:
    """The columns of rows as COPY writes them: nothing at all is an empty cell without quotes. types: see _OWN_TO_STANDARD."""
    names = [str(place) for place in range(len(types))]
    table = arrow_csv.read_csv(
        pyarrow.BufferReader(content),
        arrow_csv.ReadOptions(use_threads=False, block_size=len(content) + 1, column_names=names),
        arrow_csv.ParseOptions(newlines_in_values=True, ignore_empty_lines=False),
        arrow_csv.ConvertOptions(
            column_types=dict.fromkeys(names, pyarrow.large_string()),
            null_values=[""],
            strings_can_be_null=True,
            quoted_strings_can_be_null=False,
        ),
    )
    return [_column(column.combine_chunks(), oid) for column, oid in zip(table.columns, types, strict=True)]


def _column(column: Any, oid: int) -> Sequence[str]:
    """The cells of one column."""
    if oid in _TIMES:
        column = arrow_compute.replace_substring_regex(column, _MIDNIGHT, r"\1")
        column = arrow_compute.replace_substring_regex(column, _MOMENT, r"\1T\2")
    if oid in _INTEGERS or oid in _FLOATS:
        return cells_of(column.cast(pyarrow.int64() if oid in _INTEGERS else pyarrow.float64()).to_pylist())
    if oid == _BOOLEAN:
        return cells_of([None if cell is None else cell == "t" for cell in column.to_pylist()])
    if oid == _BYTES:
        return [NULL if cell is None else BytesCell(bytes.fromhex(cell[2:])) for cell in column.to_pylist()]
    if oid in _ARRAYS:
        return [NULL if cell is None else _array(cell, oid in _ARRAYS_OF_NUMBERS) for cell in column.to_pylist()]
    return cells_of(column.to_pylist()) if column.null_count else TextColumn(column)


_ARRAYS_OF_NUMBERS = frozenset({1005, 1007, 1016})
_ARRAYS = _ARRAYS_OF_NUMBERS | {1009, 1015}  # and of texts


def _array(cell: str, numbers: bool) -> str:
    """The list that an array of one dimension is; others stay as they are written."""
    if not _FLAT_ARRAY.fullmatch(cell):
        return cell
    return TypedCell([_item(match, numbers) for match in _ITEM.finditer(cell)])


def _item(match: "re.Match[str]", number: bool) -> str | int | None:
    if match[2] is None:  # in quotes
        return re.sub(r"\\(.)", r"\1", match[1], flags=re.DOTALL)
    return None if match[2] == "NULL" else int(match[2]) if number else match[2]


def server_connection(address: str) -> Connection:
    """A connection to a server. address: with its password hidden. Raises as `_engine`."""
    engine = _engine(address)
    if engine.url.drivername == _DRIVERS["postgresql"]:
        return PostgreSQLConnection(address, engine)
    return (MySQLConnection if scheme_of(address) in ("mysql", "mariadb") else ServerConnection)(address, engine)


@lru_cache(maxsize=8)  # a command reads and writes by one
def _engine(address: str) -> Any:
    """What makes connections. Raises UsageProblem where a library is not installed, and for what is no address."""
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
        return sqlalchemy.create_engine(url, connect_args={seconds: PATIENCE} if seconds else {}, pool_timeout=_IN_LINE)
    except (ImportError, sqlalchemy.exc.ArgumentError) as error:
        raise UsageProblem(
            f"What reads {address} is not installed: {str(error).rstrip('.')}.",
            "pip install 'upsort[sql]' has those of PostgreSQL, MySQL and MariaDB; install that of another database as well.",
        ) from None
