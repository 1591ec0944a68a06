"""The set-aside file: rows that a command could not use, each with its source, line and reason. Nothing is lost silently."""

import csv
import json
from collections import Counter
from contextlib import ExitStack
from pathlib import Path
from types import TracebackType
from typing import Any, Self

from upsort.io.outputs.atomic import replacing_text
from upsort.io.tables.rows import RejectedRow

_EXAMPLES = 3


def set_aside_path(output: Path) -> Path:
    """Where the rows set aside go that are not in an output: next to it."""
    return output.with_name(f"{output.stem}.set-aside.csv")


class RejectedRows:
    """Collects refused rows while a command runs, and writes them to `path` as they come (if there is one).

    The file is only made when there is something to put in it, and only kept when the command ends well."""

    def __init__(self, path: Path | None = None) -> None:
        self.path = path
        self.count = 0
        self.reasons: Counter[str] = Counter()
        self.examples: list[RejectedRow] = []
        self._stack = ExitStack()
        self._writer: Any = None

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self._stack.__exit__(kind, error, trace)

    def add(self, refused: RejectedRow) -> None:
        """Set one row aside."""
        self.count += 1
        self.reasons[refused.reason.what] += 1
        if len(self.examples) < _EXAMPLES:
            self.examples.append(refused)
        if self.path is None:
            return
        if self._writer is None:
            stream = self._stack.enter_context(replacing_text(self.path))
            self._writer = csv.writer(stream, lineterminator="\n")
            self._writer.writerow(("source", "line", "reason", "row"))
        row = json.dumps([_readable(cell) for cell in refused.cells], ensure_ascii=False)
        self._writer.writerow((refused.source, refused.line, refused.reason, row))


def _readable(cell: str) -> str:
    """The cell with bytes that could not be decoded written as \\xNN."""
    return cell.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace") if _damaged(cell) else cell


def _damaged(cell: str) -> bool:
    return any("\udc80" <= character <= "\udcff" for character in cell)
