"""Which columns are text, label and identifier, named or guessed; and rows of different tables under one set of columns."""

import re
import shlex
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from fnmatch import fnmatchcase
from typing import Literal
from urllib.parse import unquote

from upsort.core import plan
from upsort.core.analysis.column_summaries import likeliest_date, likeliest_identifier, likeliest_label, likeliest_text
from upsort.core.arrays import TextColumn
from upsort.core.errors import QUOTING, UsageProblem, listed, nearest, quoted, suggestion
from upsort.core.lazy import record
from upsort.io.tables.columnar import ColumnarRows, column_of
from upsort.io.tables.nested_values import InnerName, outer_names, plain_names
from upsort.io.tables.rows import Block, Rows, SourceTable

_DECISION = "sorted_"  # begins the names of columns that a sorter wrote, whose labels are no ground truth
_PREDICTABLE = 0.2  # from which share on the text is taken to tell about a column that nobody called the label

PASSAGE_COLUMNS = ("document", "passage")
"""The columns that name the document a passage was cut from, and its number in it."""

LabelUse = Literal["needed", "welcome", "not used"]


@record(frozen=True, kw_only=True)
class ColumnRoles:
    """Places of columns in one table; None where there is none.

    text: one or more. also: the further labels. numbers and categories: with their names. missing_labels: cells that stand for no
    label, in lower case."""

    text: tuple[int, ...]
    label: int | None
    id: int | None
    date: int | None = None
    group: int | None = None
    weight: int | None = None
    fold: int | None = None
    also: tuple[int, ...] = ()
    numbers: tuple[tuple[str, int], ...] = ()
    categories: tuple[tuple[str, int], ...] = ()
    missing_labels: frozenset[str] = frozenset()

    def label_in(self, cell: str) -> str:
        """The label that a cell holds, or nothing."""
        label = cell.strip()
        return "" if self.missing_labels and label.casefold() in self.missing_labels else label

    @property
    def answers(self) -> tuple[int, ...]:
        """All label columns, the first one first."""
        return (self.label, *self.also) if self.label is not None else ()


def column_place(name: str, columns: Sequence[str], source: str) -> int:
    """The place of a column given by name, or by number counted from 1 where no column has that name.

    Raises UsageProblem with the nearest names."""
    if name in columns:
        return columns.index(name)
    stripped = [column.strip().casefold() for column in columns]
    if stripped.count(name.strip().casefold()) == 1:
        return stripped.index(name.strip().casefold())
    if name.isdigit() and 1 <= int(name) <= len(columns):
        return int(name) - 1
    raise MissingColumn(name, columns, source)


class MissingColumn(UsageProblem):
    """A table lacks a column that was named."""

    def __init__(self, name: str, columns: Sequence[str], source: str) -> None:
        quoting = f" {QUOTING}." if any("," in column for column in columns) else ""
        super().__init__(f"{source} has no column {name!r}.", suggestion(name, columns, "columns") + quoting)
        self.name, self.columns, self.source = name, columns, source

    def of_training(self) -> UsageProblem:
        """The same of a column that a sorter was trained with: the table may have it under another name."""
        other = next(iter(nearest(self.name, self.columns)), "OTHER")
        bare = re.fullmatch(r"column \d+", self.name) is not None
        trained = "on a table without column names" if bare else "with that name"
        renaming = shlex.quote(f"{quoted(other)}={quoted(self.name)}")
        place, _, table = self.source.partition("#") if "://" in self.source else (self.source, "", "")
        source = shlex.quote(place) + (f" --table {shlex.quote(table)}" if table else "")
        return UsageProblem(
            self.what,
            f"The sorter was trained {trained}. Rename the table's: upsort gather {source} --rename {renaming} "
            f"-o FILE. {self.remedy}",
        )


def column_in(name: str, columns: Sequence[str]) -> bool:
    """Whether `column_place` finds a column."""
    try:
        column_place(name, columns, "")
    except UsageProblem:
        return False
    return True


def roles_in(columns: Sequence[str], source: str, named: plan.Columns) -> ColumnRoles:
    """Where the named columns are in one table. Raises UsageProblem for one that is not there."""

    def place(name: str) -> int | None:
        return column_place(name, columns, source) if name else None

    def named_places(names: Sequence[str]) -> tuple[tuple[str, int], ...]:
        return tuple((columns[at], at) for name in names for at in matching(name, columns, source))

    return ColumnRoles(
        text=tuple(column_place(name, columns, source) for name in named.text),
        label=place(named.label),
        id=place(named.id),
        date=place(named.date),
        group=place(named.group),
        weight=place(named.row_weight),
        fold=place(named.fold),
        also=tuple(column_place(name, columns, source) for name in named.also),
        numbers=named_places(named.numbers),
        categories=named_places(named.categories),
        missing_labels=frozenset(name.strip().casefold() for name in named.missing_labels),
    )


def matching(name: str, columns: Sequence[str], source: str) -> list[int]:
    """The columns that a name, or a pattern such as `v*`, names. Raises UsageProblem where there is none."""
    if "*" not in name and "?" not in name:
        return [column_place(name, columns, source)]
    positions = [place for place, column in enumerate(columns) if fnmatchcase(column, name)]
    if not positions:
        raise UsageProblem(f"{source} has no column like {name!r}.", f"Columns: {listed(columns)}.")
    return positions


def written_names(named: plan.Columns, table: SourceTable) -> plan.Columns:
    """The columns that were named by number, or in other case, by the names that a table gives them."""

    def written(name: str) -> str:
        return str(table.columns[column_place(name, table.columns, table.name)]) if name else name

    def all_written(names: Sequence[str]) -> tuple[str, ...]:
        return tuple(name if "*" in name or "?" in name else written(name) for name in names)

    return replace(
        named,
        text=all_written(named.text),
        label=written(named.label),
        also=all_written(named.also),
        id=written(named.id),
        date=written(named.date),
        group=written(named.group),
        fold=written(named.fold),
        row_weight=written(named.row_weight),
        numbers=all_written(named.numbers),
        categories=all_written(named.categories),
    )


def guessed_columns(
    columns: Sequence[str], rows: Sequence[Sequence[str]], named: plan.Columns, label_is: LabelUse, everywhere: Sequence[str] = ()
) -> tuple[plan.Columns, list[str]]:
    """Fill in the columns that nobody named, from some rows of a table: text, label, identifier and date (see
    `column_summaries`).

    `label_is` says whether there must be a label, may be one, or is none to be looked for. everywhere: columns that all
    tables have, where there are several tables: identifier and date are among them. Returns the completed columns and
    messages. Raises UsageProblem if there must be a label and no column looks like one."""
    plain = set(plain_names(columns))
    cells = {name: [row[place].strip() for row in rows] for place, name in enumerate(columns) if name in plain}
    called = {name: _called(name) for name in cells}
    text, label, identifier, date = named.text, named.label, named.id, named.date
    messages = []
    if not text:
        taken = {label, identifier, date, named.group, *named.also}
        text = (likeliest_text({name: cells[name] for name in cells if name not in taken} or cells, called),)
        messages.append(f"text {text[0]!r} (--text)")
    taken = {*text, label, named.group, named.fold, named.row_weight, *named.also, *named.numbers, *named.categories}
    common = {name: column for name, column in cells.items() if name not in taken and (name in everywhere or not everywhere)}
    if not date:
        date = likeliest_date({name: column for name, column in common.items() if name != identifier}, called)
    if not identifier:
        identifier = likeliest_identifier({name: column for name, column in common.items() if name != date}, called)
    if label_is != "not used" and not label:
        texts = [" ".join(row[columns.index(name)] for name in text if name in columns) for row in rows]
        unfit = {*taken, date, identifier, *(name for name in columns if name.startswith(_DECISION))}
        unfit |= _naming_documents(cells) if set(PASSAGE_COLUMNS) <= set(columns) else set()
        others = {name: cells[name] for name in cells if name not in unfit}
        best, merit = likeliest_label(others, called, texts)
        if not best and label_is == "needed":
            raise UsageProblem("No column looks like a label.", f"Name it with --label. Columns: {listed(columns)}.")
        if best and (label_is == "needed" or merit > _PREDICTABLE):
            label = best
            messages.append(f"label {label!r} (--label)")
    if messages:  # who named text and label needs no report of the others
        messages += [f"ID {identifier!r} (--id)"] if identifier and not named.id else []
        messages += [f"date {date!r}"] if date and not named.date else []
    note = [f"Detected columns: {', '.join(messages)}."] if messages else []
    return replace(named, text=tuple(map(str, text)), label=str(label), id=str(identifier), date=str(date)), note


def _naming_documents(cells: Mapping[str, Sequence[str]]) -> set[str]:
    """Of a table of passages the columns that say which document each is of, and where in it."""
    documents = cells[PASSAGE_COLUMNS[0]]
    several = len(set(documents))
    same = {name for name, column in cells.items() if len(set(column)) == len({*zip(documents, column, strict=True)}) == several}
    return {*PASSAGE_COLUMNS, *same}


def _called(column: str) -> str:
    """What a column is called; one inside another by the last step to it."""
    return str(column.steps[-1]) if isinstance(column, InnerName) else column


def renamed(table: SourceTable, names: Mapping[str, str]) -> SourceTable:
    """The same table with columns called otherwise; names of columns that it does not have are passed over.

    Raises UsageProblem when two columns would have one name."""
    columns = tuple(names.get(column, column) for column in table.columns)
    if columns == table.columns:
        return table
    if len(set(columns)) < len(columns):
        twice = next(column for column in columns if columns.count(column) > 1)
        raise UsageProblem(f"Renaming would give {table.name} two columns {twice!r}.", "Rename the other one as well.")

    def called(blocks: Iterator[Block]) -> Iterator[Block]:
        for block in blocks:
            yield replace(block, columns=columns)

    return replace(
        table.through(called),
        columns=columns,
        text=names.get(table.text, table.text),
        label=names.get(table.label, table.label),
        types=lambda: {names.get(column, column): type_ for column, type_ in table.types().items()},
    )


_PARTITION = re.compile(r"([^=/]+)=(.*)")
_NO_VALUE = "__HIVE_DEFAULT_PARTITION__"  # how writers of such folders write that there is none


def with_partition_columns(table: SourceTable, folders: Sequence[str]) -> SourceTable:
    """The same table with a column for each of its folders that is called NAME=VALUE, as those of partitioned data sets are; a
    column of its own is not replaced."""
    found = (match for match in map(_PARTITION.fullmatch, folders) if match is not None)
    values = {unquote(match[1]): "" if match[2] == _NO_VALUE else unquote(match[2]) for match in found}
    added = {name: value for name, value in values.items() if name not in table.columns}
    if not added:
        return table
    columns = (*table.columns, *added)

    def extended(blocks: Iterator[Block]) -> Iterator[Block]:
        for block in blocks:
            more = [TextColumn.of([value]).take([0] * len(block.rows)) for value in added.values()]
            cells = [column_of(block.rows, place) for place in range(len(block.columns))]
            yield replace(block, columns=columns, rows=ColumnarRows([*cells, *more]))

    return replace(table.through(extended), columns=columns)


def merged_columns(tables: Iterable[Sequence[str]]) -> list[str]:
    """The columns of all tables, in the order in which they first come; what is inside nested values stays there."""
    return outer_names(merged_columns_nested(tables))


def merged_columns_nested(tables: Iterable[Sequence[str]]) -> list[str]:
    """The same with what is inside nested values."""
    return list(dict.fromkeys(name for columns in tables for name in columns))


class ColumnMapper:
    """Puts cells under the columns of an output. columns: of the output, in order."""

    def __init__(self, columns: Sequence[str]) -> None:
        self.columns = list(columns)
        self._places: dict[tuple[str, ...], list[int]] = {}

    def cells(self, columns: Sequence[str], rows: Rows) -> list[Sequence[str]]:
        """The cells of rows that are under `columns`, for each column of the output."""
        places = self._known(tuple(columns))
        return [column_of(rows, place) if place >= 0 else [""] * len(rows) for place in places]

    def rows(self, columns: Sequence[str], rows: Rows) -> list[list[str]]:
        """Rows that are under `columns` as rows of the output; lists of their own."""
        places = self._known(tuple(columns))
        return [[row[place] if place >= 0 else "" for place in places] for row in rows]

    def row(self, columns: Sequence[str], row: Sequence[str]) -> list[str]:
        """One row."""
        return self.rows(columns, [list(row)])[0]

    def _known(self, columns: tuple[str, ...]) -> list[int]:
        """Where each column of the output is in a table, −1 where it does not."""
        if columns not in self._places:
            at = {name: place for place, name in enumerate(columns)}
            self._places[columns] = [at.get(name, -1) for name in self.columns]
        return self._places[columns]
