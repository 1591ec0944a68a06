"""From rows to documents: one reader, bound to a plan or a sorter, for rows of tables, objects of JSON and bare texts alike.

It knows which columns are what, keeps parts of the text apart or joins them, reads numbers, categories and ready-made vectors,
holds patterns to their time, and says of each row that it refuses why."""

import shlex
from bisect import bisect_left
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from functools import cached_property, lru_cache
from math import isfinite
from pathlib import Path
from typing import Any

import numpy as np

from upsort.core import plan
from upsort.core.analysis.column_summaries import separator_of
from upsort.core.arrays import Floats, TextColumn, blank_places, filled, mapped, numbered_names
from upsort.core.errors import DataProblem
from upsort.core.features.documents import Documents
from upsort.core.lazy import record
from upsort.core.text.cleaning import Cleaner
from upsort.core.training.sorter import TrainedSorter
from upsort.io.notices import RejectedRows
from upsort.io.plan.resources import RowVectors
from upsort.io.sources.inputs import Inputs
from upsort.io.tables.columnar import chosen_rows, column_of
from upsort.io.tables.columns import PASSAGE_COLUMNS as PASSAGE_COLUMNS
from upsort.io.tables.columns import ColumnRoles, LabelUse, MissingColumn, guessed_columns, roles_in, written_names
from upsort.io.tables.document_blocks import DocumentBlock, KeptRow, RowMetadata
from upsort.io.tables.nested_values import BytesCell, cell_named, count_in
from upsort.io.tables.rows import Block, ReasonKind, RejectedRow, RejectionReason, Rows, SourceTable


def complete_columns(inputs: Inputs, named: plan.Columns, label_is: LabelUse) -> tuple[plan.Columns, list[str]]:
    """The columns by the names that the first table gives them, guessed where none were named; and messages about it."""
    first = inputs.tables[0]
    rows = sampled_rows(first)
    known, messages = _known_columns(first, written_names(named, first), label_is)
    everywhere = [name for name in first.columns if all(name in table.columns for table in inputs.tables)]
    columns, notes = guessed_columns(first.columns, rows, known, label_is, everywhere)
    notes = [*messages, *notes]
    if label_is == "needed" and not columns.group and all({*PASSAGE_COLUMNS} <= {*table.columns} for table in inputs.tables):
        columns = replace(columns, group=PASSAGE_COLUMNS[0])
        notes = [*notes, f"Passages of one {PASSAGE_COLUMNS[0]} are kept together (columns.group)."]
    if label_is != "not used" and (separator := separator_between(columns, first.columns, rows)):
        notes = [
            *notes,
            f"Cells of column {columns.label!r} seem to hold several labels: {separator_option(separator)} takes them apart.",
        ]
    return columns, notes


_SAMPLED_BLOCKS, _SAMPLED_ROWS, _SAMPLED_CHARACTERS = 10, 1000, 8_000_000


@lru_cache(maxsize=2)  # several guesses look at the same rows
def sampled_rows(table: SourceTable) -> list[list[str]]:
    """Some rows of a table, taken evenly from its first blocks. Raises DataProblem if it has no usable row."""
    rows: list[list[str]] = []
    refused: list[RejectedRow] = []
    characters = 0
    for number, block in enumerate(table.blocks(), 1):
        some = list(block.rows[:: -(-len(block.rows) // _SAMPLED_ROWS) or 1])
        rows += some
        refused = refused or block.refused[:1]
        characters += sum(len(cell) for row in some for cell in row)
        if rows and (number >= _SAMPLED_BLOCKS or characters > _SAMPLED_CHARACTERS):
            break
    if not rows:
        why = f": {refused[0].reason} (line {refused[0].line})" if refused else ""
        raise DataProblem(f"{table.name} has no usable rows{why}.", "Give a table with documents, or check --encoding.")
    return rows[:: -(-len(rows) // _SAMPLED_ROWS)]


def separator_between(columns: plan.Columns, names: Sequence[str], rows: Sequence[Sequence[str]]) -> str:
    """What separates the labels of a cell, as it seems; empty where they hold one each, or where it is known."""
    if columns.label_separator or columns.label not in names:
        return ""
    place = names.index(columns.label)
    return separator_of([row[place] for row in rows])


def separator_in(inputs: Inputs, columns: plan.Columns) -> str:
    """The same by some rows of the first table."""
    first = inputs.tables[0]
    return separator_between(columns, first.columns, sampled_rows(first))


def separator_option(separator: str) -> str:
    """The option that takes the labels of a cell apart."""
    return f"--set {shlex.quote(f'columns.label_separator={separator}')}"


def _known_columns(table: SourceTable, named: plan.Columns, label_is: LabelUse) -> tuple[plan.Columns, list[str]]:
    """The columns that were not named and that the table itself describes; and messages about it."""
    text = named.text or ((table.text,) if table.text else ())
    want_label = label_is != "not used" and not named.label and table.label
    columns = replace(named, text=text, label=table.label if want_label else named.label)
    messages = [f"text {table.text!r}"] if text and not named.text else []
    messages += [f"label {table.label!r} (--label-from)"] if want_label else []
    return columns, [f"Detected columns: {', '.join(messages)}."] if messages else []


def columns_for(sorter: TrainedSorter, named: plan.Columns, inputs: Inputs, labels: bool = True) -> plan.Columns:
    """The columns to read for a sorter: those named now, else those of its training; what it can do without only where all tables
    have it (identifier, group, date). labels: whether label columns are read."""
    trained = sorter.plan.columns

    def everywhere(name: str) -> str:
        return name if all(name in table.columns for table in inputs.tables) else ""

    return replace(
        trained,
        text=named.text or trained.text,
        label=(named.label or trained.label) if labels else "",
        also=(named.also or trained.also) if labels else (),
        row_weight="",
        fold="",
        id=named.id or everywhere(trained.id),
        date=named.date or everywhere(trained.date),
        group=named.group or everywhere(trained.group),
        document_vectors=named.document_vectors,
    )


@record(frozen=True, kw_only=True)
class RowRequirement:
    """What a row must have to be used: a text, a label in one of the label columns, or what else its columns ask for alone."""

    text: bool = True
    label: bool = False


LABELLED = RowRequirement(label=True)


class DocumentReader:
    """Reads rows as a plan or a sorter wants them.

    columns: which are what. separate_columns: several text columns are parts of their own. cleaning: whose patterns may take
    without end on a document, which is refused then. extra_columns: the names of number and of category columns, where no table
    says them. of_training: whether the columns are those that a sorter was trained with. keeps_rejected: whether blocks hold the
    rejected rows, too."""

    def __init__(
        self,
        columns: plan.Columns,
        separate_columns: bool = False,
        cleaning: Cleaner | None = None,
        needs: RowRequirement | None = None,
        extra_columns: tuple[Sequence[str], Sequence[str]] = ((), ()),
    ) -> None:
        self.columns = columns
        self.separate_columns = separate_columns and len(columns.text) > 1
        self.cleaning = cleaning if cleaning is not None and cleaning.has_patterns else None
        self.needs = needs or RowRequirement()
        self.extra_columns = extra_columns
        self.of_training = False
        self.keeps_rejected = False

    @staticmethod
    def of_plan(choices: plan.Plan, cleaning: Cleaner, needs: RowRequirement | None = None) -> "DocumentReader":
        """A reader of what a plan is to be tried on."""
        return DocumentReader(choices.columns, choices.features.apart, cleaning, needs)

    @staticmethod
    def of_sorter(
        sorter: TrainedSorter, columns: plan.Columns | None = None, needs: RowRequirement | None = None
    ) -> "DocumentReader":
        """A reader of what a sorter is to decide about. columns: of the tables; those of its training without."""
        numbers = [name.removeprefix("column:") for name in sorter.space.extra_columns.number_names if name.startswith("column:")]
        categories = [name for name, _ in sorter.space.extra_columns.categories]
        chosen = columns or replace(sorter.plan.columns, label="", also=(), row_weight="", fold="")
        reader = DocumentReader(chosen, sorter.plan.features.apart, sorter.cleaning, needs, (numbers, categories))
        reader.of_training = columns is None or columns.text == sorter.plan.columns.text
        return reader

    def blocks(self, inputs: Inputs, rejects: RejectedRows) -> Iterator[DocumentBlock]:
        """All usable documents of all tables; every row that is not among them goes to `rejects`.

        Raises UsageProblem for a named column that a table does not have."""
        vectors = RowVectors(Path(self.columns.document_vectors)) if self.columns.document_vectors else None
        for table in inputs.tables:
            yield from self.documents_in(table, table.blocks(), rejects.add, vectors)
        if vectors is not None:
            vectors.check_used_up()

    def documents_in(
        self,
        table: SourceTable,
        blocks: Iterable[Block],
        refuse: Callable[[RejectedRow], object],
        vectors: RowVectors | None = None,
    ) -> Iterator[DocumentBlock]:
        """The usable documents of some blocks of a table. refuse: is given the other rows. vectors: of their rows."""
        try:
            roles = roles_in(table.columns, table.name, self.columns)
        except MissingColumn as missing:
            raise (missing.of_training() if self.of_training else missing) from None
        for block in blocks:
            documents, faults = self._read(block.rows, roles)
            faults.update(unreadable_rows(block, roles))
            usable = [place for place in range(len(block.rows)) if place not in faults] if faults else range(len(block.rows))
            refused = [
                RejectedRow(table.name, block.lines[place], fault, tuple(block.rows[place])) for place, fault in faults.items()
            ]
            refused = sorted([*block.refused, *refused], key=lambda rejected: rejected.line)
            for rejected in refused:
                refuse(rejected)
            if vectors is not None:
                documents = replace(
                    documents,
                    number_names=(*documents.number_names, *vectors.names),
                    numbers=np.hstack((documents.numbers, vectors.of(block))),
                )
            ready = _usable(block, documents, roles, usable, table.alone)
            yield replace(ready, kept=_kept(refused, ready.lines, table, roles)) if self.keeps_rejected else ready

    def of_object(self, values: Mapping[str, Any]) -> Documents | RejectionReason:
        """The document of an object of JSON, see `of_objects`."""
        documents, faults = self.of_objects([values])
        return faults.get(0, documents)

    def of_objects(self, objects: Sequence[Mapping[str, Any]]) -> tuple[Documents, dict[int, RejectionReason]]:
        """The documents of objects of JSON, read as rows of a table with their names as columns, and why some cannot be used, by
        their places. What an object lacks is an empty cell."""
        columns, roles = self._of_objects
        return self._read([[cell_named(values, name) for name in columns] for values in objects], roles)

    @cached_property
    def _of_objects(self) -> tuple[tuple[str, ...], ColumnRoles]:
        """The columns of objects of JSON, and what they are for."""
        numbers, categories = self.extra_columns
        columns = tuple(dict.fromkeys((*self.columns.text, *numbers, *categories)))
        roles = roles_in(columns, "the object", replace(plan.Columns(text=self.columns.text), numbers=(), categories=()))
        places = {name: place for place, name in enumerate(columns)}
        return columns, replace(
            roles,
            numbers=tuple((name, places[name]) for name in numbers),
            categories=tuple((name, places[name]) for name in categories),
        )

    def of_text(self, text: str) -> Documents | RejectionReason:
        """The document of which only the text is known; it is in the last text column."""
        return self.of_object({(self.columns.text or ("text",))[-1]: text})

    def _read(self, rows: Rows, roles: ColumnRoles) -> tuple[Documents, dict[int, RejectionReason]]:
        """The documents of rows, and why some cannot be used, by their places."""
        texts = texts_of(rows, roles)
        numbers, faults = self._numbers(rows, roles)
        slow = self.cleaning.too_slow(texts) if self.cleaning is not None else {}
        for place, seconds in slow.items():
            faults[place] = RejectionReason(ReasonKind.SLOW_PATTERN, (f"{seconds:g}",))
        for why, places in self._lacking(texts, rows, roles):
            for place in places:
                if place not in slow:
                    faults[place] = RejectionReason(why)
        documents = Documents(
            parts=tuple(column_of(rows, at) for at in roles.text) if self.separate_columns else (texts,),
            number_names=tuple(name for name, _ in roles.numbers),
            numbers=numbers,
            category_names=tuple(name for name, _ in roles.categories),
            categories=tuple(list(_stripped(column_of(rows, at))) for _, at in roles.categories),
        )
        return documents, faults

    def _numbers(self, rows: Rows, roles: ColumnRoles) -> tuple[Floats, dict[int, RejectionReason]]:
        """(n, m) the number columns, NaN where a cell is empty or no number; the latter is a fault unless it may be filled."""
        values = np.full((len(rows), len(roles.numbers)), np.nan)
        faults: dict[int, RejectionReason] = {}
        for column, (name, at) in enumerate(roles.numbers):
            for place, whole in enumerate(column_of(rows, at)):
                cell = whole.strip()
                count = count_in(whole)
                number = as_number(cell) if count is None else float(count)
                if cell and number is None and self.columns.wrong_numbers == "set-aside":
                    faults[place] = RejectionReason(ReasonKind.NO_NUMBER, (name,))
                values[place, column] = np.nan if number is None else number
        return values, faults

    def _lacking(self, texts: Sequence[str], rows: Rows, roles: ColumnRoles) -> Iterator[tuple[ReasonKind, Iterable[int]]]:
        """The places of rows that lack something, the more important things last."""
        if self.needs.label and roles.weight is not None:
            weights = [as_number(cell) for cell in _stripped(column_of(rows, roles.weight))]
            yield ReasonKind.NO_WEIGHT, [place for place, weight in enumerate(weights) if weight is None or weight <= 0]
        if self.needs.label and roles.answers:
            labelled = np.any([filled(_labels_in(rows, at, roles)) for at in roles.answers], axis=0)
            yield ReasonKind.NO_LABEL, np.flatnonzero(~labelled).tolist()
        if self.needs.text:
            yield ReasonKind.NO_TEXT, blank_places(texts)


def _stripped(cells: Sequence[str]) -> Sequence[str]:
    return mapped(cells, str.strip)


def _labels_in(rows: Rows, place: int, roles: ColumnRoles) -> Sequence[str]:
    """The labels in the cells of a column; nothing where there is none."""
    return mapped(column_of(rows, place), roles.label_in)


def _kept(refused: Sequence[RejectedRow], lines: Sequence[int], table: SourceTable, roles: ColumnRoles) -> tuple[KeptRow, ...]:
    """Rejected rows, in order, with their places among the usable ones, whose lines are given. Cells that are missing are empty,
    more than there are columns are together in the last one, and what is no row of cells is the text."""
    columns, alone, kept = table.columns, table.alone, []
    for before, rejected in enumerate(refused):
        cells = [*rejected.cells, *[""] * (len(columns) - len(rejected.cells))]
        cells[len(columns) - 1 :] = [" ".join(cells[len(columns) - 1 :])]
        if len(rejected.cells) == 1 and roles.text:
            cells[0], cells[roles.text[0]] = "", rejected.cells[0]
        own = cells[roles.id] if roles.id is not None else _line_names(rejected.source, [rejected.line], alone)[0]
        place = bisect_left(lines, rejected.line) + before
        kept.append(KeptRow(at=place, line=rejected.line, id=own, cells=tuple(cells), reason=str(rejected.reason)))
    return tuple(kept)


def _usable(block: Block, documents: Documents, roles: ColumnRoles, places: Sequence[int], alone: bool) -> DocumentBlock:
    """The documents at some places of a block, with what is next to them. alone: whether its table is the only one."""
    rows, lines = block.rows, block.lines
    if len(places) < len(rows):
        documents, rows, lines = documents.rows(places), chosen_rows(rows, places), [lines[place] for place in places]

    def cells(column: int | None) -> Sequence[str]:
        return _stripped(column_of(rows, column)) if column is not None else ()

    metadata = RowMetadata(
        ids=_stripped(column_of(rows, roles.id)) if roles.id is not None else _line_names(block.source, lines, alone),
        answers=tuple(_labels_in(rows, column, roles) for column in roles.answers),
        dates=cells(roles.date),
        groups=cells(roles.group),
        weights=cells(roles.weight),
        folds=cells(roles.fold),
    )
    return DocumentBlock(
        source=block.source, columns=block.columns, documents=documents, metadata=metadata, rows=rows, lines=lines
    )


def _line_names(source: str, lines: Sequence[int], alone: bool) -> Sequence[str]:
    """What documents are called where no column says it. alone: whether their table is the only one."""
    return numbered_names("line " if alone else f"{source}:", lines)


def as_number(cell: str) -> float | None:
    """The finite number in a cell; a decimal comma is one too. None for anything else."""
    if cell.count(",") == 1 and "." not in cell:
        cell = cell.replace(",", ".")
    try:
        number = float(cell)
    except ValueError:
        return None
    return number if isfinite(number) else None


def unreadable_rows(block: Block, roles: ColumnRoles) -> Iterator[tuple[int, RejectionReason]]:
    """The places of rows whose text or label is of bytes that are no text, and the reason."""
    for at in (*roles.text, *roles.answers):
        cells = column_of(block.rows, at)
        for place in range(0 if isinstance(cells, TextColumn) else len(cells)):
            cell = cells[place]
            if isinstance(cell, BytesCell) and not cell.readable:
                yield place, RejectionReason(ReasonKind.BYTES, ("bytes that are no text",), f"in the column {block.columns[at]}")


def texts_of(rows: Rows, roles: ColumnRoles) -> Sequence[str]:
    """The text of each row: its text columns joined by line ends, empty ones left out."""
    columns = [column_of(rows, place) for place in roles.text]
    return columns[0] if len(columns) == 1 else ["\n".join(filter(None, row)) for row in zip(*columns, strict=True)]
