"""JSON tables: an array of objects, an object of arrays, or JSON Lines with one object a line.

The columns are all keys in the order in which they first appear, found in a first pass, and after them what is inside nested
values. A list of plain values is one cell, its items joined; other nested values are cells of JSON text."""

import codecs
import io
import json
import re
from collections.abc import Callable, Iterable, Iterator
from functools import partial
from typing import Any, BinaryIO, cast

import ijson

from upsort.core.errors import DataProblem
from upsort.io.tables.bounds import QUOTES, size_text, with_rows_bounded
from upsort.io.tables.chunking import chunk_stream, divisible, division_of, encoding_in, line_chunks
from upsort.io.tables.encoding import Encoding, find_encoding
from upsort.io.tables.nested_values import InnerPaths, cell_at, cell_from
from upsort.io.tables.rows import (
    ROWS_A_BLOCK,
    WHOLE,
    Block,
    Chunk,
    ReadSettings,
    ReasonKind,
    RejectedRow,
    RejectionReason,
    SourceEntry,
    SourceTable,
)

_DEEPEST = 200  # containers inside each other
_MOST_KEYS = 10_000
_SIZE_OF_A_VALUE = 8  # bytes that a number, or a bracket, counts for in the size of an item
_OUTSIDE_STRINGS = re.compile(r'"(?:[^"\\]|\\.)*+(?:"|\\?\Z)|[^\[\]{}"]++', re.DOTALL)  # all that is no bracket that counts
_SHOWN = 1000  # characters of what is set aside for its depth
_TOO_LARGE = "integer overflow"  # of the fast parser
Item = tuple[int, Any, RejectionReason | None]
"""Its line or number, its value, and why it cannot be used, where it cannot."""


def json_lines_table(entry: SourceEntry, reading: ReadSettings) -> SourceTable:
    """JSON Lines. A line that is not an object of JSON is refused with its reason."""
    with entry.open() as stream:
        encoding = find_encoding(stream, reading.encoding)
    chunks = partial(line_chunks, entry, reading) if divisible(entry, encoding) else None
    return _table(entry, encoding, lambda chunk: _lines(entry, encoding.name, reading, chunk), chunks)


def json_table(entry: SourceEntry, reading: ReadSettings) -> SourceTable:
    """An array of objects is streamed; an object of arrays is held in memory."""
    with entry.open() as stream:
        encoding = find_encoding(stream, reading.encoding)
        beginning = stream.read(4096).decode(encoding.name, "replace").lstrip("\ufeff \t\r\n")
    if beginning.startswith("{"):
        items = _transposed(entry, encoding.name)
        return _table(entry, encoding, lambda _: iter(items))
    if not beginning.startswith("["):
        raise DataProblem(f"{entry.name} is not JSON: neither an array nor an object.", "For one object a line, name it .jsonl.")
    return _table(entry, encoding, lambda _: _array(entry, encoding.name, reading))


def _table(
    entry: SourceEntry,
    encoding: Encoding,
    items: Callable[[Chunk], Iterator[Item]],
    chunks: Callable[[], Iterator[Chunk]] | None = None,
) -> SourceTable:
    """items: of a stretch. chunks: where there are any."""
    keys: dict[str, None] = {}
    paths = InnerPaths()
    for _, value, fault in items(WHOLE):
        if not fault:
            keys.update(dict.fromkeys(value))
            if len(keys) > _MOST_KEYS:
                raise DataProblem(
                    f"{entry.name} has more than {_MOST_KEYS:,} different keys.", "Name values in lists by their place."
                )
            paths.add_row(value)
    if not keys:
        raise DataProblem(f"{entry.name} holds no objects.", "Give objects with at least a text.")
    inner, notices = paths.names(keys)
    columns = (*keys, *inner)

    def blocks(chunk: Chunk) -> Iterator[Block]:
        block = Block(source=entry.name, columns=columns, rows=[], lines=[])
        for line, value, fault in items(chunk):
            if fault:
                shown = value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)
                block.refused.append(RejectedRow(entry.name, line, fault, (shown,)))
            else:
                block.rows.append([*(cell_from(value, key) for key in keys), *(cell_at(value, name.steps) for name in inner)])
                block.lines.append(line)
            if len(block.rows) + len(block.refused) == ROWS_A_BLOCK:
                yield block
                block = Block(source=entry.name, columns=columns, rows=[], lines=[])
        yield block

    notes = (*encoding.description(entry.name), *(f"{entry.name} has {notice}." for notice in notices))
    return SourceTable(
        name=entry.name, columns=columns, blocks=lambda: blocks(WHOLE), notes=notes, division=division_of(entry, chunks, blocks)
    )


def _lines(entry: SourceEntry, encoding: str, reading: ReadSettings, chunk: Chunk) -> Iterator[Item]:
    encoding = encoding_in(chunk, encoding)
    with with_rows_bounded(chunk_stream(entry, chunk), entry.name, reading) as stream:
        wide = encoding.startswith(("utf-16", "utf_16", "utf-32", "utf_32"))
        lines: Any = codecs.getreader(encoding)(stream) if wide else stream
        for number, line in enumerate(lines, chunk.line):
            try:
                text = line if wide else line.decode(encoding)
            except UnicodeDecodeError as error:
                fault = RejectionReason(ReasonKind.BYTES, (f"byte {error.start + 1} is not {encoding}",))
                yield number, line.decode(encoding, "backslashreplace"), fault
                continue
            if not text.strip():
                continue
            if nested_too_deeply(text):
                yield number, text.strip()[:_SHOWN], RejectionReason(ReasonKind.TOO_DEEP, (str(_DEEPEST),))
                continue
            try:
                value = json.loads(text)
            except (ValueError, RecursionError) as error:
                yield number, text.strip(), RejectionReason(ReasonKind.NOT_JSON, (str(error),))
                continue
            yield number, value, None if isinstance(value, dict) else RejectionReason(ReasonKind.NOT_AN_OBJECT)


def _array(entry: SourceEntry, encoding: str, reading: ReadSettings) -> Iterator[Item]:
    """The items of an array. Whole numbers beyond 64 bits are read by a slower parser, from there on."""
    for number, value, fault in _items(entry, encoding, reading, ijson, 0):
        if fault is None or _TOO_LARGE not in str(fault):
            yield number, value, fault
            continue
        yield from _items(entry, encoding, reading, ijson.get_backend("python"), number - 1)


def _items(entry: SourceEntry, encoding: str, reading: ReadSettings, parser: Any, skipped: int) -> Iterator[Item]:
    """The items after the first `skipped`."""
    number = 0
    with with_rows_bounded(entry.open(), entry.name, reading, QUOTES) as stream:
        recoded: BinaryIO = stream
        if not encoding.startswith("utf-8"):
            recoded = cast(BinaryIO, _Transcoded(stream, encoding))
        elif encoding == "utf-8-sig":
            stream.read(3)
        try:
            for value in _built(parser.basic_parse(recoded, use_float=True), reading.largest_cell):
                number += 1
                if number <= skipped:
                    continue
                if isinstance(value, RejectionReason):
                    yield number, "", value
                    continue
                yield number, value, None if isinstance(value, dict) else RejectionReason(ReasonKind.NOT_AN_OBJECT)
        except ijson.JSONError as error:
            reason = " ".join(str(error).split()).split(" (right here)")[0]
            yield number + 1, "", RejectionReason(ReasonKind.BROKEN_JSON, (reason[:120],))


class _Transcoded:
    """A stream of text in any encoding as bytes of UTF-8."""

    def __init__(self, stream: BinaryIO, encoding: str) -> None:
        self.text = io.TextIOWrapper(stream, encoding=encoding, newline="")

    def read(self, size: int = -1) -> bytes:
        """The bytes of a number of characters."""
        return self.text.read(size).encode("utf-8")


def _built(events: Iterable[tuple[str, Any]], largest: int) -> Iterator[Any]:
    """The items of an array from the events of its parsing; for one that is nested too deeply or too large the reason, since it
    is never held."""
    open_ones: list[Any] = []  # the containers around the place, without the array itself
    keys: list[str] = []
    depth = size = 0
    unread: RejectionReason | None = None  # why the item is not held
    for event, value in events:
        size += len(value) if isinstance(value, str) else _SIZE_OF_A_VALUE
        if event in {"start_map", "start_array"}:
            depth += 1
            if depth == 1:
                continue
            if depth > _DEEPEST:
                unread = unread or RejectionReason(ReasonKind.TOO_DEEP, (str(_DEEPEST),))
            if not unread:
                open_ones.append({} if event == "start_map" else [])
                keys.append("")
            continue
        if size > largest and not unread:
            unread, open_ones, keys = RejectionReason(ReasonKind.TOO_LARGE, (size_text(largest),)), [], []
        if event == "map_key":
            if not unread:
                keys[-1] = value
            continue
        if event in {"end_map", "end_array"}:
            depth -= 1
            if depth == 0:
                continue
            if not unread:
                value = open_ones.pop()
                keys.pop()
        if depth == 1:
            size = 0
            yield unread or value
            open_ones, keys, unread = [], [], None
        elif unread:
            continue
        elif isinstance(open_ones[-1], dict):
            open_ones[-1][keys[-1]] = value
        else:
            open_ones[-1].append(value)


def nested_too_deeply(text: str) -> bool:
    """Whether JSON text has more containers inside each other than are read."""
    if text.count("[") + text.count("{") <= _DEEPEST:
        return False
    depth = deepest = 0
    for sign in _OUTSIDE_STRINGS.sub("", text):
        depth += 1 if sign in "[{" else -1
        deepest = max(deepest, depth)
    return deepest > _DEEPEST


def _transposed(entry: SourceEntry, encoding: str) -> list[Item]:
    with entry.open() as stream:
        try:
            text = stream.read().decode(encoding)
            if nested_too_deeply(text):
                raise DataProblem(
                    f"{entry.name} has values nested more than {_DEEPEST} deep.", "Give an array of objects, or JSON Lines."
                )
            value = json.loads(text)
        except (ValueError, RecursionError) as error:
            raise DataProblem(f"{entry.name} is not whole JSON: {error}.", "Get the file again.") from None
    lengths = {len(values) for values in value.values() if isinstance(values, list)}
    if not all(isinstance(values, list) for values in value.values()) or len(lengths) != 1:
        raise DataProblem(
            f"{entry.name} is one JSON object, but not of arrays of the same length.",
            "Give an array of objects, an object of arrays, or JSON Lines (.jsonl).",
        )
    rows = zip(*value.values(), strict=True)
    return [(number, dict(zip(value, row, strict=True)), None) for number, row in enumerate(rows, 1)]
