"""What the readers and writers of files have to say beside their result, until somebody says it."""

import threading
from collections import Counter


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
