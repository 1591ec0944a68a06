"""What is asked of a connection to a database, and what those of all kinds share. Reading changes nothing; writing is done in
transactions.

Statements have their values as `:name`, and their names as `quoted` returns them."""

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager
from dataclasses import replace
from typing import Any, Protocol

from upsort.core.errors import DataProblem, UsageProblem, suggestion
from upsort.core.lazy import record
from upsort.io.sources.addresses import message_about
from upsort.io.tables.columnar import ColumnarRows, rows_characters
from upsort.io.tables.nested_values import cells_of
from upsort.io.tables.rows import ROWS_A_BLOCK, WHOLE, Chunk, ColumnType

Values = Mapping[str, Any]


@record(frozen=True)
class TableName:
    """Of a table or a view. schema: where it is; empty for the usual one."""

    name: str
    schema: str = ""

    def __str__(self) -> str:
        return f"{self.schema}.{self.name}" if self.schema else self.name

    def beside(self, name: str) -> "TableName":
        """Another one in the same schema."""
        return TableName(name, self.schema)


@record(frozen=True)
class Selection:
    """What is read: a table, as --table names it, or what a query gives; and the only columns that are, all for none."""

    table: str = ""
    query: str = ""
    columns: tuple[str, ...] = ()

    @property
    def description(self) -> str:
        """What it is called."""
        return self.table or "query"


@record(frozen=True)
class Selected:
    """columns: their names. rows: gives those of a stretch, a page at a time, as often as it is asked. types: of the columns that
    are no text, found when it is asked. chunks: the stretches of a table whose rows have whole numbers of their own."""

    columns: Sequence[str]
    rows: Callable[[Chunk], Iterator[ColumnarRows]]
    types: Callable[[], Mapping[str, ColumnType]]
    chunks: Callable[[], Iterator[Chunk]] | None = None


class Connection(Protocol):
    """To one database. What goes wrong is raised as DataProblem."""

    kind: str
    """Of database: sqlite, postgresql …"""
    address: str
    reads_text: bool
    """Whether text is taken for values of other types."""
    usual_schema: str
    """That of names without one; empty where there are none."""
    longest_name: int
    """Bytes of the name of a table or a column, UTF-8; 0 for no limit."""

    def schemas(self) -> list[str]:
        """The names that may stand before a table's."""

    def tables(self, schema: str = "") -> list[str]:
        """The tables and views, by name."""

    def views(self, schema: str = "") -> list[str]:
        """Those that are no tables: nothing can be put in their place."""

    def tables_read(self, what: Selection) -> set[TableName]:
        """The tables and views that a selection reads, those behind views included; where the database does not say which, those
        that the query names."""

    def same(self, one: str, other: str) -> bool:
        """Whether two names are those of one table."""

    def select(self, what: Selection) -> Selected:
        """What is selected, without a row of it."""

    def type_name(self, type_: ColumnType | None) -> str:
        """The type of a new column; of text for None."""

    def quoted(self, table: TableName | str) -> str:
        """A table or a column as it is in a statement."""

    def transaction(self) -> AbstractContextManager[None]:
        """A block that is done as a whole, or not at all."""

    def execute(self, statement: str, values: Values | None = None) -> list[Sequence[Any]]:
        """Run a statement; the rows that it gives."""

    def insert(self, table: TableName, names: Sequence[str], columns: Sequence[Sequence[Any]]) -> None:
        """Add rows to a table. names: of the columns that are given, each with the values of all rows."""

    def put_in_place(self, part: TableName, target: TableName, replaced: bool) -> None:
        """Give a table the name of another one. replaced: whether that is there, and is dropped."""

    def check_replaceable(self, table: TableName) -> None:
        """Raise DataProblem for a table that could not be made, or not be dropped for another one; nothing is left of the
        attempt."""

    def close(self) -> None:
        """Leave the database."""


_PART_OF_A_NAME = re.compile(r'("(?:[^"]|"")+"|[^".]+)(?:\.|\Z)')


def table_named(connection: Connection, text: str, option: str = "--table") -> TableName:
    """The table that --table or --into names: its name; where the database has schemas, schema and name with a dot between, too,
    and each may be in double quotes.

    Raises UsageProblem for a schema that is not there."""
    parts = [match[1] for match in _PART_OF_A_NAME.finditer(text)]
    there = connection.schemas()
    if not there or text in connection.tables() or not 1 <= len(parts) <= 2 or len(".".join(parts)) != len(text):
        return TableName(text)
    *schemas, name = [part[1:-1].replace('""', '"') if part.startswith('"') else part for part in parts]
    if not schemas:
        return TableName(name)
    if schemas[0] in there:
        return TableName(name, schemas[0] if schemas[0] != connection.usual_schema else "")
    quoted = text.replace('"', '""')
    raise UsageProblem(
        f"{connection.address} has no schema {schemas[0]!r}.",
        f"{suggestion(schemas[0], there, 'schemas')} A name with a dot in it: {option} '\"{quoted}\"'.",
    )


def check_table(connection: Connection, table: TableName) -> None:
    """Raises DataProblem for a table that is not there."""
    there = connection.tables(table.schema)
    if table.name not in there:
        tables = [str(table.beside(name)) for name in there]
        raise DataProblem(f"{connection.address} has no table {str(table)!r}.", suggestion(str(table), tables, "tables"))


_REMEDIES = {
    ".*snapshot": "Use the address of a single server; or read by one connection, with --query in place of --table.",
    "28|(1045|1698) |.*(password authentication|no password supplied)": "Check the user and the password.",
    "3D|(1049|1044) |.*database .* does not exist": "Check the name of the database.",
    "42501|(1142|1143|1227) ": "The account lacks a right: have it granted, or use another account.",
    "42P01|1146 |no such table": "Check --table, or the names in --query.",
    "42601|42703|42883|(1064|1054) |.*(no such column|syntax error)": "Check --query.",
    "08|57P|(2002|2003|2005|2006|2013) |.*(connection failed|timeout expired|could not translate)": (
        "Check host and port, and whether the server runs."
    ),
    "55P03|1205 |.*database is locked": "Others hold the table: try again later.",
    "2BP01|(1451|3730) ": "Drop what depends on the table, or choose another name with --into.",
    "53300|1040 ": "Wait until others have left it, or use fewer workers: each of a cluster makes a connection.",
    "53|(1114|1021) |.*database or disk is full": "Make room there.",
    "22|23|(1264|1265|1292|1366|1406) ": "Check --query; or leave the column out with --columns, or write to a file.",
}
"""What helps, by how the code and the message of a refusal begin: SQLSTATE of PostgreSQL, error numbers of MySQL."""


@contextmanager
def refusals(address: str, kinds: tuple[type[Exception], ...]) -> Iterator[None]:
    """Round what a database may refuse. kinds: of exceptions of its driver."""
    try:
        yield
    except kinds as error:
        cause: Any = getattr(error, "orig", None) or error
        code = cause.args[0] if len(cause.args) > 1 else getattr(cause, "sqlstate", None) or ""
        message = message_about(_message_of(cause), address)
        remedy = next(
            (remedy for pattern, remedy in _REMEDIES.items() if re.match(pattern, f"{code} {message}".lstrip())),
            "Check the address, --table, --query and what the account may do.",
        )
        raise DataProblem(f"{address} refuses: {message}.", remedy) from None


def _message_of(error: Any) -> Any:
    """What a driver says, without where in its own statement."""
    stated = getattr(getattr(error, "diag", None), "message_primary", None)
    return stated or next((part for part in error.args[1:2] if isinstance(part, str)), error)


def tables_named(connection: Connection, what: Selection) -> set[TableName]:
    """What `tables_read` finds where the database does not say what a query reads."""
    if what.table:
        return {table_named(connection, what.table)}
    return {TableName(table) for table in connection.tables() if table in what.query}


_DECIMAL = re.compile(r"NUMERIC(?:\((\d+),\d+\))?(.*)")


def standard_name(type_: ColumnType, most_digits: int) -> str:
    """The standard name of a type; nothing for decimals of more digits than a database takes, or of any number, none of which
    may be lost."""
    match = _DECIMAL.fullmatch(type_.standard)
    return "" if match is not None and not 0 < int(match[1] or 0) <= most_digits else type_.standard


_CHARACTERS = 4_000_000  # of a stretch, about, by the first rows of the table
_MOST_BLOCKS = 8


def key_chunks(first: ColumnarRows, next_key: Callable[[str, int], int | None], key: str) -> Iterator[Chunk]:
    """Stretches of a table in the order of whole numbers that its rows have. first: its first rows. next_key: the number of the
    row so many behind the first one of those that a condition is true of; None where there is none."""
    in_block = ROWS_A_BLOCK * max(rows_characters(first), 1) // len(first) if len(first) else _CHARACTERS
    rows = ROWS_A_BLOCK * min(max(_CHARACTERS // in_block, 1), _MOST_BLOCKS)
    chunk = WHOLE
    while (end := next_key(within(key, chunk), rows)) is not None:
        yield replace(chunk, end=end, last=False)
        chunk = Chunk(begin=end, end=None, line=chunk.line + rows)
    yield chunk


def within(key: str, chunk: Chunk) -> str:
    """The condition that a row is in a stretch; empty for that of all."""
    conditions = [f"{key} >= {chunk.begin}"] if chunk.line > 1 else []
    conditions += [f"{key} < {chunk.end}"] if chunk.end is not None else []
    return f" WHERE {' AND '.join(conditions)}" if conditions else ""


def page_of(rows: Sequence[Sequence[Any]]) -> ColumnarRows:
    """The cells of rows of values, at least one."""
    return ColumnarRows([cells_of(column) for column in zip(*rows, strict=True)])


def chosen_columns(there: Sequence[str], what: Selection, address: str) -> list[str]:
    """The columns to read. Raises UsageProblem for one that is not there."""
    for name in what.columns:
        if name not in there:
            raise UsageProblem(f"{address}#{what.table} has no column {name!r}.", suggestion(name, there, "columns"))
    return list(what.columns or there)


class _Undone(Exception):
    """Ends a transaction of which nothing is to be left."""


def attempt_to_replace(connection: Connection, table: TableName, before: str = "") -> None:
    """What `check_replaceable` does where tables are made and dropped in transactions, too. before: a statement for this one."""
    attempt = table.beside("upsort_attempt")
    try:
        with connection.transaction():
            if before:
                connection.execute(before)
            connection.execute(f"CREATE TABLE {connection.quoted(attempt)} (n {connection.type_name(None)})")
            connection.put_in_place(attempt, table, table.name in connection.tables(table.schema))
            raise _Undone
    except _Undone:
        pass
