"""What columns a table has: the first thing to ask of an unknown file."""

from itertools import islice

from upsort.core import plan
from upsort.core.insight.columns import kind_of
from upsort.core.records import record
from upsort.files.columns import guessed_columns
from upsort.files.rows import SourceTable
from upsort.files.sources import Inputs

_SAMPLE_BLOCKS = 1


@record(frozen=True, kw_only=True)
class ColumnInfo:
    """One column as its first rows show it. guess: text, label, id, date or empty."""

    table: str
    place: int
    name: str
    kind: str
    filled: float
    distinct: int
    examples: list[str]
    guess: str


@record(frozen=True)
class ColumnPreview:
    """How much of a table was looked at. more: whether there is more. files: whether its rows are files."""

    table: str
    rows: int
    more: bool
    files: bool


def columns_of(inputs: Inputs) -> tuple[list[ColumnInfo], list[ColumnPreview]]:
    """Every column of every table, from the first block of its rows."""
    infos, previews = [], []
    for table in inputs.tables:
        blocks = table.blocks()
        first = list(islice(blocks, _SAMPLE_BLOCKS))
        rows = [row for block in first for row in block.rows]
        files = any(block.files is not None for block in first)
        previews.append(ColumnPreview(table.name, len(rows), next(blocks, None) is not None, files))
        guesses = _guesses(table, rows)
        for place, name in enumerate(table.columns):
            cells = [row[place] for row in rows]
            filled = [cell.strip() for cell in cells if cell.strip()]
            kind = kind_of(cells)
            examples = list(dict.fromkeys(filled))[:3]
            share = len(filled) / len(cells) if cells else 0.0
            guess = guesses.get(name, "date" if kind == "date" else "")
            infos.append(
                ColumnInfo(
                    table=table.name,
                    place=place + 1,
                    name=name,
                    kind=kind,
                    filled=share,
                    distinct=len(set(filled)),
                    examples=examples,
                    guess=guess,
                )
            )
    return infos, previews


def _guesses(table: SourceTable, rows: list[list[str]]) -> dict[str, str]:
    if not rows:
        return {}
    known = plan.Columns(text=(table.text,) if table.text else (), label=table.label)
    guessed, _ = guessed_columns(table.columns, rows, known, "welcome")
    return {guessed.id: "id", guessed.label: "label", **dict.fromkeys(guessed.text, "text")}
