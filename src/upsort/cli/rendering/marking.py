"""A text with a line of marks under each of its lines: which words speak for the label, and which for the next one."""

from collections.abc import Iterator

from rich.cells import cell_len

from upsort.cli.rendering.console import without_controls
from upsort.core.analysis.contributions import Word
from upsort.core.analysis.explanation import Explanation

_FOR = "▁▃▅▇"  # by how much a word speaks for the label, against the word that speaks most for either
_AGAINST = "╌"
_UNKNOWN = "·"
_WEAK = 1 / 12  # of the strongest word, below which a word has no mark


def legend(speaks: str = "", against: str = "") -> str:
    """What the marks mean. speaks, against: of words that say something, such as `for pests` and `for diseases`."""
    weighed = f"{' '.join(_FOR)} {speaks}, {_AGAINST} {against}, " if speaks else ""
    return f"{weighed}{_UNKNOWN} not known"


def marked(explanation: Explanation, meaning: str, width: int) -> str:
    """The text in lines of at most `width`, as far as its words allow that, with their marks, and what the marks mean."""
    lines: list[str] = []
    text = without_controls(explanation.text).replace("\t", " ")
    signs = _signs(explanation)
    for start, end in _lines(text, width):
        lines.append(text[start:end])
        under = "".join(signs[place] * max(cell_len(text[place]), 0) for place in range(start, end)).rstrip()
        lines += [under] if under else []
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
        return _UNKNOWN
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
