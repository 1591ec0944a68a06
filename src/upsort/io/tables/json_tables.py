"""JSON tables: an array of objects, a document with rows inside, or JSON Lines with one object a line.

The columns are all keys in the order in which they first appear, found in a first pass, and after them what is inside nested
values. A list of plain values is one cell, its items joined; other nested values are cells of JSON text."""

import codecs
import io
import json
import re
import shlex
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import replace
from decimal import Decimal
from functools import partial
from math import isinf
from typing import Any, ClassVar, TextIO

from upsort.core.errors import DataProblem, UsageProblem, listed
from upsort.io.tables.bounds import DAMAGED, DamagedSource, size_text, with_rows_bounded
from upsort.io.tables.chunking import chunk_stream, divisible, division_of, encoding_in, line_chunks
from upsort.io.tables.columnar import ColumnarRows
from upsort.io.tables.encoding import Encoding, find_encoding
from upsort.io.tables.nested_values import (
    DEEPEST,
    InnerPaths,
    arrays_of_rows,
    as_rows,
    cells_under,
    is_columns,
    nested_too_deeply,
    plain_object,
    value_at_path,
)
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
    SourceNote,
    SourceTable,
)

_MOST_KEYS = 10_000
_PIECE = 1 << 18  # characters of an array read at once
_SURE = 15  # significant digits that a float always keeps (IEEE 754, binary64)
_SMALL = 1e-290  # below which it may keep fewer
_NEAR_THE_END = 16  # characters in which an error may come from the end of what was read alone
_SHOWN = 1000  # characters of what is set aside for its depth
_KEY_SHOWN = 60  # and of a key or a number
_MARKS = re.compile(r'\\.|["\[\]{},]', re.DOTALL)
_UNDECODED = re.compile("[\udc80-\udcff]")
_SPACE = " \t\r\n"
_UTF_8 = ("utf-8", "utf-8-sig", "utf_8", "utf_8_sig", "ascii")


class _Unusable:
    """Stands where a value stood that cannot be kept. made: grows with each, so that a value is only gone through for such where
    one has been made."""

    made: ClassVar[list[None]] = []

    def __init__(self, reason: RejectionReason) -> None:
        self.reason = reason
        self.made.append(None)


def _pairs(pairs: list[tuple[str, Any]]) -> Any:
    value = dict(pairs)
    if len(value) == len(pairs):
        return value
    times = Counter(key for key, _ in pairs)
    return _Unusable(RejectionReason(ReasonKind.DOUBLE_KEY, (), repr(times.most_common(1)[0][0])[:_KEY_SHOWN]))


def _real(text: str) -> Any:
    """A number with a point or an exponent; its text, where it is no float."""
    value = float(text)
    if isinf(value):
        return _Unusable(RejectionReason(ReasonKind.NUMBER, (), text[:_KEY_SHOWN]))
    sure = len(text) <= _SURE and abs(value) > _SMALL
    return value if sure or Decimal(text) == Decimal(repr(value)) else text


def _whole(text: str) -> Any:
    if isinf(float(text)):
        return _Unusable(RejectionReason(ReasonKind.NUMBER, (), f"one of {len(text):,} digits"))
    return int(text)


def _constant(name: str) -> Any:
    """NaN and infinities, which JSON does not have (RFC 8259, section 6) and some programs write."""
    return _Unusable(RejectionReason(ReasonKind.NUMBER, (), name))


_DECODER = json.JSONDecoder(object_pairs_hook=_pairs, parse_float=_real, parse_int=_whole, parse_constant=_constant)


def _fault_in(value: Any) -> RejectionReason | None:
    """Why a value cannot be used, if something in it cannot."""
    if isinstance(value, _Unusable):
        return value.reason
    if isinstance(value, dict | list):
        for each in value.values() if isinstance(value, dict) else value:
            if type(each) is not str and (fault := _fault_in(each)) is not None:  # most are text, which nothing is wrong with
                return fault
    return None


def object_fault(value: Any) -> RejectionReason | None:
    """Why a decoded value is no row."""
    if (fault := _fault_in(value)) is not None:
        return fault
    return None if isinstance(value, dict) else RejectionReason(ReasonKind.NOT_AN_OBJECT)


def decoded(text: str) -> tuple[Any, RejectionReason | None]:
    """The value of JSON text that is to be a row, and why it is none."""
    if nested_too_deeply(text):
        return None, RejectionReason(ReasonKind.TOO_DEEP, (str(DEEPEST),))
    before = len(_Unusable.made)
    try:
        value = _DECODER.decode(text)
    except (ValueError, RecursionError) as error:
        return None, RejectionReason(ReasonKind.NOT_JSON, (str(error),))
    return value, None if type(value) is dict and len(_Unusable.made) == before else object_fault(value)


Item = tuple[int, Any, RejectionReason | None]
"""Its line or number, its value, and why it cannot be used, where it cannot."""


def json_lines_table(entry: SourceEntry, reading: ReadSettings) -> SourceTable:
    """JSON Lines. A line that is not an object of JSON is refused with its reason."""
    with entry.open() as stream:
        encoding = find_encoding(stream, reading.encoding)
    chunks = partial(line_chunks, entry, reading) if divisible(entry, encoding) else None
    return _table(entry, encoding, lambda chunk: _lines(entry, encoding.name, reading, chunk), chunks)


def json_table(entry: SourceEntry, reading: ReadSettings) -> SourceTable:
    """An array of objects is streamed; one document with rows inside is held in memory."""
    with entry.open() as stream:
        encoding = find_encoding(stream, reading.encoding)
        beginning = stream.read(4096).decode(encoding.name, "replace").lstrip("\ufeff \t\r\n")
    if beginning.startswith("{"):
        items, notices = _rows_of_document(entry, encoding.name, reading.rows)
        table = _table(entry, encoding, lambda _: iter(items))
        return replace(table, notes=(*table.notes, *(SourceNote(entry.name, f" has {notice}.") for notice in notices)))
    if reading.rows:
        raise UsageProblem(f"{entry.name} is an array, whose items are the rows.", "Leave --rows out.")
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
    first_fault = None
    for _, value, fault in items(WHOLE):
        first_fault = first_fault or fault
        if not fault:
            keys.update(dict.fromkeys(value) if not keys.keys() >= value.keys() else {})
            if len(keys) > _MOST_KEYS:
                raise DataProblem(
                    f"{entry.name} has more than {_MOST_KEYS:,} different keys.", "Name values in lists by their place."
                )
            paths.add_row(value)
    if not keys:
        why = f": {first_fault}" if first_fault else ""
        raise DataProblem(f"{entry.name} holds no usable objects{why}.", "Give objects with at least a text.")
    inner, notices = paths.names(keys)
    columns = (*keys, *inner)

    def block(rows: list[tuple[int, Any]], refused: list[RejectedRow]) -> Block:
        values = [value for _, value in rows]
        cells = ColumnarRows([cells_under(values, name) for name in columns]) if values else []
        return Block(source=entry.name, columns=columns, rows=cells, lines=[line for line, _ in rows], refused=refused)

    def blocks(chunk: Chunk) -> Iterator[Block]:
        rows: list[tuple[int, Any]] = []
        refused: list[RejectedRow] = []
        for line, value, fault in items(chunk):
            if fault:
                shown = value if isinstance(value, str) else json.dumps(value, ensure_ascii=False, default=str)
                refused.append(RejectedRow(entry.name, line, fault, (shown,)))
            else:
                rows.append((line, value))
            if len(rows) + len(refused) == ROWS_A_BLOCK:
                yield block(rows, refused)
                rows, refused = [], []
        yield block(rows, refused)

    notes = (*encoding.description(entry.name), *(SourceNote(entry.name, f" has {notice}.") for notice in notices))
    return SourceTable(
        name=entry.name, columns=columns, blocks=lambda: blocks(WHOLE), notes=notes, division=division_of(entry, chunks, blocks)
    )


def _lines(entry: SourceEntry, encoding: str, reading: ReadSettings, chunk: Chunk) -> Iterator[Item]:
    encoding = encoding_in(chunk, encoding)
    with with_rows_bounded(chunk_stream(entry, chunk), entry.name, reading) as stream:
        wide = encoding.startswith(("utf-16", "utf_16", "utf-32", "utf_32"))
        lines: Any = codecs.getreader(encoding)(stream) if wide else stream
        quick = encoding in _UTF_8
        for number, line in enumerate(lines, chunk.line):
            if quick and (plain := plain_object(line)) is not None:
                yield number, plain, None
                continue
            try:
                text = line if wide else line.decode(encoding)
            except UnicodeDecodeError as error:
                bytes_fault = RejectionReason(ReasonKind.BYTES, (f"byte {error.start + 1} is not {encoding}",))
                yield number, line.decode(encoding, "backslashreplace"), bytes_fault
                continue
            if not text.strip():
                continue
            value, fault = decoded(text)
            if fault is None:
                yield number, value, None
            else:
                yield number, text.strip()[: _SHOWN if fault.why is ReasonKind.TOO_DEEP else None], fault


def _array(entry: SourceEntry, encoding: str, reading: ReadSettings) -> Iterator[Item]:
    """The items of an array, which is never held whole."""
    with entry.open() as stream:
        text = io.TextIOWrapper(stream, encoding=encoding, errors="surrogateescape", newline="")
        try:
            for number, (value, fault) in enumerate(_items(_Window(text), reading.largest_cell), 1):
                yield number, value, fault
        except UnicodeError as error:
            raise DataProblem(f"{entry.name} is not {encoding}: {error}.", "Name its --encoding.") from error
        except DAMAGED as error:
            raise DamagedSource(entry.name, error) from error


class _Window:
    """The stretch in memory of a text that is read once, from its beginning to its end. at: the current place in it."""

    def __init__(self, text: TextIO) -> None:
        self._text = text
        self.held, self.at, self.ended = "", 0, False

    def more(self) -> bool:
        """Read on, as much again as is held from the place on; False at the end of the text."""
        self.held, self.at = self.held[self.at :], 0
        piece = self._text.read(max(_PIECE, len(self.held)))
        self.held += piece
        self.ended = not piece
        return not self.ended

    def next_sign(self) -> str:
        """The next character that is no space, which is not passed; empty at the end."""
        while True:
            while self.at < len(self.held) and self.held[self.at] in _SPACE:
                self.at += 1
            if self.at < len(self.held) or not self.more():
                return self.held[self.at : self.at + 1]

    def skip_value(self) -> None:
        """Pass a value, however large, to the comma or the bracket after it; nothing of it is held."""
        depth, inside = 0, False  # brackets that are open, and whether the place is in a string
        while True:
            passed = self.at
            for match in _MARKS.finditer(self.held, self.at):
                sign, passed = match.group(), match.end()
                if sign == '"':
                    inside = not inside
                elif inside or sign[0] == "\\":
                    continue
                elif sign in "[{":
                    depth += 1
                elif depth:
                    depth -= sign in "]}"
                else:
                    self.at = match.start()
                    return
            half = len(self.held) > passed and self.held[-1] == "\\"  # of a sign that goes on
            self.at = len(self.held) - half
            if not self.more():
                self.at = len(self.held)
                return


def _items(window: _Window, largest: int) -> Iterator[tuple[Any, RejectionReason | None]]:
    """The items of an array of JSON; what is wrong with the array itself ends it as a last item that cannot be used."""

    def broken(what: str) -> tuple[str, RejectionReason]:
        return window.held[window.at : window.at + _SHOWN], RejectionReason(ReasonKind.BROKEN_JSON, (what,))

    window.at += window.next_sign() == "\ufeff"
    assert window.next_sign() == "["
    window.at += 1
    if window.next_sign() == "]":
        window.at += 1
    else:
        while True:
            if not window.next_sign():
                yield broken("it ends before the array does")
                return
            value, fault = _item(window, largest)
            yield value, fault
            if fault is not None and fault.why is ReasonKind.BROKEN_JSON:
                return
            sign = window.next_sign()
            window.at += 1
            if sign == "]":
                break
            if sign != ",":
                window.at -= 1
                yield broken("no comma" if sign else "it ends before the array does")
                return
    if window.next_sign():
        yield broken("text behind the array")


def _item(window: _Window, largest: int) -> tuple[Any, RejectionReason | None]:
    """The item that begins here, or its beginning and why it cannot be used."""
    while True:
        reason: RejectionReason | None = None
        try:
            value, end = _DECODER.raw_decode(window.held, window.at)
            if end < len(window.held) or window.ended:  # else a number may go on
                break
        except RecursionError:
            reason = RejectionReason(ReasonKind.TOO_DEEP, (str(DEEPEST),))
        except json.JSONDecodeError as error:
            cut = error.pos >= len(window.held) - _NEAR_THE_END or error.msg.startswith("Unterminated string")
            if window.ended or not cut:
                return window.held[window.at :][:_SHOWN], RejectionReason(ReasonKind.BROKEN_JSON, (error.msg,))
        if len(window.held) - window.at > largest:
            reason = reason or RejectionReason(ReasonKind.TOO_LARGE, (size_text(largest),))
        if reason is not None:
            shown = window.held[window.at : window.at + _SHOWN]
            window.skip_value()
            return shown, reason
        window.more()
    text = window.held[window.at : end]
    window.at = end
    if nested_too_deeply(text):
        return text[:_SHOWN], RejectionReason(ReasonKind.TOO_DEEP, (str(DEEPEST),))
    if len(text) > largest:
        return text[:_SHOWN], RejectionReason(ReasonKind.TOO_LARGE, (size_text(largest),))
    if _UNDECODED.search(text):
        return text.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace"), RejectionReason(
            ReasonKind.BYTES, ("bytes that are no text",)
        )
    fault = object_fault(value)
    return (value, None) if fault is None else (text, fault)


def _rows_of_document(entry: SourceEntry, encoding: str, path: str) -> tuple[list[Item], list[str]]:
    """The rows inside one JSON document, and notices about where they are. path: to them, empty if that is to be found.

    They are an array of objects, an object of arrays of one length, or `columns` (or `header`) beside an array of arrays."""
    with entry.open() as stream:
        try:
            text = stream.read().decode(encoding)
            if nested_too_deeply(text):
                raise DataProblem(
                    f"{entry.name} has values nested more than {DEEPEST} deep.", "Give an array of objects, or JSON Lines."
                )
            value = _DECODER.decode(text)
        except (ValueError, RecursionError) as error:
            raise DataProblem(f"{entry.name} is not whole JSON: {error}.", "Get the file again.") from None
    if isinstance(value, _Unusable):
        raise DataProblem(f"{entry.name} has {value.reason}.", "Give each column a name of its own.")
    around: Any = None
    notices: list[str] = []
    if path:
        around, value = value_at_path(value, path, entry.name)
    elif not is_columns(value) and (places := list(arrays_of_rows(value))):
        if len(places) > 1:
            raise DataProblem(
                f"{entry.name} has rows in several places: {listed(places)}.", f"Name one: --rows {shlex.quote(places[0])}"
            )
        around, value = value_at_path(value, places[0], entry.name)
        notices = [f"rows at {places[0]!r} (--rows)"]
    rows = as_rows(value, around)
    if rows is None:
        raise DataProblem(
            f"{entry.name} is one JSON object in which no rows were found{f' at {path!r}' if path else ''}.",
            "Rows are an array of objects, or an object of arrays; --rows PATH says where they are.",
        )
    return [(number, row, object_fault(row)) for number, row in enumerate(rows, 1)], notices
