"""From rows to documents: one reader, bound to a plan or a sorter, for rows of tables, objects of JSON and bare texts alike.

It knows which columns are what, keeps parts of the text apart or joins them, reads numbers, categories and ready-made
vectors, holds patterns to their time, and says of each row that it refuses why.
"""

import shlex
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import fields, replace
from itertools import islice
from math import isfinite
from pathlib import Path
from typing import Any

import numpy as np

from upsort.core import plan
from upsort.core.arrays import Floats
from upsort.core.errors import DataProblem
from upsort.core.features.documents import Documents, joined_documents
from upsort.core.insight.label_sets import separator_of
from upsort.core.learning.sorter import Sorter
from upsort.core.packed import Packed, packed, unpacked
from upsort.core.records import record
from upsort.core.text.cleaning import Cleaner
from upsort.files.columns import LabelUse, NoColumn, Roles, guessed_columns, roles_in, written_names
from upsort.files.reasons import Reason, Why
from upsort.files.rows import Block, Refused, Table
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.files.typed_cells import cell_named, count_in
from upsort.files.vectors import RowVectors

PASSAGE_COLUMNS = ("document", "passage")
"""The columns that tell which document a passage was cut from, and the how manieth it is."""


@record(frozen=True, kw_only=True)
class Marks:
    """What the columns beside text and features say of n documents, cell by cell; empty where no column is named.

    ids: what each is called. answers: for each label column its cells. folds, groups, dates, weights: the cells of those
    columns.
    """

    ids: list[str]
    answers: tuple[list[str], ...]
    dates: list[str]
    groups: list[str]
    weights: list[str]
    folds: list[str]

    @property
    def labels(self) -> list[str]:
        """The cells of the first label column."""
        return self.answers[0] if self.answers else [""] * len(self.ids)

    @staticmethod
    def joined(parts: Sequence["Marks"]) -> "Marks":
        """Those of consecutive blocks as one."""
        if len(parts) == 1:
            return parts[0]
        lists = {
            field.name: [cell for part in parts for cell in getattr(part, field.name)]
            for field in fields(Marks)
            if field.name != "answers"
        }
        answers = tuple([cell for part in parts for cell in part.answers[at]] for at in range(len(parts[0].answers)))
        return Marks(answers=answers, **lists)


@record(frozen=True, kw_only=True)
class DocumentBlock:
    """Usable rows of one table, in order. documents: texts and the columns beside them. rows: all cells, as read. lines: where
    each row begins in `source`."""

    source: str
    columns: tuple[str, ...]
    documents: Documents
    marks: Marks
    rows: list[list[str]]
    lines: list[int]

    def __reduce__(self) -> tuple[Any, ...]:
        """A block travels to other processes with its texts and cells packed."""
        cells = packed([cell for row in self.rows for cell in row])
        parts = tuple(packed(part) for part in self.documents.parts)
        beside = replace(self.documents, parts=())
        marks = {
            name: [*map(packed, found)] if name == "answers" else packed(found)
            for name, found in vars(self.marks).items()
        }
        return _travelled, (self.source, self.columns, beside, parts, marks, cells, self.lines)

    @property
    def texts(self) -> list[str]:
        """The whole text of each document."""
        return self.documents.texts

    @property
    def ids(self) -> list[str]:
        """What each document is called."""
        return self.marks.ids


def _travelled(
    source: str, columns: tuple[str, ...], beside: Documents, parts: Sequence[Packed], marks: dict[str, Any], *rows: Any
) -> DocumentBlock:
    """What `DocumentBlock.__reduce__` took apart. rows: their cells and their lines."""
    cells, lines = rows
    answers = tuple(unpacked(found) for found in marks.pop("answers"))
    held, width = unpacked(cells), len(columns)
    return DocumentBlock(
        source=source,
        columns=columns,
        documents=replace(beside, parts=tuple(unpacked(part) for part in parts)),
        marks=Marks(answers=answers, **{name: unpacked(found) for name, found in marks.items()}),
        rows=[held[at : at + width] for at in range(0, width * len(lines), width)],
        lines=lines,
    )


def joined_blocks(blocks: Sequence[DocumentBlock]) -> DocumentBlock:
    """Consecutive blocks of one table as one."""
    if len(blocks) == 1:
        return blocks[0]
    return DocumentBlock(
        source=blocks[0].source,
        columns=blocks[0].columns,
        documents=joined_documents([block.documents for block in blocks]),
        marks=Marks.joined([block.marks for block in blocks]),
        rows=[row for block in blocks for row in block.rows],
        lines=[line for block in blocks for line in block.lines],
    )


def large_blocks(blocks: Iterable[DocumentBlock], characters: int) -> Iterator[DocumentBlock]:
    """Blocks of one table joined to at least so many characters of text, but for a table's last; array operations like long
    arrays. Where blocks end depends on the rows alone."""
    held: list[DocumentBlock] = []
    size = 0
    for block in blocks:
        if held and (held[0].source != block.source or size >= characters):
            yield joined_blocks(held)
            held, size = [], 0
        if block.rows:
            held.append(block)
            size += sum(len(text) for part in block.documents.parts for text in part)
    if held:
        yield joined_blocks(held)


def complete_columns(inputs: Inputs, named: plan.Columns, label_is: LabelUse) -> tuple[plan.Columns, list[str]]:
    """The columns by the names that the first table gives them, guessed where nobody named them; and what to tell about it."""
    first = inputs.tables[0]
    rows: list[list[str]] = []
    refused: list[Refused] = []
    for block in first.blocks():
        rows, refused = block.rows, refused or block.refused[:1]
        if rows:
            break
    if not rows:
        why = f": {refused[0].reason} (line {refused[0].line})" if refused else ""
        raise DataProblem(f"{first.name} has no usable rows{why}.", "Give a table with documents, or check --encoding.")
    known, told = _known_columns(first, written_names(named, first), label_is)
    columns, notes = guessed_columns(first.columns, rows, known, label_is)
    notes = [*told, *notes]
    if (
        label_is == "needed"
        and not columns.group
        and all({*PASSAGE_COLUMNS} <= {*table.columns} for table in inputs.tables)
    ):
        columns = replace(columns, group=PASSAGE_COLUMNS[0])
        notes = [*notes, f"Passages of one {PASSAGE_COLUMNS[0]} are kept together (columns.group)."]
    if label_is != "not used" and (separator := separator_between(columns, first.columns, rows)):
        notes = [
            *notes,
            f"Cells of column {columns.label!r} seem to hold several labels: {separator_option(separator)} takes them apart.",
        ]
    if not named.id and any(columns.id not in table.columns for table in inputs.tables):
        columns = replace(columns, id="")
    return columns, notes


def separator_between(columns: plan.Columns, names: Sequence[str], rows: Sequence[Sequence[str]]) -> str:
    """What separates the labels of a cell, as it seems; empty where they hold one each, or where it is known."""
    if columns.label_separator or columns.label not in names:
        return ""
    place = names.index(columns.label)
    return separator_of([row[place] for row in rows])


def separator_in(inputs: Inputs, columns: plan.Columns) -> str:
    """The same by the first rows of the first table."""
    first = inputs.tables[0]
    rows = [row for block in islice(first.blocks(), 1) for row in block.rows]
    return separator_between(columns, first.columns, rows)


def separator_option(separator: str) -> str:
    """The option that takes the labels of a cell apart."""
    return f"--set {shlex.quote(f'columns.label_separator={separator}')}"


def _known_columns(table: Table, named: plan.Columns, label_is: LabelUse) -> tuple[plan.Columns, list[str]]:
    """The columns that nobody named and of which the table says what they hold; and what to tell about it."""
    text = named.text or ((table.text,) if table.text else ())
    wanted = label_is != "not used" and not named.label and table.label
    found = replace(named, text=text, label=table.label if wanted else named.label)
    told = [f"the text is column {table.text!r}"] if text and not named.text else []
    told += [f"the label column {table.label!r} (--label-from)"] if wanted else []
    return found, [f"No plan or option names the columns: {', '.join(told)}."] if told else []


def columns_for(sorter: Sorter, named: plan.Columns, inputs: Inputs, labels: bool = True) -> plan.Columns:
    """The columns to read for a sorter: those named now, else those of its training; what it can do without only where all
    tables have it (identifier, group, date). labels: whether label columns are read."""
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
class Needs:
    """What a row must have to be used: a text, a label in one of the label columns, or what else its columns ask for alone."""

    text: bool = True
    label: bool = False


LABELLED = Needs(label=True)


class Reader:
    """Reads rows as a plan or a sorter wants them.

    columns: which are what. apart: several text columns are parts of their own. cleaning: whose patterns may take without end
    on a document, which is refused then. beside: the names of number and of category columns, where no table tells them.
    of_training: whether the columns are those that a sorter was trained with.
    """

    def __init__(
        self,
        columns: plan.Columns,
        apart: bool = False,
        cleaning: Cleaner | None = None,
        needs: Needs | None = None,
        beside: tuple[Sequence[str], Sequence[str]] = ((), ()),
    ) -> None:
        self.columns = columns
        self.apart = apart and len(columns.text) > 1
        self.cleaning = cleaning if cleaning is not None and cleaning.has_patterns else None
        self.needs = needs or Needs()
        self.beside = beside
        self.of_training = False

    @staticmethod
    def of_plan(choices: plan.Plan, cleaning: Cleaner, needs: Needs | None = None) -> "Reader":
        """A reader of what a plan is to be tried on."""
        return Reader(choices.columns, choices.features.apart, cleaning, needs)

    @staticmethod
    def of_sorter(sorter: Sorter, columns: plan.Columns | None = None, needs: Needs | None = None) -> "Reader":
        """A reader of what a sorter is to decide about. columns: of the tables; those of its training without."""
        numbers = [
            name.removeprefix("column:") for name in sorter.space.beside.number_names if name.startswith("column:")
        ]
        categories = [name for name, _ in sorter.space.beside.categories]
        chosen = columns or replace(sorter.plan.columns, label="", also=(), row_weight="", fold="")
        found = Reader(chosen, sorter.plan.features.apart, sorter.cleaning, needs, (numbers, categories))
        found.of_training = columns is None or columns.text == sorter.plan.columns.text
        return found

    def blocks(self, inputs: Inputs, aside: SetAside) -> Iterator[DocumentBlock]:
        """All usable documents of all tables; every row that is not among them goes to `aside`.

        Raises UsageProblem for a named column that a table does not have.
        """
        vectors = RowVectors(Path(self.columns.document_vectors)) if self.columns.document_vectors else None
        for table in inputs.tables:
            try:
                roles = roles_in(table.columns, table.name, self.columns)
            except NoColumn as missing:
                raise (missing.of_training() if self.of_training else missing) from None
            for block in table.blocks():
                documents, faults = self._read(block.rows, roles)
                usable = [place for place, fault in enumerate(faults) if fault is None]
                refused = [
                    Refused(table.name, line, fault, tuple(row))
                    for row, line, fault in zip(block.rows, block.lines, faults, strict=True)
                    if fault is not None
                ]
                for one in sorted([*block.refused, *refused], key=lambda one: one.line):
                    aside.add(one)
                if vectors is not None:
                    documents = replace(
                        documents,
                        number_names=(*documents.number_names, *vectors.names),
                        numbers=np.hstack((documents.numbers, vectors.of(block))),
                    )
                yield _usable(block, documents, roles, usable)
        if vectors is not None:
            vectors.check_used_up()

    def of_object(self, found: Mapping[str, Any]) -> Documents | Reason:
        """The document of an object of JSON, read as a row of a table with its names as columns; what it lacks is an empty
        cell."""
        numbers, categories = self.beside
        columns = tuple(dict.fromkeys((*self.columns.text, *numbers, *categories)))
        roles = roles_in(
            columns, "the object", replace(plan.Columns(text=self.columns.text), numbers=(), categories=())
        )
        places = {name: place for place, name in enumerate(columns)}
        roles = replace(
            roles,
            numbers=tuple((name, places[name]) for name in numbers),
            categories=tuple((name, places[name]) for name in categories),
        )
        documents, faults = self._read([[cell_named(found, name) for name in columns]], roles)
        return faults[0] or documents

    def of_text(self, text: str) -> Documents | Reason:
        """The document of which only the text is known; it stands in the last text column."""
        return self.of_object({(self.columns.text or ("text",))[-1]: text})

    def _read(self, rows: Sequence[Sequence[str]], roles: Roles) -> tuple[Documents, list[Reason | None]]:
        """The documents of rows, and why each cannot be used, where it cannot."""
        texts = texts_of(rows, roles)
        numbers, faults = self._numbers(rows, roles)
        slow = self.cleaning.too_slow(texts) if self.cleaning is not None else {}
        for place, row in enumerate(rows):
            fault = self._fault(texts[place], row, roles)
            if place in slow:
                fault = Reason(Why.SLOW_PATTERN, (f"{slow[place]:g}",))
            faults[place] = fault or faults[place]
        parts = tuple([row[at] for row in rows] for at in roles.text) if self.apart else (texts,)
        documents = Documents(
            parts=parts,
            number_names=tuple(name for name, _ in roles.numbers),
            numbers=numbers,
            category_names=tuple(name for name, _ in roles.categories),
            categories=tuple([row[at].strip() for row in rows] for _, at in roles.categories),
        )
        return documents, faults

    def _numbers(self, rows: Sequence[Sequence[str]], roles: Roles) -> tuple[Floats, list[Reason | None]]:
        """(n, m) the number columns, NaN where a cell is empty or no number; the latter is a fault unless it may be filled."""
        values = np.full((len(rows), len(roles.numbers)), np.nan)
        faults: list[Reason | None] = [None] * len(rows)
        for column, (name, at) in enumerate(roles.numbers):
            for place, row in enumerate(rows):
                cell = row[at].strip()
                count = count_in(row[at])
                number = as_number(cell) if count is None else float(count)
                if cell and number is None and self.columns.wrong_numbers == "set-aside":
                    faults[place] = Reason(Why.NO_NUMBER, (name,))
                values[place, column] = np.nan if number is None else number
        return values, faults

    def _fault(self, text: str, row: Sequence[str], roles: Roles) -> Reason | None:
        if self.needs.text and not text.strip():
            return Reason(Why.NO_TEXT)
        if not self.needs.label:
            return None
        if roles.answers and not any(row[at].strip() for at in roles.answers):
            return Reason(Why.NO_LABEL)
        if roles.weight is not None:
            weight = as_number(row[roles.weight].strip())
            if weight is None or weight <= 0:
                return Reason(Why.NO_WEIGHT)
        return None


def _usable(block: Block, documents: Documents, roles: Roles, places: list[int]) -> DocumentBlock:
    """The documents at some places of a block, with what stands beside them."""
    rows = block.rows
    if len(places) < len(rows):
        documents, rows = documents.rows(places), [rows[place] for place in places]

    def cells(column: int | None) -> list[str]:
        return [row[column].strip() if column is not None else "" for row in rows]

    lines = [block.lines[place] for place in places]
    marks = Marks(
        ids=[row[roles.id] for row in rows] if roles.id is not None else [f"line {line}" for line in lines],
        answers=tuple(cells(column) for column in roles.answers),
        dates=cells(roles.date),
        groups=cells(roles.group),
        weights=cells(roles.weight),
        folds=cells(roles.fold),
    )
    return DocumentBlock(
        source=block.source, columns=block.columns, documents=documents, marks=marks, rows=rows, lines=lines
    )


def as_number(cell: str) -> float | None:
    """The finite number in a cell; a decimal comma is one too. None for anything else."""
    if cell.count(",") == 1 and "." not in cell:
        cell = cell.replace(",", ".")
    try:
        number = float(cell)
    except ValueError:
        return None
    return number if isfinite(number) else None


def texts_of(rows: Sequence[Sequence[str]], roles: Roles) -> list[str]:
    """The text of each row: its text columns joined by line ends, empty ones left out."""
    if len(roles.text) == 1:
        place = roles.text[0]
        return [row[place] for row in rows]
    return ["\n".join(row[place] for place in roles.text if row[place]) for row in rows]
