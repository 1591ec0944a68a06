"""The console: standard output, error and input as one object, and the exit codes.

Standard output carries only the result: drawn tables on a terminal, tab-separated ones elsewhere, or one JSON document. Progress,
notes and warnings go to standard error. Control characters are shown as symbols, never sent."""

import json
import os
import re
import shutil
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import field, replace
from enum import Enum, IntEnum
from io import StringIO
from typing import Any, BinaryIO, TextIO, assert_never, cast

from upsort.cli.rendering.view import (
    JSON_VERSION,
    Bold,
    Detail,
    FixedWidth,
    Note,
    Part,
    Sentence,
    Shown,
    Table,
    View,
    Wrong,
    Zero,
    singular_after_one,
)
from upsort.core.errors import bounded, listed
from upsort.core.lazy import record
from upsort.io.sources.addresses import without_secrets_in


class Exit(IntEnum):
    """Exit codes."""

    DONE = 0
    DATA = 1
    """The data or the files do not allow it."""
    USAGE = 2
    """The request is wrong."""
    MISSED = 3
    """A required bound was not met."""
    PROGRAM = 4
    """An error of the program itself."""
    HUNG_UP = 129
    """The terminal was closed (SIGHUP)."""
    INTERRUPTED = 130
    """By Ctrl-C (SIGINT)."""
    ENDED = 143
    """The system asked for the end (SIGTERM)."""


_PICTURES = 0x2400  # where Unicode keeps pictures of the control characters
_STEERING = re.compile(r"[\x00-\x08\x0b-\x1f\x7f-\x9f\ud800-\udfff]")
_BYTES = range(0xDC80, 0xDD00)  # by which Python keeps bytes that are no text, in the names of files for instance (PEP 383)


def _shown(match: "re.Match[str]") -> str:
    code = ord(match.group())
    if code in _BYTES:
        return f"\\x{code - 0xDC00:02x}"
    if code < 0x20:
        return chr(_PICTURES + code)
    return "␡" if code == 0x7F else "�"


def without_controls(text: str) -> str:
    """The text with a picture for each control character (␛ for the one that begins a terminal's commands), but for tabs and line
    ends; bytes that are no text are shown as \\xNN."""
    return _STEERING.sub(_shown, text)


def escaped(json: str) -> str:
    """A JSON document in which no control character stands as it is; those below 32 never do."""
    return re.sub("[\x7f-\x9f]", lambda match: f"\\u{ord(match.group()):04x}", json)


_PIPED_WIDTH = 80
_SCREEN = 24  # lines


class Style(Enum):
    """How a terminal shows a text. Colours are from the fixed part of the 256-colour palette, dark enough for a light background
    and light enough for a dark one (contrast of 3.8 at least; WCAG 2.2 asks for 3 of large or bold text)."""

    BOLD = "1"
    RED = "1;38;5;160"
    AMBER = "1;38;5;130"


def styled(text: str, style: Style, stream: TextIO) -> str:
    """The text as a terminal is to show it; as it is where `stream` is none, and where NO_COLOR is set (https://no-color.org),
    which leaves bold type."""
    if not text or not stream.isatty() or os.environ.get("TERM") == "dumb":
        return text
    if style is not Style.BOLD and os.environ.get("NO_COLOR"):
        style = Style.BOLD
    return f"\x1b[{style.value}m{text}\x1b[0m"


class Progress:
    """The progress of a command, where it is not shown."""

    def begin(self, stage: str, pieces: int) -> None:
        """A stage of so many pieces begins; 0 where that is not known."""

    def advance(self, done: int) -> None:
        """So many documents, or pieces of the stage, are done."""


@record(kw_only=True)
class Console:
    """Where a command reads and writes. quiet: no notes and no progress. as_json: the result is JSON. full: all of the result is
    shown. verbose: and so are diagnostics. lists_asked: whether an option asks for a list, however long. width: of the terminal
    that results are drawn for, whatever `output` is; 0 to find out."""

    output: TextIO = field(default_factory=lambda: sys.stdout)
    error: TextIO = field(default_factory=lambda: sys.stderr)
    input: BinaryIO | None = None
    quiet: bool = False
    as_json: bool = False
    full: bool = False
    verbose: bool = False
    lists_asked: bool = False
    width: int = 0

    @property
    def render(self) -> bool:
        """Whether results are read by a person on a terminal."""
        return self.width > 0 or (self.output.isatty() and os.environ.get("TERM") != "dumb")

    @property
    def columns(self) -> int:
        """How many characters fit on a line."""
        return self.width or shutil.get_terminal_size().columns

    @property
    def _to_stderr(self) -> Shown:
        """Where results are not shown now."""
        return Shown.PIPED if self.render else Shown.TERMINAL

    @property
    def data(self) -> TextIO:
        """Where rows of data go: as they are, or made harmless for a terminal."""
        return cast(TextIO, _EscapingStream(self.output)) if self.render else self.output

    def show(self, view: View) -> None:
        """The whole result, at the detail that was asked for."""
        if self.as_json:
            self.json({"json_version": JSON_VERSION, **view.values})
        for part in self._fitted(view):
            self._show_part(part)
        for part in _of_more(view) if not self.full and not self.as_json else ():
            self._show_part(part)

    def _show_part(self, part: Part) -> None:
        match part:
            case Note():
                (self.warn if part.warning else self.note)(part.text)
            case Sentence() | Table() | FixedWidth() if self.as_json:
                pass
            case Sentence() | Table() if part.where is self._to_stderr:
                pass
            case Sentence():
                self.write_line(part.text, part.wrapped, part.answer)
            case Table():
                self._table(part if self.full else part.shortened())
            case FixedWidth():
                self.write_line(part.lay(self.columns if self.render else _PIPED_WIDTH), wrap=False)
            case _:
                assert_never(part)

    def _fitted(self, view: View) -> list[Part]:
        """The parts that are shown now. On a terminal, where they are longer than a screen, tables that have to be whole lose the
        middle of long names, and those that stand for longer ones of --full lose rows, and all but the first may go."""
        shown = [(detail, part) for detail, part in view.parts if self._is_shown(detail)]
        parts = [part for _, part in shown]
        if not self.render or self.full or self.as_json or self.columns < _PIPED_WIDTH:
            return parts
        heights = list(map(self._height, [*parts, *_of_more(view)]))
        most = _SCREEN if self.width else max(_SCREEN, shutil.get_terminal_size().lines) - 1  # the prompt is one
        for place, (detail, part) in enumerate(shown):
            if isinstance(part, Table) and part.whole and detail is Detail.BRIEF and sum(heights) > most:
                parts[place] = part.with_short_names()
                heights[place] = self._height(parts[place])
        tables = {at: part for at, part in enumerate(parts) if isinstance(part, Table) and part.where is not Shown.PIPED}
        tables = {place: table for place, table in tables.items() if not table.whole}
        if (
            self.lists_asked
            or not tables
            or any(shown[place][0] is not Detail.BRIEF and not table.brief for place, table in tables.items())
        ):
            return parts
        below_empty_line = {place for place in tables if place and parts[place - 1] == Sentence("")}
        for least in (1, 0):
            for place in reversed(tables):
                table, may_go = tables[place].shortened(), place > min(tables) and place in below_empty_line
                while sum(heights) > most and len(table.rows) > (least if may_go else 1):
                    parts[place] = tables[place] = table = replace(table, rows=table.rows[:-1])
                    heights[place] = self._height(table) if table.rows else -1  # with the empty line before it
        gone = {place for place in tables if heights[place] < 0}
        return [part for place, part in enumerate(parts) if not {place, place + 1} & gone]

    def _height(self, part: Part) -> int:
        """Lines on a terminal, which breaks those that are to be typed."""
        text = StringIO()
        replace(self, output=text, error=text, width=self.columns)._show_part(part)
        return sum(1 + max(len(line) - 1, 0) // self.columns for line in text.getvalue().splitlines())

    def _is_shown(self, detail: Detail) -> bool:
        match detail:
            case Detail.ALWAYS:
                return True
            case Detail.BRIEF:
                return not self.full
            case Detail.FULL:
                return self.full
            case Detail.VERBOSE:
                return self.full or self.verbose
            case _:
                assert_never(detail)

    def show_notes(self, view: View) -> None:
        """Only the notes, next to a result that is written already."""
        for _, part in view.parts:
            if isinstance(part, Note):
                (self.warn if part.warning else self.note)(part.text)

    def write_line(self, text: str = "", wrap: bool = True, answer: bool = False) -> None:
        """A line of the result. answer: it is shown bold."""
        text = without_controls(text)
        if self.render and wrap:
            text = _wrapped(text.replace("\n", " "), self.columns)
        self.output.write(f"{styled(text, Style.BOLD, self.output) if answer else text}\n")

    def note(self, text: str) -> None:
        """Something worth knowing that is not the result."""
        if not self.quiet:
            self.output.flush()
            self.problem(text)

    def warn(self, text: str) -> None:
        """Something that may make the result wrong; said even when quiet."""
        self.output.flush()
        self.problem(text, "Warning: ", Style.AMBER)

    def prompt(self, text: str) -> None:
        """What stands before something that is typed."""
        self.error.write(text)
        self.error.flush()

    def problem(self, text: str, begin: str = "", style: Style = Style.RED) -> None:
        """A line on standard error. begin: what it begins with, in a style."""
        line = begin + without_controls(singular_after_one(without_secrets_in(bounded(text))))
        if self.width or self.error.isatty():
            line = _wrapped(line, self.columns)
        self.error.write(f"{styled(begin, style, self.error)}{line[len(begin) :]}\n")

    def json(self, result: Any) -> None:
        """The result as one JSON document."""
        self.output.write(escaped(json.dumps(result, ensure_ascii=False, indent=2, allow_nan=False)))
        self.output.write("\n")

    def json_line(self, result: Any) -> None:
        """One of many results, as a line of JSON."""
        self.output.write(escaped(json.dumps(result, ensure_ascii=False)) + "\n")

    def _table(self, table: Table) -> None:
        if self.render:
            shown = _escaped_table(table if self.full else table.narrowed())
            _drawing().drawn_table(shown, self.output, self.columns, self.full)
            return
        shown = table.piped()
        for row in ([column.name for column in shown.columns], *shown.rows):
            self.output.write("\t".join(without_controls(cell) for cell in row) + "\n")

    @contextmanager
    def progress(self, what: str, by: Callable[[], str], about: Callable[[], int]) -> Iterator[Progress]:
        """The progress of a command on a terminal's standard error, once it has lasted a second. what: is counted first. by: says
        who does it. about: of how many, where that is known."""
        if self.quiet or not self.error.isatty():
            yield Progress()
            return
        with _drawing().progress_bar(what, self.error, by, about()) as shown:
            yield shown


def _of_more(view: View) -> list[Part]:
    """What --full adds, in words."""
    return [Sentence(f"With --full: {listed(view.more, len(view.more))}.")] if view.more else []


def _wrapped(text: str, width: int) -> str:
    """Lines broken at words where one is too long."""
    if len(text) <= width and text.isascii():
        return text
    return "\n".join(
        line
        for part in text.split("\n")
        for line in _drawing().wrapped(part, width, " " * max(2, len(part) - len(part.lstrip())))
    )


def _drawing() -> Any:
    """What draws on terminals. It takes long to load, and results that are piped do without it."""
    from upsort.cli.rendering import drawing

    return drawing


def _escaped_table(table: Table) -> Table:
    columns = [replace(column, name=without_controls(column.name)) for column in table.columns]
    rows = [
        [
            cell
            if isinstance(cell, Bold | Zero)
            else Wrong(without_controls(cell))
            if isinstance(cell, Wrong)
            else without_controls(cell)
            for cell in row
        ]
        for row in table.rows
    ]
    return replace(table, columns=columns, rows=rows)


@record(frozen=True)
class _EscapingStream:
    """A stream in which nothing steers the terminal."""

    stream: TextIO

    def write(self, text: str) -> int:
        return self.stream.write(without_controls(text))

    def flush(self) -> None:
        self.stream.flush()
