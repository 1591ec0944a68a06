"""Connections to database servers through SQLAlchemy, those that it has no better way for, and MySQL."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from typing import Any

from upsort.core.errors import DataProblem, UsageProblem
from upsort.core.lazy import sqlalchemy
from upsort.io.sources.addresses import scheme_of
from upsort.io.sources.databases import (
    Selected,
    Selection,
    TableName,
    Values,
    chosen_columns,
    page_of,
    refusals,
    standard_name,
    table_named,
    tables_named,
)
from upsort.io.tables.columnar import ColumnarRows
from upsort.io.tables.rows import ROWS_A_BLOCK, Chunk, ColumnType

PATIENCE = 10  # seconds to reach a server
AS_WRITTEN = {"no_parameters": True}
"""Of a statement whose % the driver takes for no place of a value."""

_LONG_TEXT = {"mysql": "LONGTEXT", "mariadb": "LONGTEXT", "mssql": "NVARCHAR(MAX)", "oracle": "CLOB"}
_TYPES = {
    "mysql": {
        "DOUBLE PRECISION": "DOUBLE",
        "TIMESTAMP": "DATETIME(6)",
        "TIMESTAMP WITH TIME ZONE": "",
        "NUMERIC": "",
        "TIME": "TIME(6)",
    },
    "mssql": {
        "DOUBLE PRECISION": "FLOAT",
        "TIMESTAMP": "DATETIME2",
        "TIMESTAMP WITH TIME ZONE": "DATETIMEOFFSET",
        "BOOLEAN": "BIT",
    },
    "oracle": {"BIGINT": "NUMBER(19)", "NUMERIC": "NUMBER", "BOOLEAN": "NUMBER(1)", "TIME": ""},
}
"""What other databases call the standard types; empty where none of theirs holds all values of one, so that it becomes text."""
_TYPES["mariadb"] = _TYPES["mysql"]
_MOST_DIGITS = 38  # of decimals, that all of them take
_WITH_LONG_TIMES = ("mysql", "mariadb")
"""Databases whose times may be longer than a day."""


class ServerConnection:
    """See `Connection`. Rows come through a cursor of the server, if it can."""

    reads_text = False

    def __init__(self, address: str, engine: Any) -> None:
        self.address, self.engine = address, engine
        self.kind = scheme_of(address)
        self.kinds = (sqlalchemy.exc.SQLAlchemyError, OSError, engine.dialect.loaded_dbapi.Error)
        self.connection: Any = None  # of the transaction that runs
        with refusals(address, (*self.kinds, TypeError)), self.engine.connect():  # of what stands behind a ?
            pass
        self.longest_name = int(self.engine.dialect.max_identifier_length)
        self.usual_schema = str(self.engine.dialect.default_schema_name or "")

    def schemas(self) -> list[str]:
        with refusals(self.address, self.kinds):
            return list(sqlalchemy.inspect(self.engine).get_schema_names())

    def tables(self, schema: str = "") -> list[str]:
        with refusals(self.address, self.kinds):
            return sorted([*sqlalchemy.inspect(self.engine).get_table_names(schema or None), *self.views(schema)])

    def views(self, schema: str = "") -> list[str]:
        with refusals(self.address, self.kinds):
            return list(sqlalchemy.inspect(self.engine).get_view_names(schema or None))

    def same(self, one: str, other: str) -> bool:
        return one.casefold() == other.casefold()

    def tables_read(self, what: Selection) -> set[TableName]:
        return tables_named(self, what)

    def select(self, what: Selection) -> Selected:
        with self._running(self._statement(what, ())) as result:
            columns = chosen_columns([str(name) for name in result.keys()], what, self.address)  # noqa: SIM118 - no dictionary
        statement = self._statement(what, what.columns)

        def rows(_: Chunk) -> Iterator[ColumnarRows]:
            with self._running(statement) as result:
                for page in result.partitions(ROWS_A_BLOCK):
                    yield page_of(page)

        return Selected(columns, rows, lambda: self._types(what) if what.table else {})

    def _statement(self, what: Selection, columns: Sequence[str], where: str = "") -> str:
        """The query of a selection, or of a table in the order of its primary key: a server promises no order of its own. where:
        the condition of its rows."""
        if what.query:
            return what.query.strip().rstrip(";")
        table = table_named(self, what.table)
        keys = self._primary_key(table)
        order = f" ORDER BY {', '.join(keys)}" if keys else ""
        return f"SELECT {', '.join(map(self._quoted, columns)) or '*'} FROM {self._place(table)}{where}{order}"

    def _primary_key(self, table: TableName) -> list[str]:
        """Its columns, as they are in a statement."""
        with refusals(self.address, self.kinds):
            keys = sqlalchemy.inspect(self.engine).get_pk_constraint(table.name, table.schema or None)["constrained_columns"]
        return list(map(self._quoted, keys))

    @contextmanager
    def _running(self, statement: str) -> Iterator[Any]:
        """A block with the result of a statement that reads."""
        with refusals(self.address, self.kinds), self.engine.connect() as connection:
            choices: dict[str, Any] = {"stream_results": True, "max_row_buffer": ROWS_A_BLOCK, **AS_WRITTEN}
            with connection.execution_options(**choices).exec_driver_sql(statement) as result:
                if not result.returns_rows:
                    raise UsageProblem("The query gives no rows.", "Select something.")
                yield result
            connection.rollback()

    def _types(self, what: Selection) -> dict[str, ColumnType]:
        table = table_named(self, what.table)
        with refusals(self.address, self.kinds):
            described = sqlalchemy.inspect(self.engine).get_columns(table.name, table.schema or None)
        types = {}
        for column in described:
            standard = _standard_type(column["type"])
            standard = "TEXT" if standard == "TIME" and self.kind in _WITH_LONG_TIMES else standard
            if not isinstance(column["type"], sqlalchemy.String):
                own = str(column["type"].compile(self.engine.dialect))
                types[str(column["name"])] = ColumnType(standard, own, self.kind)
        return types

    def type_name(self, type_: ColumnType | None) -> str:
        text = _LONG_TEXT.get(self.kind, "TEXT")
        if type_ is None:
            return text
        if type_.of == self.kind and type_.own:
            return type_.own
        standard = standard_name(type_, _MOST_DIGITS)
        return _TYPES.get(self.kind, {}).get(standard, standard.replace("TEXT", text)) or text

    def quoted(self, table: TableName | str) -> str:
        return (self._quoted(table) if isinstance(table, str) else self._place(table)).replace(
            ":", "\\:"
        )  # no value begins there

    def _quoted(self, name: str) -> str:
        quote = self.engine.dialect.identifier_preparer.quote_identifier
        written = str(quote(name))
        return written.replace("%%", "%") if "%%" in str(quote("%")) else written  # doubled for a driver that looks for values

    def _place(self, table: TableName) -> str:
        return ".".join(map(self._quoted, filter(None, (table.schema, table.name))))

    @contextmanager
    def transaction(self) -> Iterator[None]:
        with refusals(self.address, self.kinds), self.engine.connect() as self.connection:
            try:
                yield
            except BaseException:
                with suppress(*self.kinds):
                    self.connection.rollback()
                raise
            finally:
                connection, self.connection = self.connection, None
            connection.commit()

    def execute(self, statement: str, values: Values | None = None) -> list[Sequence[Any]]:
        if self.connection is None:
            with self.transaction():
                return self.execute(statement, values)
        with refusals(self.address, self.kinds):
            result = self.connection.execute(sqlalchemy.text(statement), dict(values or {}))
            return list(result) if result.returns_rows else []

    def insert(self, table: TableName, names: Sequence[str], columns: Sequence[Sequence[Any]]) -> None:
        name = sqlalchemy.sql.quoted_name
        each = {name(column, True): sqlalchemy.bindparam(f"c{place}") for place, column in enumerate(names)}
        where = name(table.schema, True) if table.schema else None
        statement = sqlalchemy.table(name(table.name, True), *map(sqlalchemy.column, each), schema=where).insert().values(each)
        bound = [f"c{place}" for place in range(len(names))]
        with refusals(self.address, self.kinds):
            self.connection.execute(statement, [dict(zip(bound, row, strict=True)) for row in zip(*columns, strict=True)])

    def put_in_place(self, part: TableName, target: TableName, replaced: bool) -> None:
        if replaced:
            self.execute(f"DROP TABLE {self.quoted(target)}")
        self.execute(f"ALTER TABLE {self.quoted(part)} RENAME TO {self.quoted(target.name)}")

    def check_replaceable(self, table: TableName) -> None:
        """Nothing can be tried: these make and drop tables at once."""

    def close(self) -> None:
        with suppress(*self.kinds):
            self.engine.dispose()


def _standard_type(type_: Any) -> str:
    """The standard name of the type of a column."""
    try:
        generic = type_.as_generic()
    except NotImplementedError:
        return "TEXT"
    match generic:
        case sqlalchemy.Boolean():
            return "BOOLEAN"
        case sqlalchemy.BigInteger() if getattr(type_, "unsigned", False):
            return "NUMERIC(20,0)"
        case sqlalchemy.Integer():
            return "BIGINT"
        case sqlalchemy.Float():
            return "DOUBLE PRECISION"
        case sqlalchemy.Numeric():
            return f"NUMERIC({generic.precision},{generic.scale or 0})" if generic.precision else "NUMERIC"
        case sqlalchemy.DateTime():
            return "TIMESTAMP WITH TIME ZONE" if generic.timezone else "TIMESTAMP"
        case sqlalchemy.Date():
            return "DATE"
        case sqlalchemy.Time():
            return "TIME"
        case _:
            return "TEXT"


class MySQLConnection(ServerConnection):
    """See `Connection`; MariaDB too. Tables are made and dropped at once, whatever a transaction does."""

    def put_in_place(self, part: TableName, target: TableName, replaced: bool) -> None:
        new, old = self.quoted(target), self.quoted(target.beside("upsort_replaced"))
        before = f"{new} TO {old}, " if replaced else ""
        self.execute(f"DROP TABLE IF EXISTS {old}")  # that an interrupted run left
        self.execute(f"RENAME TABLE {before}{self.quoted(part)} TO {new}")  # both at once
        if replaced:
            self.execute(f"DROP TABLE {old}")

    def check_replaceable(self, table: TableName) -> None:
        referring = self.execute(
            "SELECT table_name FROM information_schema.referential_constraints WHERE referenced_table_name = :name "
            "AND unique_constraint_schema = coalesce(:schema, database()) AND table_name <> :name",
            {"name": table.name, "schema": table.schema or None},
        )
        if referring:
            raise DataProblem(
                f"{table} cannot be replaced: the table {referring[0][0]} refers to it.", "Choose another name with --into."
            )
