"""Patterns and pieces of text of the user, and their replacements.

What is of a kind (links, addresses, names, tags), taken out, kept, or replaced by one term for all of the kind."""

import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Any, assert_never

from upsort.core.errors import PatternTimeout, UsageProblem
from upsort.core.lazy import record, regex
from upsort.core.plan import Clean, OrMarker
from upsort.core.text.characters import UNSPACED
from upsort.core.text.editing import Edit, PerDocument, Rewrite, Substitution, TextStep, edited, holding, in_any_case
from upsort.core.text.step import PatternBudget, Resources, Step, StepPlace, marker

_LONGEST = 20_000  # characters of a pattern
_MOST_WRITTEN_OUT = 50_000
_PIECE = re.compile(r"\\.|\[\^?\]?(?:\\.|[^\]\\])*+\]?|\{(?:\d{0,9},)?(?P<most>\d{1,9})\}|.", re.DOTALL)
MOST_CHARACTERS = 100_000_000
"""What a replacement may make of one text."""


class _Sequence(PerDocument):
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
        return Rewrite(self.apply, re.compile(r"\S+|\s+")).edits(text)


def _replacement(old: str, new: str, patience: PatternBudget) -> TextStep:
    if len(old) > 2 and old[0] == old[-1] == "/":
        pattern = checked_pattern(old[1:-1])
        _check_template(pattern, new)
        return TimedSubstitution(pattern, new, patience)
    return Replacement(re.compile(on_whole_words(re.escape(old), old)), lambda match: new, holding(old), longest=len(new))


def _table(replacements: Mapping[str, str]) -> TextStep:
    """All of a table at once, the longest first where several begin alike."""
    by_edges: dict[tuple[bool, bool], list[str]] = {}
    for text in replacements:
        by_edges.setdefault((text[0].isalnum(), text[-1].isalnum()), []).append(text)
    pattern = "|".join(on_whole_words(any_of(texts), texts[0]) for texts in by_edges.values())
    longest = max(map(len, replacements.values()))
    return Replacement(re.compile(pattern), lambda match: replacements[match.group()], longest=longest)


def on_whole_words(pattern: str, text: str = "") -> str:
    """A pattern that matches no part of a word; in scripts without spaces any stretch may be a word. text: what it matches, where
    that is known: a sign at its edge bounds itself."""
    before = "" if text and not text[0].isalnum() else rf"(?:(?<![^\W_])|(?<=[{UNSPACED}])|(?=[{UNSPACED}]))"
    after = "" if text and not text[-1].isalnum() else rf"(?:(?![^\W_])|(?=[{UNSPACED}])|(?<=[{UNSPACED}]))"
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
    branches = []
    for sign, subtree in tree.items():
        if sign:
            piece = [re.escape(sign)]
            while len(subtree) == 1 and "" not in subtree:
                sign, subtree = next(iter(subtree.items()))
                piece.append(re.escape(sign))
            branches.append("".join(piece) + (_branches(subtree) if any(subtree) else ""))
    return f"(?:{'|'.join(branches)}){'?' if '' in tree else ''}" if len(branches) > 1 or "" in tree else branches[0]


def _steps(settings: Clean, resources: Resources) -> TextStep:
    patience = resources.patience or PatternBudget(settings.pattern_seconds)
    steps = [_replacement(old, new, patience) for old, new in settings.replace]
    return _Sequence([*steps, *([_table(resources.replacements)] if resources.replacements else [])])


@record(frozen=True, kw_only=True)
class Replacement(Substitution):
    """Words that somebody's list replaces. longest: characters of the longest text put in. Raises PatternTimeout where a text
    would grow beyond bounds."""

    longest: int

    def apply(self, text: str) -> str:
        self._check(text)
        return super().apply(text)

    def edits(self, text: str) -> list[Edit]:
        self._check(text)
        return super().edits(text)

    def _check(self, text: str) -> None:
        if self.longest * (len(text) + 1) <= MOST_CHARACTERS:
            return
        grown = len(text)
        for match in self.pattern.finditer(text):
            grown += len(self.replacement(match)) - len(match.group())
            if grown > MOST_CHARACTERS:
                raise PatternTimeout


class TimedSubstitution(PerDocument):
    """A pattern that somebody brought, with bounds on how long it may take and on what it may make of a text. Raises TooLong
    beyond them."""

    def __init__(self, pattern: "regex.Pattern[str]", new: str, patience: PatternBudget) -> None:
        self.pattern, self.new, self.patience = pattern, new, patience

    def apply(self, text: str) -> str:
        most = len(self.new) + self.new.count("\\") * len(text)  # characters that one match may become
        if most * (len(text) + 1) > MOST_CHARACTERS:
            return edited(text, self.edits(text))
        try:
            return str(self.pattern.sub(self.new, text, timeout=self.patience.left()))
        except TimeoutError:
            raise PatternTimeout from None

    def edits(self, text: str) -> list[Edit]:
        made, grown = [], len(text)
        for match in self.matches(text):
            made.append(Edit(match.start(), match.end(), match.expand(self.new)))
            grown += len(made[-1].new)
            if grown > MOST_CHARACTERS:
                raise PatternTimeout
        return made

    def matches(self, text: str) -> "Iterator[regex.Match[str]]":
        """All matches, one after the other."""
        try:
            yield from self.pattern.finditer(text, timeout=self.patience.left())
        except TimeoutError:
            raise PatternTimeout from None


def checked_pattern(text: str) -> "regex.Pattern[str]":
    """A regular expression. Raises UsageProblem that shows the place where it is wrong, and for one that would be too large: the
    library writes out what is to be repeated so many times."""
    if len(text) > _LONGEST or _written_out(text) > _MOST_WRITTEN_OUT:
        raise UsageProblem(
            "The pattern is too large, or repeats repetitions too often.", "Write + or * instead of large numbers."
        )
    try:
        return regex.compile(text)
    except regex.error as error:
        at: int = getattr(error, "pos", None) or 0
        reason = getattr(error, "msg", str(error))
        raise UsageProblem(f"The pattern is no regular expression: {reason}.", f"{text[:at]} ⟵ here ⟶ {text[at:]}") from None


def _written_out(pattern: str) -> int:
    """About how many signs a pattern has when what is repeated m to n times, in braces, is written n times."""
    sums, last = [0], 0  # of each open bracket; what a repetition would repeat
    for match in _PIECE.finditer(pattern):
        piece = match.group()
        if piece == "(":
            sums.append(0)
            last = 0
        elif piece == ")" and len(sums) > 1:
            last = sums.pop()
            sums[-1] += last
        elif match["most"]:
            sums[-1] += last * (int(match["most"]) - 1)
            last *= int(match["most"])
        else:
            last = 1
            sums[-1] += 1
    return sum(sums) if len(sums) + pattern.count("(") <= _MOST_WRITTEN_OUT else _MOST_WRITTEN_OUT + 1


def _check_template(pattern: "regex.Pattern[str]", new: str) -> None:
    """Raise UsageProblem where what is to stand instead of a match names a group that there is not."""
    if "\\" not in new:
        return
    try:
        match = regex.compile(rf"(?:{pattern.pattern})|", pattern.flags).match("")
        assert match is not None
        match.expand(new)
    except (regex.error, IndexError, ValueError) as error:
        raise UsageProblem(
            f"{new!r} cannot replace a match: {error}.", "Groups are \\1 to \\99 or \\g<name>; \\\\ is a backslash."
        ) from None


REPLACE = Step(
    name="replace",
    summary="words and patterns of clean.replace, and words of clean.replace_file",
    example=("my_quince", "my quince"),
    example_with={"replace": (("_", " "),)},
    place=StepPlace.ANYWHERE,
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


LINK = re.compile(r"\b(?:https?|ftp)://[^\s<>\"']*[^\s<>\"'.,;:!?)\]]|\bwww\.[^\s<>\"']*[^\s<>\"'.,;:!?)\]]", re.IGNORECASE)
EMAIL = re.compile(r"\b[\w.+-]{1,64}@[\w-]{1,63}(?:\.[\w-]{1,63}){1,8}\b")
NAME = re.compile(r"(?<![\w@])@\w{1,64}")
HASHTAG = re.compile(r"(?<![\w#&])#(\w*[^\W\d]\w*)")


def choice(mode: OrMarker, name: str) -> Callable[[Any], str]:
    """What stands instead of a match. name: of the marker."""
    match mode:
        case "drop":
            return lambda match: " "
        case "marker":
            return lambda match: marker(name)
        case "keep":
            return lambda match: match.group()
        case _:
            assert_never(mode)


LINKS = Step(
    name="links",
    summary="web addresses",
    example=("see https://fernhollow.example/map now", "see  {link}  now"),
    on_text=lambda settings, _: Substitution(
        LINK, choice(settings.links, "link"), holding("://", *(f"{letters}." for letters in in_any_case("ww")))
    ),
    options=("links",),
    sees_case=False,
    needs_punctuation=True,
)
EMAILS = Step(
    name="emails",
    summary="e-mail addresses",
    example=("write to desk@fernhollow.example", "write to  {email} "),
    on_text=lambda settings, _: Substitution(EMAIL, choice(settings.emails, "email"), holding("@")),
    options=("emails",),
    sees_case=False,
    needs_punctuation=True,
)
NAMES = Step(
    name="names",
    summary="names as in @tamsin",
    example=("ask @tamsin", "ask  {name} "),
    on_text=lambda settings, _: Substitution(NAME, choice(settings.names, "name"), holding("@")),
    options=("names",),
    sees_case=False,
    needs_punctuation=True,
)
TAGS = Step(
    name="tags",
    summary="tags as in #watering",
    example=("so dry #watering", "so dry watering"),
    on_text=lambda settings, _: Substitution(
        HASHTAG, (lambda match: match.group(1)) if settings.tags == "keep" else choice(settings.tags, "tag"), holding("#")
    ),
    options=("tags",),
    needs_punctuation=True,
)
