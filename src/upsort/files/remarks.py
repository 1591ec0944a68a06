"""What the readers and writers of files have to say beside their result, until somebody tells it."""

import threading
from collections import Counter


class _Held(threading.local):
    """Those of one thread: where several work on tables, each hands on what it found itself."""

    def __init__(self) -> None:
        self.remarks: Counter[str] = Counter()


_held = _Held()


def remark(what: str, times: int) -> None:
    """Remember that something was done so many times. what: a sentence with {n} for how often."""
    if times:
        _held.remarks[what] += times


def remark_once(sentence: str) -> None:
    """Remember a sentence that is told once, however often it is found out, since a source is read several times."""
    _held.remarks[sentence.replace("{", "{{").replace("}", "}}")] = 1


def taken() -> dict[str, int]:
    """What there is to tell, for another process, which tells it instead of this one."""
    found = dict(_held.remarks)
    _held.remarks.clear()
    return found


def given(found: dict[str, int]) -> None:
    """Remember what another process found out."""
    for what, times in found.items():
        _held.remarks[what] = _held.remarks[what] + times if "{n}" in what else 1


def remarks() -> list[str]:
    """What there is to tell, once."""
    told = [what.format(n=f"{times:,}") for what, times in _held.remarks.items()]
    _held.remarks.clear()
    return told
