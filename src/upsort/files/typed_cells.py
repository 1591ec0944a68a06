"""Cells that remember what they were in JSON: text everywhere, and the value again where JSON is written."""

from collections.abc import Mapping
from typing import Any

from upsort.files.inner_values import NOTHING_THERE, Steps, value_at, value_named
from upsort.files.rows import cell_of


class TypedCell(str):
    """A cell that was another value than text."""

    value: Any

    def __new__(cls, value: Any) -> "TypedCell":
        """value: of JSON."""
        cell = super().__new__(cls, cell_of(value))
        cell.value = value
        return cell

    def __reduce__(self) -> tuple[Any, ...]:
        return (TypedCell, (self.value,))


class AbsentCell(str):
    """An empty cell under a column that its row did not have."""

    def __reduce__(self) -> tuple[Any, ...]:
        return (AbsentCell, ())


ABSENT = AbsentCell()


def cell_from(values: dict[str, Any], column: str) -> str:
    """The cell of an object of JSON under a column."""
    if column not in values:
        return ABSENT
    return _cell(values[column])


def cell_at(values: dict[str, Any], steps: Steps) -> str:
    """The cell of what is inside an object."""
    value = value_at(values, steps)
    return ABSENT if value is NOTHING_THERE else _cell(value)


def cell_named(values: Mapping[str, Any], name: str) -> str:
    """The cell of what a name or a path stands for in an object."""
    value = value_named(values, name)
    return ABSENT if value is NOTHING_THERE else _cell(value)


def count_in(cell: str) -> int | None:
    """How many items a cell that was a list has; None for any other."""
    return len(cell.value) if isinstance(cell, TypedCell) and isinstance(cell.value, list) else None


def _cell(value: Any) -> str:
    return value if isinstance(value, str) else TypedCell(value)
