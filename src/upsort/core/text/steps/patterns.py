"""Patterns and pieces of text that somebody brought, and what is to stand in their place."""

import re
from collections.abc import Sequence

import regex

from upsort.core.errors import UsageProblem
from upsort.core.text.editing import Edit, OneByOne, Rewriting, Substitution, TextStep, holding
from upsort.core.text.step import Place, Step


class _Sequence(OneByOne):
    """Several steps as one."""

    def __init__(self, steps: Sequence[TextStep]) -> None:
        self.steps = steps

    def apply(self, text: str) -> str:
        for step in self.steps:
            text = step.apply(text)
        return text

    def edits(self, text: str) -> list[Edit]:
        if len(self.steps) == 1:
            return self.steps[0].edits(text)
        return Rewriting(self.apply, re.compile(r"\S+|\s+")).edits(text)


def _replacement(old: str, new: str, seconds: float) -> TextStep:
    if len(old) > 2 and old[0] == old[-1] == "/":
        return TimedSubstitution(checked_pattern(old[1:-1]), new, seconds)
    return Substitution(re.compile(re.escape(old)), lambda found: new, holding(old))


class TimedSubstitution(OneByOne):
    """A pattern that somebody brought, with a bound on how long it may take. Raises TimeoutError beyond it."""

    def __init__(self, pattern: "regex.Pattern[str]", new: str, seconds: float) -> None:
        self.pattern, self.new, self.seconds = pattern, new, seconds

    def apply(self, text: str) -> str:
        return str(self.pattern.sub(self.new, text, timeout=self.seconds))

    def edits(self, text: str) -> list[Edit]:
        return [
            Edit(found.start(), found.end(), found.expand(self.new))
            for found in self.pattern.finditer(text, timeout=self.seconds)
        ]


def checked_pattern(text: str) -> "regex.Pattern[str]":
    """A regular expression. Raises UsageProblem that shows the place where it is wrong."""
    try:
        return regex.compile(text)
    except regex.error as error:
        at: int = getattr(error, "pos", None) or 0
        reason = getattr(error, "msg", str(error))
        raise UsageProblem(
            f"The pattern is no regular expression: {reason}.", f"{text[:at]} ⟵ here ⟶ {text[at:]}"
        ) from None


REPLACE = Step(
    name="replace",
    told="text and patterns of clean.replace",
    example=("my_quince", "my quince"),
    example_with={"replace": (("_", " "),)},
    place=Place.EITHER_SIDE,
    on_text=lambda settings: _Sequence(
        [_replacement(old, new, settings.pattern_seconds) for old, new in settings.replace]
    ),
    options=("replace", "pattern_seconds"),
    needs_punctuation=True,
    own_patterns=lambda settings: bool(settings.replace),
    lacks=lambda settings, _: "" if settings.replace else "clean.replace is empty; replace does nothing.",
)
