"""A table of costs: what it costs to sort a document of one label as another.

The first cell says which side is which: `true`, `sorted as` or `given` what the rows are, `true / sorted as` or the like both.
Where it says nothing, rows are what documents are sorted as, and columns their true labels.
"""

import csv
import re
from pathlib import Path

from upsort.core.errors import DataProblem
from upsort.core.learning.method import Costs
from upsort.files.lines import lines_of

_DELIMITERS = ",;\t"
_AXES = re.compile(r"\b(?:(?P<true>true|actual)|(?P<given>given|sorted[ _]as|predicted))\b", re.IGNORECASE)


def read_costs(path: Path) -> Costs:
    """The costs of sorting as a label, by the true label. Raises DataProblem for what is no such table."""
    corner, costs = _read(path)
    if not _rows_are_true(corner):
        return costs
    return {given: {true: costs[true][given] for true in costs} for given in costs}


def how_costs_are_read(path: Path) -> str:
    """What is to be said of a table that does not tell which side is which; empty where it does, or where both are the same."""
    corner, costs = _read(path)
    if _AXES.search(corner) or all(costs[a][b] == costs[b][a] for a in costs for b in costs):
        return ""
    return (
        f"{path}: its rows are read as what documents are sorted as, its columns as their true labels. To say so, or the "
        "opposite, write 'sorted as' or 'true' into its first cell."
    )


def _rows_are_true(corner: str) -> bool:
    match = _AXES.search(corner)  # of two, the rows come first: true / sorted as
    return match is not None and match["true"] is not None


def _read(path: Path) -> tuple[str, Costs]:
    """The first cell, and the costs by rows."""
    lines = lines_of(path)
    first = next((line for line in lines if line.strip()), "")
    delimiter = max(_DELIMITERS, key=first.count)
    rows = [row for row in csv.reader(lines, delimiter=delimiter) if any(cell.strip() for cell in row)]
    head = [cell.strip() for cell in rows[0][1:]] if rows else []
    if not head:
        raise DataProblem(f"{path} holds no costs.", "Give each label a row and a column.")
    costs: dict[str, dict[str, float]] = {}
    for number, row in enumerate(rows[1:], 2):
        values = [_cost_in(cell) for cell in row[1:]]
        if len(values) != len(head) or any(value is None for value in values):
            raise DataProblem(
                f"{path}, row {number}: {len(head)} costs of 0 or more were expected.", "Mend the row; 0 costs nothing."
            )
        costs[row[0].strip()] = {name: float(value or 0.0) for name, value in zip(head, values, strict=True)}
    if sorted(row[0].strip() for row in rows[1:]) != sorted(head) or len(head) < 2:
        raise DataProblem(
            f"{path}: the rows and the columns do not name the same labels.", "Give each label a row and a column."
        )
    if len(costs) < len(head):
        raise DataProblem(f"{path} names a label twice.", "Give each label one row and one column.")
    return rows[0][0], costs


def _cost_in(cell: str) -> float | None:
    """The cost in a cell, with a point or a comma; None for what is none."""
    try:
        value = float(cell.strip().replace(",", "."))
    except ValueError:
        return None
    return value if 0 <= value < float("inf") else None
