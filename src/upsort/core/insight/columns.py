"""What the other columns of a table hold: numbers, dates or categories, told from a sample and tallied as rows come in."""

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

Kind = Literal["number", "date", "category", "text", "empty"]

_MOST_CATEGORIES = 50
_MOST_HELD = 10_000
_LONG = 60
_NUMBER = re.compile(r"\s*[-+]?(?:\d+(?:[.,]\d+)?|\.\d+)\s*")
# Year first, or day first with a full stop or slash: 2024-03-05, 2024/3/5, 5.3.2024, 05/03/2024; a time may follow.
_DATE = re.compile(r"\s*(?:(\d{4})[-/.](\d{1,2})[-/.]\d{1,2}|\d{1,2}[./](\d{1,2})[./](\d{4}))(?:[ T].*)?\s*", re.DOTALL)


def kind_of(cells: Sequence[str]) -> Kind:
    """What most of a column's cells look like; a column of two values is one of categories even where they are numbers."""
    values = [cell for cell in cells if cell.strip()]
    if not values:
        return "empty"
    enough = 0.9 * len(values)
    if sum(_DATE.fullmatch(value) is not None for value in values) >= enough:
        return "date"
    distinct = len({value.strip() for value in values})
    if distinct > 2 and sum(_NUMBER.fullmatch(value) is not None for value in values) >= enough:
        return "number"
    few = distinct <= max(2, min(_MOST_CATEGORIES, len(values) // 3))
    return "category" if few and max(map(len, values)) <= _LONG else "text"


def month_of(cell: str) -> str:
    """The month of a date as YYYY-MM; empty where the cell is no date."""
    found = _DATE.fullmatch(cell)
    if not found:
        return ""
    year, month = (found[1], found[2]) if found[1] else (found[4], found[3])
    return f"{year}-{int(month):02d}" if 1 <= int(month) <= 12 else ""


@dataclass(frozen=True, kw_only=True)
class ColumnSummary:
    """One column. filled: cells that are not empty. values: its commonest values, or documents per month, in order.

    mean, least, most: of numbers; means: of each label.
    """

    name: str
    kind: Kind
    filled: int
    distinct: int
    values: list[tuple[str, int]]
    mean: float | None
    least: float | None
    most: float | None
    means: dict[str, float]


class ColumnTally:
    """Adds up one column's cells."""

    def __init__(self, name: str, kind: Kind) -> None:
        self.name, self.kind = name, kind
        self._filled = 0
        self._values: Counter[str] = Counter()
        self._sums: dict[str, float] = {}
        self._counts: Counter[str] = Counter()
        self._least = float("inf")
        self._most = float("-inf")

    def add(self, cells: Sequence[str], labels: Sequence[str]) -> None:
        """Take in the cells of a block, with the label of each row."""
        filled = [(cell, label) for cell, label in zip(cells, labels, strict=True) if cell and not cell.isspace()]
        self._filled += len(filled)
        if self.kind == "number":
            for cell, label in filled:
                if _NUMBER.fullmatch(cell):
                    number = float(cell.replace(",", "."))
                    self._sums[label] = self._sums.get(label, 0.0) + number
                    self._counts[label] += 1
                    self._least, self._most = min(self._least, number), max(self._most, number)
        elif self.kind == "date":
            self._values.update(filter(None, (month_of(cell) for cell, _ in filled)))
        elif len(self._values) < _MOST_HELD:
            self._values.update(cell for cell, _ in filled)

    def summary(self) -> ColumnSummary:
        """What was found."""
        numbers = self._counts.total()
        ordered = sorted(self._values.items()) if self.kind == "date" else self._values.most_common(8)
        return ColumnSummary(
            name=self.name,
            kind=self.kind,
            filled=self._filled,
            distinct=len(self._values),
            values=ordered if self.kind in {"date", "category"} else [],
            mean=sum(self._sums.values()) / numbers if numbers else None,
            least=self._least if numbers else None,
            most=self._most if numbers else None,
            means={label: self._sums[label] / count for label, count in sorted(self._counts.items()) if label},
        )
