"""Changes to a text that know where they were made, so that a token can be traced back to the characters it came from."""

from collections.abc import Callable, Iterable, Sequence
from difflib import SequenceMatcher
from itertools import product
from typing import Any, Protocol

from upsort.core.arrays import joined_text
from upsort.core.lazy import record


@record(frozen=True)
class Edit:
    """The characters from start up to end are replaced by `new`."""

    start: int
    end: int
    new: str


class TextStep(Protocol):
    """A step of cleaning that works on running text."""

    def apply(self, text: str) -> str:
        """The text after the step."""

    def apply_to_all(self, texts: Sequence[str]) -> Sequence[str]:
        """The texts of a block after the step."""

    def edits(self, text: str) -> list[Edit]:
        """The same step as edits, in order and without overlap; applied, they give the same text."""


class PerDocument:
    """A block of texts is worked on text by text."""

    def apply(self, text: str) -> str:
        raise NotImplementedError

    def apply_to_all(self, texts: Sequence[str]) -> Sequence[str]:
        return [self.apply(text) for text in texts]


def holding(*parts: str) -> Callable[[str], bool]:
    """Whether a text holds one of some parts."""
    return lambda text: any(part in text for part in parts)


def in_any_case(letters: str) -> list[str]:
    """The letters in all mixtures of small ones and capitals."""
    return ["".join(cases) for cases in product(*((letter, letter.upper()) for letter in letters))]


def _always(_: str) -> bool:
    return True


@record(frozen=True)
class Substitution(PerDocument):
    """Every match of a pattern replaced.

    possible: whether a text, or several one after the other, may hold a match; quicker than to look for one. whole: the same step
    on a whole text, where there is a quicker way."""

    pattern: Any
    replacement: Callable[[Any], str]
    possible: Callable[[str], bool] = _always
    whole: Callable[[str], str] | None = None

    def apply(self, text: str) -> str:
        if not self.possible(text):
            return text
        changed: str = self.whole(text) if self.whole is not None else self.pattern.sub(self.replacement, text)
        return changed

    def apply_to_all(self, texts: Sequence[str]) -> Sequence[str]:
        if not self.possible(joined_text(texts)):
            return texts
        return [self.apply(text) for text in texts]

    def edits(self, text: str) -> list[Edit]:
        if not self.possible(text):
            return []
        return [Edit(match.start(), match.end(), self.replacement(match)) for match in self.pattern.finditer(text)]


@record(frozen=True)
class Rewrite(PerDocument):
    """A function of the whole text, such as lower-casing. pieces: a pattern for the stretches that change on their own.

    over_lines: whether the lines of a text change independently of each other."""

    function: Callable[[str], str]
    pieces: Any
    over_lines: bool = False

    def apply(self, text: str) -> str:
        return self.function(text)

    def apply_to_all(self, texts: Sequence[str]) -> Sequence[str]:
        if not self.over_lines:
            return [self.function(text) for text in texts]
        joined = "\n".join(texts)
        if joined.count("\n") == len(texts) - 1:
            return self.function(joined).split("\n")
        return [self.function(text) for text in texts]

    def edits(self, text: str) -> list[Edit]:
        whole = self.function(text)
        edits = []
        for match in self.pieces.finditer(text):
            new = self.function(match.group())
            if new != match.group():
                edits.append(Edit(match.start(), match.end(), new))
        # Where a stretch depends on its neighbours (a final sigma), the whole text decides.
        return edits if edited(text, edits) == whole else _whole_difference(text, whole)


def _whole_difference(text: str, whole: str) -> list[Edit]:
    codes = SequenceMatcher(None, text, whole, autojunk=False).get_opcodes()
    return [Edit(begin, end, whole[new:until]) for kind, begin, end, new, until in codes if kind != "equal"]


def edited(text: str, edits: Iterable[Edit]) -> str:
    """The text after the edits."""
    parts, at = [], 0
    for edit in edits:
        parts += [text[at : edit.start], edit.new]
        at = edit.end
    return "".join([*parts, text[at:]])


@record(frozen=True)
class TracedText:
    """A text, and for each of its characters the stretch of the original that it came from."""

    text: str
    starts: tuple[int, ...]
    ends: tuple[int, ...]

    @classmethod
    def of(cls, text: str) -> "TracedText":
        """An original text."""
        return cls(text, tuple(range(len(text))), tuple(range(1, len(text) + 1)))

    def after(self, edits: Iterable[Edit]) -> "TracedText":
        """The text after the edits; each new character comes from all that its edit replaced."""
        starts: list[int] = []
        ends: list[int] = []
        parts: list[str] = []
        at = 0
        for edit in edits:
            starts += self.starts[at : edit.start]
            ends += self.ends[at : edit.start]
            parts += [self.text[at : edit.start], edit.new]
            begin = self.starts[edit.start] if edit.start < len(self.starts) else (self.ends[-1] if self.ends else 0)
            end = self.ends[edit.end - 1] if edit.end > edit.start else begin
            starts += [begin] * len(edit.new)
            ends += [end] * len(edit.new)
            at = edit.end
        starts += self.starts[at:]
        ends += self.ends[at:]
        return TracedText("".join([*parts, self.text[at:]]), tuple(starts), tuple(ends))

    def origin(self, start: int, end: int) -> tuple[int, int]:
        """Where in the original the characters from start up to end came from."""
        return min(self.starts[start:end]), max(self.ends[start:end])
