"""What a run has to say beside its result: the rows that it could not use, which go to the set-aside file, each with its source,
line and reason, so that nothing is lost silently; and notices of readers and writers, until somebody says them."""

import csv
import json
import threading
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


class _Notices(threading.local):
    """Those of one thread: where several work on tables, each hands on what it found itself."""

    def __init__(self) -> None:
        self.counts: Counter[str] = Counter()


_notices = _Notices()


def add_notice(what: str, times: int) -> None:
    """Remember that something was done so many times. what: a sentence with {n} for how often."""
    if times:
        _notices.counts[what] += times


def add_notice_once(sentence: str) -> None:
    """Remember a sentence that is reported once, however often it is detected, since a source is read several times."""
    _notices.counts[sentence.replace("{", "{{").replace("}", "}}")] = 1


def drain_notices() -> dict[str, int]:
    """The notices so far, for another process, which prints them instead of this one."""
    counts = dict(_notices.counts)
    _notices.counts.clear()
    return counts


def merge_notices(counts: dict[str, int]) -> None:
    """Remember what another process found out."""
    for what, times in counts.items():
        _notices.counts[what] = _notices.counts[what] + times if "{n}" in what else 1


def notices() -> list[str]:
    """The notices so far, once."""
    sentences = [what.format(n=f"{times:,}") for what, times in _notices.counts.items()]
    _notices.counts.clear()
    return sentences
