"""Patterns and pieces of text that somebody brought, and what is to stand in their place."""

import re
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import regex

from upsort.core.errors import UsageProblem
from upsort.core.plan import Clean
from upsort.core.text.editing import Edit, OneByOne, Rewriting, Substitution, TextStep, holding
from upsort.core.text.resources import Resources
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
    return Substitution(re.compile(on_whole_words(re.escape(old), old)), lambda found: new, holding(old))


def _table(replacements: Mapping[str, str]) -> TextStep:
    """All of a table at once, the longest first where several begin alike."""
    by_edges: dict[tuple[bool, bool], list[str]] = {}
    for text in replacements:
        by_edges.setdefault((text[0].isalnum(), text[-1].isalnum()), []).append(text)
    pattern = "|".join(on_whole_words(any_of(texts), texts[0]) for texts in by_edges.values())
    return Substitution(re.compile(pattern), lambda found: replacements[found.group()])


def on_whole_words(pattern: str, text: str = "") -> str:
    """A pattern that matches no part of a word. text: what it matches, where that is known: a sign at its edge bounds itself."""
    before = "" if text and not text[0].isalnum() else r"(?<![^\W_])"
    after = "" if text and not text[-1].isalnum() else r"(?![^\W_])"
    return f"{before}(?:{pattern}){after}"


def any_of(texts: Iterable[str]) -> str:
    """A pattern for any of some texts, the longest first; texts that begin alike share their beginning, which is quick."""
    tree: dict[str, Any] = {}
    for text in texts:
        place = tree
        for sign in text:
            place = place.setdefault(sign, {})
        place[""] = {}
    return _branches(tree)


def _branches(tree: Mapping[str, Any]) -> str:
    found = []
    for sign, below in tree.items():
        if sign:
            piece = [re.escape(sign)]
            while len(below) == 1 and "" not in below:
                sign, below = next(iter(below.items()))
                piece.append(re.escape(sign))
            found.append("".join(piece) + (_branches(below) if any(below) else ""))
    return f"(?:{'|'.join(found)}){'?' if '' in tree else ''}" if len(found) > 1 or "" in tree else found[0]


def _steps(settings: Clean, resources: Resources) -> TextStep:
    steps = [_replacement(old, new, settings.pattern_seconds) for old, new in settings.replace]
    return _Sequence([*steps, *([_table(resources.replacements)] if resources.replacements else [])])


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
    told="words and patterns of clean.replace, and words of clean.replace_file",
    example=("my_quince", "my quince"),
    example_with={"replace": (("_", " "),)},
    place=Place.EITHER_SIDE,
    on_text=_steps,
    options=("replace", "replace_file", "pattern_seconds"),
    resources=("replacements",),
    needs_punctuation=True,
    own_patterns=lambda settings: bool(settings.replace),
    lacks=lambda settings, resources: (
        ""
        if settings.replace or resources.replacements
        else "clean.replace is empty, and so is clean.replace_file; replace does nothing."
    ),
)
