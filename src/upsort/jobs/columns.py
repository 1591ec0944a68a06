"""What columns a table has: the first thing to ask of an unknown file."""

from dataclasses import dataclass
from itertools import islice

from upsort.core import plan
from upsort.core.insight.columns import kind_of
from upsort.files.columns import guessed_columns
from upsort.files.sources import Inputs

_SAMPLE_BLOCKS = 1


@dataclass(frozen=True, kw_only=True)
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


def columns_of(inputs: Inputs) -> list[ColumnInfo]:
    """Every column of every table, from the first block of its rows."""
    found = []
    for table in inputs.tables:
        rows = [row for block in islice(table.blocks(), _SAMPLE_BLOCKS) for row in block.rows]
        guesses = _guesses(table.columns, rows)
        for place, name in enumerate(table.columns):
            cells = [row[place] for row in rows]
            filled = [cell.strip() for cell in cells if cell.strip()]
            kind = kind_of(cells)
            examples = list(dict.fromkeys(filled))[:3]
            share = len(filled) / len(cells) if cells else 0.0
            guess = guesses.get(name, "date" if kind == "date" else "")
            found.append(
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
    return found


def _guesses(columns: tuple[str, ...], rows: list[list[str]]) -> dict[str, str]:
    if not rows:
        return {}
    guessed, _ = guessed_columns(columns, rows, plan.Columns(), "welcome")
    return {guessed.id: "id", guessed.label: "label", **dict.fromkeys(guessed.text, "text")}
