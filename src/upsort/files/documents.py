"""Documents out of tables: each usable row with its text and label, and the other rows set aside."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import islice
from typing import TYPE_CHECKING

from upsort.core import plan
from upsort.core.errors import DataProblem
from upsort.files.columns import LabelUse, Roles, guessed_columns, roles_in
from upsort.files.rows import Refused
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs

if TYPE_CHECKING:
    from upsort.core.text.cleaning import Cleaner


@dataclass(frozen=True)
class DocumentBlock:
    """Usable rows of one table, in order. labels: empty strings where no label is needed and none is given.

    rows: all cells, as read. lines: where each row begins in `source`.
    """

    source: str
    columns: tuple[str, ...]
    texts: list[str]
    labels: list[str]
    ids: list[str]
    rows: list[list[str]]
    lines: list[int]


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
) -> Iterator[DocumentBlock]:
    """All usable documents; every row that is not among them goes to `aside`.

    cleaning: where its patterns may take without end on a document, that document is set aside as well.

    Raises UsageProblem for a named column that a table does not have.
    """
    for table in inputs.tables:
        roles = roles_in(table.columns, table.name, named)
        for block in table.blocks():
            unusable = list(block.refused)
            texts = texts_of(block.rows, roles)
            usable = list(range(len(texts)))
            slow = cleaning.too_slow(texts) if cleaning is not None and cleaning.has_patterns else {}
            if need_text or need_label:
                usable = []
                for place, text in enumerate(texts):
                    reason = slow.get(place) or _fault(text, block.rows[place], roles, need_label, need_text)
                    if reason:
                        unusable.append(Refused(table.name, block.lines[place], reason, tuple(block.rows[place])))
                    else:
                        usable.append(place)
            for refused in sorted(unusable, key=lambda refused: refused.line):
                aside.add(refused)
            label, identity = roles.label, roles.id
            yield DocumentBlock(
                table.name,
                table.columns,
                [texts[place] for place in usable],
                [block.rows[place][label].strip() if label is not None else "" for place in usable],
                [
                    block.rows[place][identity] if identity is not None else f"line {block.lines[place]}"
                    for place in usable
                ],
                [block.rows[place] for place in usable],
                [block.lines[place] for place in usable],
            )


def texts_of(rows: Sequence[Sequence[str]], roles: Roles) -> list[str]:
    """The text of each row: its text columns joined by line ends, empty ones left out."""
    if len(roles.text) == 1:
        place = roles.text[0]
        return [row[place] for row in rows]
    return ["\n".join(row[place] for place in roles.text if row[place]) for row in rows]


def _fault(text: str, row: Sequence[str], roles: Roles, need_label: bool, need_text: bool) -> str:
    if need_text and not text.strip():
        return "no text"
    if need_label and roles.label is not None and not row[roles.label].strip():
        return "no label"
    return ""
