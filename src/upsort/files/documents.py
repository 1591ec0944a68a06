"""Documents out of tables: each usable row with its text and label, and the other rows set aside."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import islice
from math import isfinite
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

import numpy as np

from upsort.core import plan
from upsort.core.documents import Documents, joined_documents
from upsort.core.errors import DataProblem
from upsort.files.columns import LabelUse, Roles, guessed_columns, roles_in
from upsort.files.rows import Refused
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.files.vectors import RowVectors

if TYPE_CHECKING:
    from upsort.core.arrays import Floats
    from upsort.core.text.cleaning import Cleaner


T = TypeVar("T")


@dataclass(frozen=True)
class DocumentBlock:
    """Usable rows of one table, in order. labels: empty strings where no label is needed and none is given.

    also: the labels of further answers. documents: texts and the columns beside them. rows: all cells, as read. lines: where
    each row begins in `source`. dates, groups, weights: the cells of those columns, empty where none is named.
    """

    source: str
    columns: tuple[str, ...]
    documents: Documents
    labels: list[str]
    ids: list[str]
    also: list[list[str]]
    dates: list[str]
    groups: list[str]
    weights: list[str]
    folds: list[str]
    rows: list[list[str]]
    lines: list[int]

    @property
    def texts(self) -> list[str]:
        """The whole text of each document."""
        return self.documents.texts


def joined_blocks(blocks: Sequence[DocumentBlock]) -> DocumentBlock:
    """Consecutive blocks of one table as one."""
    if len(blocks) == 1:
        return blocks[0]

    def all_of(cells: "Callable[[DocumentBlock], list[T]]") -> "list[T]":
        return [cell for block in blocks for cell in cells(block)]

    return DocumentBlock(
        blocks[0].source,
        blocks[0].columns,
        joined_documents([block.documents for block in blocks]),
        all_of(lambda block: block.labels),
        all_of(lambda block: block.ids),
        [[cell for block in blocks for cell in block.also[place]] for place in range(len(blocks[0].also))],
        all_of(lambda block: block.dates),
        all_of(lambda block: block.groups),
        all_of(lambda block: block.weights),
        all_of(lambda block: block.folds),
        all_of(lambda block: block.rows),
        all_of(lambda block: block.lines),
    )


def complete_columns(inputs: Inputs, named: plan.Columns, label_is: LabelUse) -> tuple[plan.Columns, list[str]]:
    """The columns by name, guessed from the first table where nobody named them; and what to tell about it."""
    first = inputs.tables[0]
    rows = [row for block in islice(first.blocks(), 1) for row in block.rows]
    if not rows:
        raise DataProblem(f"{first.name} has no usable rows.", "Give a table with documents, or check --encoding.")
    columns, notes = guessed_columns(first.columns, rows, named, label_is)
    if not named.id and any(columns.id not in table.columns for table in inputs.tables):
        columns = replace(columns, id="")
    return columns, notes


def read_documents(
    inputs: Inputs,
    named: plan.Columns,
    aside: SetAside,
    need_label: bool = False,
    need_text: bool = True,
    cleaning: "Cleaner | None" = None,
    apart: bool = False,
) -> Iterator[DocumentBlock]:
    """All usable documents; every row that is not among them goes to `aside`.

    cleaning: where its patterns may take without end on a document, that document is set aside as well. apart: several text
    columns are parts of their own.

    Raises UsageProblem for a named column that a table does not have.
    """
    vectors = RowVectors(Path(named.document_vectors)) if named.document_vectors else None
    for table in inputs.tables:
        roles = roles_in(table.columns, table.name, named)
        for block in table.blocks():
            unusable = list(block.refused)
            texts = texts_of(block.rows, roles)
            numbers, wrong = _numbers(block.rows, roles, named.wrong_numbers == "fill")
            usable = list(range(len(texts)))
            slow = cleaning.too_slow(texts) if cleaning is not None and cleaning.has_patterns else {}
            if need_text or need_label or wrong:
                usable = []
                for place, text in enumerate(texts):
                    fault = _fault(text, block.rows[place], roles, need_label, need_text)
                    reason = slow.get(place) or fault or wrong.get(place, "")
                    if reason:
                        unusable.append(Refused(table.name, block.lines[place], reason, tuple(block.rows[place])))
                    else:
                        usable.append(place)
            for refused in sorted(unusable, key=lambda refused: refused.line):
                aside.add(refused)
            rows = [block.rows[place] for place in usable]
            if apart and len(roles.text) > 1:
                parts = tuple([row[column] for row in rows] for column in roles.text)
            else:
                parts = ([texts[place] for place in usable],)
            names = tuple(name for name, _ in roles.numbers)
            numbers = numbers[usable]
            if vectors is not None:
                names = (*names, *vectors.names)
                numbers = np.hstack((numbers, vectors.of(block)[usable]))
            yield DocumentBlock(
                table.name,
                table.columns,
                Documents(
                    parts,
                    names,
                    numbers,
                    tuple(name for name, _ in roles.categories),
                    tuple([row[column].strip() for row in rows] for _, column in roles.categories),
                ),
                _cells(rows, roles.label),
                [
                    block.rows[place][roles.id] if roles.id is not None else f"line {block.lines[place]}"
                    for place in usable
                ],
                [_cells(rows, column) for column in roles.also],
                _cells(rows, roles.date),
                _cells(rows, roles.group),
                _cells(rows, roles.weight),
                _cells(rows, roles.fold),
                rows,
                [block.lines[place] for place in usable],
            )
    if vectors is not None:
        vectors.check_used_up()


def _cells(rows: Sequence[Sequence[str]], column: int | None) -> list[str]:
    return [row[column].strip() if column is not None else "" for row in rows]


def _numbers(rows: Sequence[Sequence[str]], roles: Roles, fill: bool) -> "tuple[Floats, dict[int, str]]":
    """(n, m) the number columns, NaN where a cell is empty or (fill) no number; and why rows cannot be used otherwise."""
    values = np.full((len(rows), len(roles.numbers)), np.nan)
    wrong: dict[int, str] = {}
    for column, (name, at) in enumerate(roles.numbers):
        for place, row in enumerate(rows):
            cell = row[at].strip()
            number = as_number(cell)
            if cell and number is None and not fill:
                wrong[place] = f"no number in column {name}"
            values[place, column] = np.nan if number is None else number
    return values, wrong


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


def _fault(text: str, row: Sequence[str], roles: Roles, need_label: bool, need_text: bool) -> str:
    if need_text and not text.strip():
        return "no text"
    if need_label and roles.label is not None and not any(row[at].strip() for at in (roles.label, *roles.also)):
        return "no label"
    if roles.weight is not None and need_label:
        weight = as_number(row[roles.weight].strip())
        if weight is None or weight <= 0:
            return "no weight above 0"
    return ""
