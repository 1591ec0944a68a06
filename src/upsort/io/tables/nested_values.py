"""Nested values of JSON as columns (`body.text`, `labels.section`, `tags[0]`), and cells that remember their JSON value."""

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

from upsort.io.tables.rows import cell_of

_DEEPEST = 6
_ITEMS_NAMED = 3  # of a list
_MOST = 300  # columns

Steps = tuple[str | int, ...]
"""Keys of objects and places in lists, from the outermost on."""
NOTHING_THERE = object()


class InnerName(str):
    """The name of a column that is inside another one. steps: from the object to it. covered: whether all that the outermost
    value holds, in any row, is in such columns."""

    steps: Steps
    covered: bool

    def __new__(cls, name: str, steps: Steps, covered: bool) -> "InnerName":
        """name: as it is shown."""
        instance = super().__new__(cls, name)
        instance.steps, instance.covered = steps, covered
        return instance

    def __reduce__(self) -> tuple[Any, ...]:
        return (InnerName, (str(self), self.steps, self.covered))

    @property
    def outermost(self) -> str:
        """The column that it is inside of."""
        return str(self.steps[0])


class InnerPaths:
    """Finds out what is inside the values of a table's rows."""

    def __init__(self) -> None:
        self._seen: Counter[Steps] = Counter()
        self._uncovered: set[str] = set()

    def add_row(self, row: Mapping[str, Any]) -> None:
        """One more row."""
        for key, value in row.items():
            if isinstance(value, dict | list):
                for steps, whole in _leaves(value, (key,)):
                    if len(steps) > 1:
                        self._seen[steps] += 1
                    if not whole or len(steps) == 1:
                        self._uncovered.add(key)

    def names(self, columns: Iterable[str]) -> tuple[list[InnerName], list[str]]:
        """The columns to add to those there are, and messages: those found in most rows, where there are too many."""
        used = set(columns)
        usual = {steps for steps, _ in self._seen.most_common(_MOST)}
        left_out = {str(steps[0]) for steps in self._seen if steps not in usual}
        names_by_text: dict[str, InnerName] = {}
        for steps in self._seen:
            name = _spelt(steps)
            if steps in usual and name not in used and name not in names_by_text:
                whole = str(steps[0]) not in self._uncovered | left_out
                names_by_text[name] = InnerName(name, steps, whole)
        notices = [f"{len(self._seen):,} different paths into nested values; the {_MOST} most frequent are columns"]
        return list(names_by_text.values()), notices if left_out else []


def _leaves(value: Any, steps: Steps) -> Iterator[tuple[Steps, bool]]:
    """The paths to values that are cells, and whether they hold all that is there."""
    if isinstance(value, dict) and value and len(steps) < _DEEPEST:
        for key, inner in value.items():
            yield from _leaves(inner, (*steps, key))
    elif isinstance(value, list):
        yield steps, not any(isinstance(item, dict | list) for item in value)
        if len(steps) < _DEEPEST:
            for place, item in enumerate(value[:_ITEMS_NAMED]):
                yield from _leaves(item, (*steps, place))
    else:
        yield steps, not isinstance(value, dict) or not value


def _spelt(steps: Steps) -> str:
    first, *rest = steps
    return str(first) + "".join(f"[{step}]" if isinstance(step, int) else f".{step}" for step in rest)


def value_at(value: Any, steps: Sequence[str | int]) -> Any:
    """What is at the end of some steps; NOTHING_THERE where they do not lead anywhere."""
    for step in steps:
        if isinstance(step, int):
            if not isinstance(value, list) or step >= len(value):
                return NOTHING_THERE
        elif not isinstance(value, dict) or step not in value:
            return NOTHING_THERE
        value = value[step]
    return value


def value_named(value: Any, name: str) -> Any:
    """What a name represents in an object: one of its own keys, or a path; NOTHING_THERE where it has no such thing."""
    if isinstance(value, dict):
        if name in value:
            return value[name]
        for key in value:
            if name.startswith(key) and name[len(key) : len(key) + 1] in {".", "["}:
                inner = value_named(value[key], name[len(key) :].removeprefix("."))
                if inner is not NOTHING_THERE:
                    return inner
    elif isinstance(value, list) and name.startswith("["):
        number, bracket, rest = name[1:].partition("]")
        if bracket and number.isdecimal() and int(number) < len(value):
            return value_named(value[int(number)], rest.removeprefix(".")) if rest else value[int(number)]
    return NOTHING_THERE


def outer_names(columns: Iterable[str]) -> list[str]:
    """The columns that are not inside others."""
    return [name for name in columns if not isinstance(name, InnerName)]


def flat_names(columns: Sequence[str]) -> list[str]:
    """The columns of a table without nested values: an object that others show whole is left out, and so are single items of
    lists."""
    shown = {name.outermost for name in _inner(columns) if name.covered}
    return [name for name in columns if name not in shown and not _is_item(name)]


def plain_names(columns: Sequence[str]) -> list[str]:
    """The columns that neither have others inside nor are single items of lists."""
    outermost = {name.outermost for name in _inner(columns) if not _is_item(name)}
    return [name for name in columns if name not in outermost and not _is_item(name)]


def _inner(columns: Sequence[str]) -> list[InnerName]:
    return [name for name in columns if isinstance(name, InnerName)]


def _is_item(name: str) -> bool:
    return isinstance(name, InnerName) and any(isinstance(step, int) for step in name.steps)


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
    """The cell of what a name or a path represents in an object."""
    value = value_named(values, name)
    return ABSENT if value is NOTHING_THERE else _cell(value)


def count_in(cell: str) -> int | None:
    """How many items a cell that was a list has; None for any other."""
    return len(cell.value) if isinstance(cell, TypedCell) and isinstance(cell.value, list) else None


def _cell(value: Any) -> str:
    return value if isinstance(value, str) else TypedCell(value)
