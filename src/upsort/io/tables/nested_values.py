"""Values as cells: as text; what is nested as columns (`body.text`, `tags[0]`); and cells that remember their JSON value."""

import datetime
import json
import re
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from math import isfinite
from typing import Any

from upsort.core.arrays import compact
from upsort.core.errors import UsageProblem, suggestion
from upsort.core.lazy import msgspec

_DEEPEST = 6
_ITEMS_NAMED = 3  # of a list
_MOST = 300  # columns

DEEPEST = 200  # containers inside each other
_OUTSIDE_STRINGS = re.compile(r'"(?:[^"\\]|\\.)*+(?:"|\\?\Z)|[^\[\]{}"]++', re.DOTALL)  # all that is no bracket that counts

Steps = tuple[str | int, ...]
"""Keys of objects and places in lists, from the outermost on."""
NOTHING_THERE = object()
_NESTING = frozenset({dict, list})


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
        if _NESTING.isdisjoint(map(type, row.values())):
            return
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


LIST_JOINED_BY = "; "
"""What stands between the items of a list that is a cell."""


def cell_of(value: Any) -> str:
    """A value of JSON, a spreadsheet or a typed table as the text of a cell; nothing at all is an empty cell."""
    if type(value) is int:  # by far the most frequent
        return str(value)
    match value:
        case None:
            return ""
        case str():
            return value
        case bool():
            return "true" if value else "false"
        case float() if value.is_integer() and abs(value) < 1e15:
            return str(int(value))
        case datetime.datetime() if value.time() == datetime.time():
            return value.date().isoformat()
        case datetime.date() | datetime.time():
            return value.isoformat()
        case datetime.timedelta():  # a time of day, or of more than one, of MySQL
            minutes, rest = divmod(abs(value), datetime.timedelta(minutes=1))
            clock = (datetime.datetime.min + rest).time().isoformat()
            return f"{'-' if value < -value else ''}{minutes // 60:02}:{minutes % 60:02}{clock[5:]}"
        case list() if not any(isinstance(item, dict | list) for item in value):
            return LIST_JOINED_BY.join(cell_of(item) for item in value)
        case dict() | list():
            return json.dumps(value, ensure_ascii=False, default=str)
        case _:
            return str(value)


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


NULL = TypedCell(None)
"""A cell without a value."""


class BytesCell(str):
    """A cell of bytes: the text that they are in UTF-8, or those that are none as \\xNN."""

    value: bytes
    readable: bool

    def __new__(cls, value: bytes) -> "BytesCell":
        """value: the bytes."""
        text = value.decode("utf-8", "backslashreplace")
        cell = super().__new__(cls, text)
        cell.value, cell.readable = value, text.encode("utf-8") == value
        return cell

    def __reduce__(self) -> tuple[Any, ...]:
        return (BytesCell, (self.value,))


def cells_of(values: Sequence[Any]) -> Sequence[str]:
    """The cells of values of a database."""
    kinds = set(map(type, values))
    if kinds == {str}:
        return compact(values, few=-1)
    return [value if isinstance(value, str) else _cell_of_database(value) for value in values]


def _cell_of_database(value: Any) -> str:
    if value is None:
        return NULL
    if isinstance(value, bytes | bytearray | memoryview):
        return BytesCell(bytes(value))
    return TypedCell(value) if _is_json(value) else cell_of(value)


def _is_json(value: Any) -> bool:
    """Whether JSON has such a value, an array of such ones included."""
    if isinstance(value, list):
        return all(item is None or isinstance(item, str) or _is_json(item) for item in value)
    return isinstance(value, int) or (isinstance(value, float) and isfinite(value))


def cells_under(values: Sequence[dict[str, Any]], name: str) -> Sequence[str]:
    """The cells of objects of JSON under the name of a column."""
    if isinstance(name, InnerName):
        found = [value_at(value, name.steps) for value in values]
    else:
        found = [value.get(name, NOTHING_THERE) for value in values]
    if set(map(type, found)) <= {str}:
        return compact(found, few=-1)
    return [ABSENT if cell is NOTHING_THERE else cell if isinstance(cell, str) else TypedCell(cell) for cell in found]


def cell_named(values: Mapping[str, Any], name: str) -> str:
    """The cell of what a name or a path represents in an object."""
    value = value_named(values, name)
    return ABSENT if value is NOTHING_THERE else _cell(value)


_PLAIN = frozenset({int, bool, type(None)})
_LONG = 1 << 63


def plain_object(line: bytes) -> dict[str, Any] | None:
    """The object on a line of UTF-8, by a decoder that is several times as fast but looks for no fault; None for what it might
    read otherwise than `json_tables.decoded`: numbers with a point or of many digits, nested values, keys that occur twice."""
    try:
        value = msgspec.json.decode(line)
    except (msgspec.DecodeError, ValueError, RecursionError):
        return None
    if type(value) is not dict or b"\\\\" in line:
        return None
    texts = 0
    for each in value.values():
        kind = type(each)
        if kind is str:
            texts += 1
        elif (kind is int and not -_LONG < each < _LONG) or kind not in _PLAIN:
            return None
    quotes = line.count(b'"') - line.count(b'\\"')  # two of each key, and of each text
    return value if quotes == 2 * (len(value) + texts) else None


def nested_too_deeply(text: str) -> bool:
    """Whether JSON text has more containers inside each other than are read."""
    if text.count("[") + text.count("{") <= DEEPEST:
        return False
    depth = deepest = 0
    for sign in _OUTSIDE_STRINGS.sub("", text):
        depth += 1 if sign in "[{" else -1
        deepest = max(deepest, depth)
    return deepest > DEEPEST


def count_in(cell: str) -> int | None:
    """How many items a cell that was a list has; None for any other."""
    return len(cell.value) if isinstance(cell, TypedCell) and isinstance(cell.value, list) else None


def _cell(value: Any) -> str:
    return value if isinstance(value, str) else TypedCell(value)


_MOST_PLACES, _DEEPEST_ROWS = 1000, 6  # items of an array, and levels of a document, that are looked at to find its rows
_NAMES_OF_COLUMNS = ("columns", "header", "headers", "fields", "names")


def value_at_path(value: Any, path: str, source: str) -> tuple[Any, Any]:
    """What is at a path of keys, and what is around it. Raises UsageProblem if there is nothing."""
    around: Any = None
    for step in path.split("."):
        keys = value if isinstance(value, dict) else {str(number): item for number, item in enumerate(_few(value))}
        if step not in keys:
            raise UsageProblem(f"{source} has nothing at --rows {path!r}.", suggestion(step, [*keys], "keys"))
        around, value = value, keys[step]
    return around, value


def _few(value: Any) -> list[Any]:
    return value[:_MOST_PLACES] if isinstance(value, list) else []


def arrays_of_rows(value: Any, path: tuple[str, ...] = ()) -> Iterator[str]:
    """The paths of what holds rows."""
    for key, inner in value.items() if isinstance(value, dict) and len(path) < _DEEPEST_ROWS else ():
        here = (*path, key)
        of_columns = key in _NAMES_OF_COLUMNS and any(isinstance(other, list) for name, other in value.items() if name != key)
        if isinstance(inner, list) and not of_columns and as_rows(inner, value):
            yield ".".join(here)
        else:
            yield from arrays_of_rows(inner, here)


def as_rows(value: Any, around: Any) -> list[Any] | None:
    """A value as objects with the same keys, or None if it holds no rows. around: the object that it is in."""
    if is_columns(value):
        return [dict(zip(value, row, strict=True)) for row in zip(*value.values(), strict=True)]
    if not isinstance(value, list) or not value:
        return None
    if any(isinstance(row, dict) for row in value):
        return value
    names = next((around[key] for key in _NAMES_OF_COLUMNS if key in around), None) if isinstance(around, dict) else None
    if isinstance(names, list) and all(isinstance(row, list) and len(row) == len(names) for row in value):
        keys = [name.get("name", "") if isinstance(name, dict) else name for name in names]
        return [dict(zip(map(str, keys), row, strict=True)) for row in value]
    return None


def is_columns(value: Any) -> bool:
    """Whether a value is an object of arrays of one length, none of which holds objects or arrays."""
    if not isinstance(value, dict) or not value or not all(isinstance(values, list) for values in value.values()):
        return False
    plain = not any(isinstance(item, dict | list) for values in value.values() for item in values[:_MOST_PLACES])
    return len({len(values) for values in value.values()}) == 1 and plain
