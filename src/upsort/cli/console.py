"""Standard output, standard error and standard input, as one object.

Standard output carries the result and nothing else: drawn tables on a terminal, tab-separated ones elsewhere, or one JSON
document. Everything said along the way goes to standard error.
"""

import json
import os
import sys
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any, BinaryIO, TextIO

_PROGRESS_AFTER = 1.0  # seconds
_LEAST_TEXT_WIDTH = 12  # of a column of text on a narrow terminal


@dataclass(kw_only=True)
class Console:
    """Where a command reads from and writes to. quiet: no notes and no progress. as_json: the result is JSON."""

    output: TextIO = field(default_factory=lambda: sys.stdout)
    error: TextIO = field(default_factory=lambda: sys.stderr)
    input: BinaryIO | None = None
    quiet: bool = False
    as_json: bool = False

    @property
    def drawn(self) -> bool:
        """Whether results are read by a person on a terminal."""
        return self.output.isatty() and os.environ.get("TERM") != "dumb"

    def say(self, text: str = "") -> None:
        """A line of the result."""
        self.output.write(f"{text}\n")

    def note(self, text: str) -> None:
        """Something worth knowing that is not the result."""
        if not self.quiet:
            self.output.flush()
            self.error.write(f"{text}\n")

    def warn(self, text: str) -> None:
        """Something that may make the result wrong; said even when quiet."""
        self.output.flush()
        self.error.write(f"Warning: {text}\n")

    def json(self, result: Any) -> None:
        """The result as one JSON document."""
        json.dump(result, self.output, ensure_ascii=False, indent=2, allow_nan=False)
        self.output.write("\n")

    def table(self, columns: Sequence[str], rows: Sequence[Sequence[object]], numeric: Sequence[int] = ()) -> None:
        """A table of the result. numeric: the places of columns to align on the right."""
        if self.drawn:
            self._draw(columns, rows, numeric)
            return
        for row in (columns, *rows):
            self.output.write("\t".join(_one_line(cell) for cell in row) + "\n")

    def _draw(self, columns: Sequence[str], rows: Sequence[Sequence[object]], numeric: Sequence[int]) -> None:
        from rich import box
        from rich.console import Console as RichConsole
        from rich.table import Table
        from rich.text import Text

        table = Table(box=box.HORIZONTALS, header_style="bold", pad_edge=False)
        for place, name in enumerate(columns):
            right = place in numeric
            longest = max((len(_one_line(row[place])) for row in rows), default=0)
            least = None if right else min(longest, _LEAST_TEXT_WIDTH)
            table.add_column(
                name, justify="right" if right else "left", no_wrap=right, overflow="fold", min_width=least
            )
        for row in rows:
            table.add_row(*(Text(_one_line(cell)) for cell in row))
        RichConsole(file=self.output, highlight=False).print(table)

    @contextmanager
    def progress(self, what: str) -> Iterator[Callable[[int], None]]:
        """Counts what is done on a terminal's standard error, once it has lasted a second."""
        if self.quiet or not self.error.isatty():
            yield _nothing
            return
        from rich.console import Console as RichConsole
        from rich.progress import Progress, SpinnerColumn, TextColumn, TimeElapsedColumn

        shown = Progress(
            SpinnerColumn(),
            TextColumn(f"{what}: {{task.completed:,.0f}}"),
            TimeElapsedColumn(),
            console=RichConsole(file=self.error),
            transient=True,
        )
        task = shown.add_task(what, total=None)
        began = time.monotonic()
        live = False

        def advance(done: int) -> None:
            nonlocal live
            shown.advance(task, done)
            if not live and time.monotonic() - began > _PROGRESS_AFTER:
                shown.start()
                live = True

        try:
            yield advance
        finally:
            if live:
                shown.stop()


def _nothing(done: int) -> None:
    del done


def _one_line(cell: object) -> str:
    return " ".join(str(cell).split()) if isinstance(cell, str) else str(cell)
