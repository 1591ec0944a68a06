"""Cutting long documents into passages of so many words, lines or paragraphs, with or without overlap."""

import re
from collections.abc import Callable
from typing import Literal

from upsort.core.errors import UsageProblem

Unit = Literal["words", "lines", "paragraphs"]

_PIECES: dict[Unit, Callable[[str], list[tuple[int, int]]]] = {
    "words": lambda text: [match.span() for match in re.finditer(r"\S+", text)],
    "lines": lambda text: [match.span() for match in re.finditer(r"[^\n]*\S[^\n]*", text)],
    "paragraphs": lambda text: [match.span() for match in re.finditer(r"\S(?:[^\n]|\n(?!\s*\n))*", text)],
}


def passages(text: str, size: int, unit: Unit = "words", overlap: int = 0) -> list[str]:
    """The text in passages of `size` words (stretches without white space), non-blank lines, or paragraphs.

    Each passage begins size - overlap units after the one before. A rest of less than half a passage is joined to the last.
    What lies between a passage's units is kept as it stands. Raises UsageProblem unless 0 <= overlap < size.
    """
    if not 0 <= overlap < size:
        raise UsageProblem(f"An overlap of {overlap} does not fit passages of {size} {unit}.", "It must be smaller.")
    places = _PIECES[unit](text)
    step = size - overlap
    begins = list(range(0, max(len(places) - overlap, 1), step))
    if len(begins) > 1 and len(places) - begins[-1] - overlap < step / 2:
        begins.pop()
    cut = []
    for number, begin in enumerate(begins):
        last = number == len(begins) - 1
        units = places[begin:] if last else places[begin : begin + size]
        if units:
            cut.append(text[units[0][0] : units[-1][1]])
    return cut


def lines_between(text: str, first: int, last: int | None) -> str:
    """The lines from `first` to `last`, counted from 1; a negative `last` counts from the end, so -1 leaves off the last line.

    kept_lines("a\\nb\\nc\\nd", 2, -1) is "b\\nc".
    """
    lines = text.split("\n")
    return "\n".join(lines[first - 1 : last])
