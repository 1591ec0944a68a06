"""Tables, sentences and marked texts on a terminal of any width: no number is cut, and the first column stays.

A table that does not fit is narrowed step by step: texts are broken at words; intervals fold under their rates; spare columns are
left out, and listed; at last every row becomes a block of lines. Texts of documents have a line of their own under their row."""

import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace
from itertools import zip_longest
from typing import TextIO

from rich.cells import cell_len
from rich.console import Console as RichConsole
from rich.progress import Progress as RichProgress
from rich.progress import ProgressColumn, SpinnerColumn, TimeElapsedColumn
from rich.text import Text

from upsort.cli.rendering.console import Progress, Style, styled, without_controls
from upsort.cli.rendering.view import Bold, Column, Kind, Table, Wrong, shortened
from upsort.core.analysis.contributions import Word
from upsort.core.analysis.explanation import Explanation

_LEAST_NAME = 25  # characters below which a name is not broken
_LEAST_TEXT = 16
_READABLE = 40  # characters a line, from which on texts are wide enough
_GAP = "   "  # between two columns
_INDENT = "  "  # of a table
_MOST_SPARE = 6  # from which on a column is left out before intervals fold
_RULE = "┄"  # under the heads of columns
_PROGRESS_AFTER = 1.0  # seconds


def drawn_table(table: Table, stream: TextIO, width: int, full: bool = False) -> None:
    """Draw a table that is at most `width` wide, where it has rows. full: whether columns that are left out are listed."""
    if not table.rows:
        return
    shown, quotes = _without_quotes(table.on_terminal())
    if shown.grouped:
        shown = without_repeats(shown)
    if shown.square and _least(shown) > width:
        shown = with_numbered_columns(shown)
    left_out: list[str] = []
    while _least(shown) > width:
        spare = max((column.spare for column in shown.columns[1:]), default=0)
        if spare < _MOST_SPARE and any(column.kind is Kind.INTERVAL for column in shown.columns):
            shown = with_folded_intervals(shown)
            continue
        if not spare:
            for line in blocks(table.on_terminal(), width):
                stream.write(f"{line}\n")
            return
        place = max(place for place, column in enumerate(shown.columns) if column.spare == spare)
        left_out.append(shown.columns[place].name)
        shown = without(shown, place)
    for line in _drawn(shown, quotes, stream, width):
        stream.write(f"{line.rstrip()}\n")
    names = ", ".join(name for name in reversed(left_out) if name)
    if names and full:
        for line in wrapped(f"Not shown: {names}; widen the terminal, or use --json.", width):
            stream.write(f"{line}\n")


def _without_quotes(table: Table) -> tuple[Table, list[str]]:
    """The table without the texts of its documents, and those."""
    places = [place for place, column in enumerate(table.columns) if column.kind is Kind.QUOTE]
    kept = [place for place in range(len(table.columns)) if place not in places]
    return table.select(kept), [" ".join(row[place] for place in places) for row in table.rows]


def with_folded_intervals(table: Table) -> Table:
    """The table with each interval under its rate, in one cell of two lines."""
    columns: list[Column] = []
    rows: list[list[str]] = [[] for _ in table.rows]
    for place, column in enumerate(table.columns):
        if column.kind is Kind.INTERVAL and columns:
            for row, cells in zip(rows, table.rows, strict=True):
                row[-1] = f"{row[-1]}\n{cells[place]}" if cells[place] else row[-1]
            continue
        columns.append(column)
        for row, cells in zip(rows, table.rows, strict=True):
            row.append(cells[place])
    return replace(table, columns=columns, rows=rows)


def without_repeats(table: Table) -> Table:
    """The table with a first cell only where it is another one than above."""
    rows = [["" if place and row[0] == table.rows[place - 1][0] else row[0], *row[1:]] for place, row in enumerate(table.rows)]
    return replace(table, rows=rows)


def with_numbered_columns(table: Table) -> Table:
    """A square table whose columns are called by the numbers of their rows."""
    first, *remaining = table.columns
    names, remaining = remaining[: len(table.rows)], remaining[len(table.rows) :]
    columns = [first, *(replace(column, name=str(number)) for number, column in enumerate(names, 1)), *remaining]
    rows = [[f"{number} {row[0]}", *row[1:]] for number, row in enumerate(table.rows, 1)]
    return replace(table, columns=columns, rows=rows)


def without(table: Table, place: int) -> Table:
    """The table without a column."""
    return table.select([other for other in range(len(table.columns)) if other != place])


def blocks(table: Table, width: int) -> list[str]:
    """Each row as its first cell, and under it a line for each other cell that holds something, with its interval behind it."""
    lines: list[str] = []
    for row in table.rows:
        lines += wrapped(f"{table.columns[0].name}: {row[0]}" if table.columns[0].name else row[0], width)
        for place, column in enumerate(table.columns):
            if place == 0 or column.kind is Kind.INTERVAL or not row[place]:
                continue
            following = table.columns[place + 1] if place + 1 < len(table.columns) else None
            ends = ""
            if following is not None and following.kind is Kind.INTERVAL and row[place + 1]:
                ends = f" ({row[place + 1]})"
            if column.kind is Kind.QUOTE:
                lines.append(quote_line(row[place], width))
            else:
                lines += wrapped(f"{_INDENT}{column.name} {row[place]}{ends}", width, _INDENT * 2)
    return lines


def _least(table: Table) -> int:
    """The least width in which no number is cut and no word of a name or text is broken needlessly."""
    return sum(_least_of(table, place) for place in range(len(table.columns))) + _between(table)


def _between(table: Table) -> int:
    """What a table takes beside its cells."""
    return len(_GAP) * (len(table.columns) - 1) + len(_INDENT)


def _least_of(table: Table, place: int) -> int:
    column = table.columns[place]
    longest = _longest_in(table, place)
    head = max((cell_len(word) for word in column.name.split()), default=0)
    match column.kind:
        case Kind.NAME:
            return max(head, min(longest, _LEAST_NAME))
        case Kind.TEXT | Kind.BEFORE | Kind.QUOTE:
            return max(head, min(longest, _LEAST_TEXT))
        case Kind.COUNT | Kind.SHARE | Kind.NUMBER | Kind.INTERVAL | Kind.BAR:
            return max(head, longest)


def _longest_in(table: Table, place: int) -> int:
    return max((cell_len(line) for row in table.rows for line in row[place].split("\n")), default=0)


def column_widths(table: Table, width: int) -> list[int]:
    """How wide each column is drawn in a table that is at most `width` wide: at least what it needs. What is left goes first to
    names and to texts up to a readable width, then to the heads, so that they need not be broken, then to longer texts;
    everywhere the modest ones first."""
    places = range(len(table.columns))
    widths = [_least_of(table, place) for place in places]
    cells = [_longest_in(table, place) for place in places]
    readable = [
        longest if column.kind is Kind.NAME else min(longest, _READABLE)
        for longest, column in zip(cells, table.columns, strict=True)
    ]
    for minimum in (readable, [cell_len(column.name) for column in table.columns], cells):
        left = width - sum(widths) - _between(table)
        hungry = [place for place in places if minimum[place] > widths[place]]
        for number, place in enumerate(sorted(hungry, key=lambda at: minimum[at] - widths[at])):
            more = min(minimum[place] - widths[place], left // (len(hungry) - number))
            widths[place] += more
            left -= more
    return widths


def _drawn(table: Table, quotes: Sequence[str], stream: TextIO, width: int) -> Iterator[str]:
    """The lines of a table: heads over a rule, and each row with the text of its document under it."""
    widths = column_widths(table, width)
    heads = [Bold(column.name) for column in table.columns]
    if any(heads):
        yield from _lines_of_row(table.columns, heads, widths, stream)
        yield _INDENT + _RULE * (sum(widths) + len(_GAP) * (len(widths) - 1))
    for row, quote in zip(table.rows, quotes, strict=True):
        yield from _lines_of_row(table.columns, row, widths, stream)
        if quote:
            yield quote_line(quote, width)


def _lines_of_row(columns: Sequence[Column], cells: Sequence[str], widths: Sequence[int], stream: TextIO) -> Iterator[str]:
    """A row, its cells broken where they are wider than their columns."""
    broken = [
        [line for part in cell.split("\n") for line in _broken(part, wide)] for cell, wide in zip(cells, widths, strict=True)
    ]
    for texts in zip_longest(*broken, fillvalue=""):
        aligned = []
        for column, cell, text, wide in zip(columns, cells, texts, widths, strict=True):
            pad = " " * (wide - cell_len(text))
            marked = styled(text, _STYLES[type(cell)], stream) if type(cell) in _STYLES else text
            aligned.append(pad + marked if column.on_the_right else marked + pad)
        yield _INDENT + _GAP.join(aligned)


_STYLES = {Bold: Style.BOLD, Wrong: Style.RED}


def _broken(text: str, width: int) -> list[str]:
    """A cell in lines of at most `width`: broken at words, and words that are wider anywhere."""
    lines = []
    for line in wrapped(text, width, ""):
        while cell_len(line) > width:
            end = _end_of_line(line, 0, len(line), width)
            lines.append(line[:end])
            line = line[end:]
        lines.append(line)
    return lines


def quote_line(text: str, width: int) -> str:
    """The text of a document on a line of its own."""
    return f"{_INDENT * 3}{shortened(text, width - 3 * len(_INDENT), cell_len)}"


def wrapped(line: str, width: int, rest: str = _INDENT) -> list[str]:
    """A line broken at words, at most `width` wide where its words allow that. rest: what further lines begin with."""
    lines: list[str] = []
    begin = line[: len(line) - len(line.lstrip())]
    now = begin
    for word in line.split():
        glued = f"{now}{word}" if not now.strip() else f"{now} {word}"
        if cell_len(glued) > width and now.strip():
            lines.append(now)
            now = f"{rest}{word}"
        else:
            now = glued
    return [*lines, now]


class ShownProgress(Progress):
    """The stage that a command is in, the share of it that is done, and the time left; of stages whose size is not known, what is
    done and how much of it a second. by: says by whom, and is asked now and then. about: how many documents there are, roughly,
    where that is known; a command that reads them again counts on without it."""

    def __init__(self, what: str, stream: TextIO, by: Callable[[], str], about: int) -> None:
        self.stage, self.by, self.pieces, self.done, self.about = what, by, 0, 0, about
        self.started = self.stage_started = time.monotonic()
        self.display = RichProgress(
            SpinnerColumn(), _StageColumn(self), TimeElapsedColumn(), console=RichConsole(file=stream), transient=True
        )
        self.display.add_task("")
        self.live = False

    def begin(self, stage: str, pieces: int) -> None:
        self.stage, self.pieces, self.done, self.stage_started, self.about = stage, pieces, 0, time.monotonic(), 0
        self._show()

    def advance(self, done: int) -> None:
        self.done += done
        self._show()

    def _show(self) -> None:
        if not self.live and time.monotonic() - self.started > _PROGRESS_AFTER:
            self.display.start()
            self.live = True

    def line(self, now: float) -> str:
        """What it is doing. now: the time of `time.monotonic`."""
        elapsed = now - self.stage_started
        if not self.pieces and 0 < self.done <= self.about:
            seconds = elapsed / self.done * (self.about - self.done)
            share = f"about {100 * self.done / self.about:.0f}%, {time_left(seconds)} left"
            return f"{self.stage}: {self.done:,} ({share}){self.by()}"
        if not self.pieces:
            pace = f" · {self.done / elapsed:,.0f} a second" if self.done and elapsed > _PROGRESS_AFTER else ""
            counted = f": {self.done:,}{pace}{self.by()}" if self.done else ""
            return f"{self.stage}{counted}"
        left = ""
        if self.done:
            seconds = max(elapsed / self.done * (self.pieces - self.done), 0.0)
            left = f", about {time_left(seconds)} left" if self.done < self.pieces else ""
        return f"{self.stage}: {self.done:,} of {self.pieces:,} ({100 * self.done / self.pieces:.0f}%){left}{self.by()}"


class _StageColumn(ProgressColumn):
    """The line of a `ShownProgress`, asked for at each refresh."""

    def __init__(self, progress: ShownProgress) -> None:
        super().__init__()
        self.progress = progress

    def render(self, task: object) -> Text:
        del task
        return Text(self.progress.line(time.monotonic()))


def time_left(seconds: float) -> str:
    """A length of time in words: seconds, then minutes, then hours."""
    if seconds < 90:
        return f"{seconds:.0f} s"
    return f"{seconds / 60:.0f} min" if seconds < 90 * 60 else f"{seconds / 3600:.1f} h"


@contextmanager
def progress_bar(what: str, stream: TextIO, by: Callable[[], str], about: int = 0) -> Iterator[ShownProgress]:
    """A progress that ends with the block."""
    shown = ShownProgress(what, stream, by, about)
    try:
        yield shown
    finally:
        if shown.live:
            shown.display.stop()


_FOR = "▁▃▅▇"  # by how much a word speaks for the label, against the word that speaks most for either
_AGAINST = "╌"
_IGNORED, _NEW = "·", "?"
_WEAK = 1 / 12  # of the strongest word, below which a word has no mark


def legend(speaks: str = "", against: str = "") -> str:
    """What the marks mean. speaks, against: of words that say something, such as `for pests` and `for diseases`."""
    weighed = f"{' '.join(_FOR)} {speaks}, {_AGAINST} {against}, " if speaks else ""
    return f"{weighed}{_IGNORED} ignored, {_NEW} new"


def marked(explanation: Explanation, meaning: str, most: int, width: int) -> str:
    """The text in lines of at most `width`, as far as its words allow that, with their marks, and what the marks mean. most: how
    many lines of text are shown; 0: all."""
    lines: list[str] = []
    shown = [without_controls(character).replace("\t", " ") for character in explanation.text]  # some as several
    text = "".join(shown)
    signs = [sign for sign, characters in zip(_signs(explanation), shown, strict=True) for _ in characters]
    places = list(_lines(text, width))
    for start, end in places[:most] if most else places:
        lines.append(text[start:end])
        under = "".join(signs[place] * max(cell_len(text[place]), 0) for place in range(start, end)).rstrip()
        lines += [under] if under else []
    if most and len(places) > most:
        lines.append("…")
    return "\n".join([*lines, meaning])


def _signs(explanation: Explanation) -> list[str]:
    """A mark for each character of the text."""
    signs = [" "] * len(explanation.text)
    strongest = max((abs(word.leaning) for word in explanation.words), default=0.0)
    for word in explanation.words:
        signs[word.start : word.end] = [_mark(word, strongest)] * (word.end - word.start)
    return signs


def _mark(word: Word, strongest: float) -> str:
    if not word.known:
        return _IGNORED if word.ignored else _NEW
    share = word.leaning / strongest if strongest > 0 else 0.0
    if abs(share) < _WEAK:
        return " "
    return _FOR[min(int(share * len(_FOR)), len(_FOR) - 1)] if share > 0 else _AGAINST


def _lines(text: str, width: int) -> Iterator[tuple[int, int]]:
    """Where lines begin and end when the text is broken at spaces; its own line ends stay."""
    begin = 0
    for line in text.split("\n"):
        start, stop = begin, begin + len(line)
        while start < stop:
            end = _end_of_line(text, start, stop, width)
            yield start, end
            start = end
            while start < stop and text[start] == " ":
                start += 1
        begin = stop + 1


def _end_of_line(text: str, start: int, stop: int, width: int) -> int:
    """The place after the last character that fits, at the end of a word where that is possible."""
    wide, end = 0, start
    while end < stop and wide + cell_len(text[end]) <= width:
        wide += cell_len(text[end])
        end += 1
    if end == stop:
        return stop
    space = text.rfind(" ", start, end + 1)
    return space if space > start else max(end, start + 1)
