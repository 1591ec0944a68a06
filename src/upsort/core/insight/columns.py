"""What the other columns of a table hold: numbers, dates or categories, told from a sample and tallied as rows come in."""

import re
from collections import Counter
from collections.abc import Iterator, Sequence
from typing import Literal

from upsort.core.dates import DateOrder, Dates, DateTally, dates_of
from upsort.core.records import record

Kind = Literal["number", "date", "category", "text", "empty"]

_MOST_CATEGORIES = 50
_MOST_DISTINCT = 10_000
_LONG = 60
_NUMBER = re.compile(r"\s*[-+]?(?:\d+(?:[.,]\d+)?|\.\d+)\s*")


def kind_of(cells: Sequence[str]) -> Kind:
    """What most of a column's cells look like; a column of two values is one of categories even where they are numbers."""
    values = [cell for cell in cells if cell.strip()]
    if not values:
        return "empty"
    enough = 0.9 * len(values)
    dates = dates_of(values)
    if sum(dates.day_number(value) is not None for value in values) >= enough:
        return "date"
    distinct = len({value.strip() for value in values})
    if distinct > 2 and sum(_NUMBER.fullmatch(value) is not None for value in values) >= enough:
        return "number"
    few = distinct <= max(2, min(_MOST_CATEGORIES, len(values) // 3))
    return "category" if few and max(map(len, values)) <= _LONG else "text"


@record(frozen=True, kw_only=True)
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
        self._dates = DateTally()
        self._months: dict[DateOrder, Counter[str]] = {order: Counter() for order in DateOrder}

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
            self._dates.add(cell for cell, _ in filled)
            for order, months in self._months.items():
                months.update(_months([cell for cell, _ in filled], Dates(order)))
        elif len(self._values) < _MOST_DISTINCT:
            self._values.update(cell for cell, _ in filled)

    def summary(self) -> ColumnSummary:
        """What was found."""
        numbers = self._counts.total()
        months = sorted(self._months[self._dates.dates().order].items())
        ordered = months if self.kind == "date" else self._values.most_common(8)
        return ColumnSummary(
            name=self.name,
            kind=self.kind,
            filled=self._filled,
            distinct=len(months) if self.kind == "date" else len(self._values),
            values=ordered if self.kind in {"date", "category"} else [],
            mean=sum(self._sums.values()) / numbers if numbers else None,
            least=self._least if numbers else None,
            most=self._most if numbers else None,
            means={label: self._sums[label] / count for label, count in sorted(self._counts.items()) if label},
        )


def _months(cells: Sequence[str], dates: Dates) -> Iterator[str]:
    """The months of the cells that hold a day."""
    for cell in cells:
        if (day := dates.day_number(cell)) is not None:
            yield f"{day.year}-{day.month:02}"
