"""Which columns of a table are the text, the label and the identifier: named, numbered, or guessed and told."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

from upsort.core import plan
from upsort.core.errors import UsageProblem
from upsort.core.names import listed, suggestion
from upsort.files.rows import Block, Table

_SAMPLE = 500
_LABEL_NAMES = ("label", "topic", "category", "class", "kind", "type", "group")
_ID_NAMES = ("id", "ref", "reference", "number", "no", "key", "file")


@dataclass(frozen=True)
class Roles:
    """Places of columns in one table. text: one or more; label and id: None where there is none."""

    text: tuple[int, ...]
    label: int | None
    id: int | None


def column_place(name: str, columns: Sequence[str], source: str) -> int:
    """The place of a column given by name, or by number counted from 1 where no column has that name.

    Raises UsageProblem with the nearest names.
    """
    if name in columns:
        return columns.index(name)
    stripped = [column.strip().casefold() for column in columns]
    if stripped.count(name.strip().casefold()) == 1:
        return stripped.index(name.strip().casefold())
    if name.isdigit() and 1 <= int(name) <= len(columns):
        return int(name) - 1
    raise UsageProblem(f"{source} has no column {name!r}.", suggestion(name, columns, "columns"))


def roles_in(columns: Sequence[str], source: str, named: plan.Columns) -> Roles:
    """Where the named columns stand in one table. Raises UsageProblem for one that is not there."""
    return Roles(
        tuple(column_place(name, columns, source) for name in named.text),
        column_place(named.label, columns, source) if named.label else None,
        column_place(named.id, columns, source) if named.id else None,
    )


def guessed_columns(
    columns: Sequence[str], rows: Sequence[Sequence[str]], named: plan.Columns, need_label: bool
) -> tuple[plan.Columns, list[str]]:
    """Fill in the text and label columns that nobody named, from the first rows of a table.

    The text is the column with the longest cells; the label the column whose few short values come back most often.
    Returns the completed columns and what to tell.
    """
    rows = rows[:_SAMPLE]
    text, label = named.text, named.label
    told = []
    lengths = [sum(len(row[place]) for row in rows) for place in range(len(columns))]
    if not text:
        place = max(range(len(columns)), key=lambda place: lengths[place])
        text = (columns[place],)
        told.append(f"the text is taken from column {columns[place]!r} (--text)")
    if need_label and not label:
        candidates = [place for place, name in enumerate(columns) if name not in text and name != named.id]
        best = max(
            candidates, key=lambda place: _label_merit(columns[place], [row[place] for row in rows]), default=None
        )
        if best is None or _label_merit(columns[best], [row[best] for row in rows]) <= 0:
            raise UsageProblem("No column looks like a label.", f"Name it with --label. Columns: {listed(columns)}.")
        label = columns[best]
        told.append(f"the label from column {label!r} (--label)")
    note = [f"No plan or option names the columns: {', '.join(told)}."] if told else []
    return plan.Columns(text=text, label=label, id=named.id or _guessed_id(columns, rows)), note


def _label_merit(name: str, cells: Sequence[str]) -> float:
    """How much a column looks like labels: few short values that come back, a telling name; 0 or less: not at all."""
    values = [cell for cell in cells if cell.strip()]
    distinct = len(set(values))
    if distinct < 2 or distinct > max(2, len(values) / 2) or max(map(len, values)) > 60:
        return 0.0
    numeric = sum(value.replace(".", "").isdigit() for value in values) / len(values)
    telling = 1.0 if name.strip().casefold() in _LABEL_NAMES else 0.0
    return telling + 1.0 - distinct / len(values) - 0.5 * numeric


def _guessed_id(columns: Sequence[str], rows: Sequence[Sequence[str]]) -> str:
    """A column named like an identifier whose values are all different, or none."""
    for place, name in enumerate(columns):
        values = [row[place] for row in rows]
        if name.strip().casefold() in _ID_NAMES and len(set(values)) == len(values):
            return name
    return ""


def renamed(table: Table, names: Mapping[str, str]) -> Table:
    """The same table with columns called otherwise; names of columns that it does not have are passed over.

    Raises UsageProblem when two columns would have one name.
    """
    columns = tuple(names.get(column, column) for column in table.columns)
    if columns == table.columns:
        return table
    if len(set(columns)) < len(columns):
        twice = next(column for column in columns if columns.count(column) > 1)
        raise UsageProblem(f"Renaming would give {table.name} two columns {twice!r}.", "Rename the other one as well.")

    def blocks() -> Iterator[Block]:
        for block in table.blocks():
            yield replace(block, columns=columns)

    return Table(table.name, columns, blocks, table.notes)
