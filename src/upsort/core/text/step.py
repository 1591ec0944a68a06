"""The record that each step of cleaning fills in, what steps need from files, and marker terms."""

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import field
from enum import Enum
from threading import get_ident
from time import perf_counter
from typing import Any

from upsort.core.errors import DataProblem, PatternTimeout
from upsort.core.lazy import record
from upsort.core.plan import Clean
from upsort.core.text.editing import TextStep
from upsort.core.text.word_lists import EnglishWords

OPEN, CLOSE, PROTECTED = "\ue000", "\ue001", "\ue002"
DIGITS = "".join(chr(0xE010 + digit) for digit in range(16))
MARKER_CHARACTERS = OPEN + CLOSE + PROTECTED
PRIVATE = frozenset((OPEN, CLOSE, PROTECTED, *DIGITS))
_SHOWN = str.maketrans({OPEN: "{", CLOSE: "}"})
_SPELLED = re.compile(rf"{PROTECTED}([{DIGITS[0]}-{DIGITS[-1]}]+)")
_READ = str.maketrans({sign: f"{digit:x}" for digit, sign in enumerate(DIGITS)})


def marker(name: str) -> str:
    """The marker of a name, with room around it. marker("link") is shown as " {link} ".

    Inside a text a marker is written between two private-use characters, which the tokeniser takes for letters, so that it stays
    one token and no text can be taken for it: those two characters are removed from every document first."""
    return f" {OPEN}{name}{CLOSE} "


def protect(text: str) -> str:
    """Text spelled so that no step changes it, with room around it.

    Text that is to be kept as it is written (`C++`) goes through the steps spelled in such characters too: each of its own by the
    digits of its code, behind a third one."""
    spelled = "".join(f"{PROTECTED}{''.join(DIGITS[int(digit, 16)] for digit in f'{ord(sign):x}')}" for sign in text)
    return f" {spelled} "


def shown(text: str) -> str:
    """The text with its markers as they are shown, and what was kept as it was written."""
    if PROTECTED in text:
        text = _SPELLED.sub(lambda match: chr(int(match[1].translate(_READ), 16)), text)
    return text.translate(_SHOWN) if OPEN in text else text


def unmarked(text: str) -> str:
    """A document as it comes in, without the characters that markers are made of."""
    for sign in MARKER_CHARACTERS:
        text = text.replace(sign, " ")
    return text


SECONDS = 2.0
"""What all patterns together may take on one document, where the plan says nothing; the most where they are a sorter's."""

_ON_ALL = 30.0  # times what one document may take: what a run may spend on patterns
_FOR_EACH = 0.005  # seconds that each document adds to that
_SECOND_CHANCE = 10.0  # times the bound, where a document has once been found to be within it


class PatternBudget:
    """What is left for the patterns of one plan. seconds: for all of them on one document. known: documents (by their hash) on
    which they took too long, so that none is tried again.

    A backtracking search may take without end on some text (with back references it is NP-hard: Aho 1990), and the library counts
    no steps; so what bounds it is time, and depends on the machine."""

    def __init__(self, seconds: float) -> None:
        self.seconds = seconds
        self.spent = 0.0
        self.documents = 0
        self.refused = 0
        self.known: set[int] = set()
        self._until: dict[int, float] = {}  # of each thread

    def begin(self) -> None:
        """A document comes for the first time. Raises DataProblem where the run has spent too much on patterns."""
        if self.spent > _ON_ALL * self.seconds + _FOR_EACH * self.documents:
            slow = f", {self.refused:,} of them too long for one" if self.refused else ""
            raise DataProblem(
                f"The patterns of the plan have taken {self.spent:.0f} seconds on {self.documents:,} documents{slow}.",
                "Mend them (clean.replace, clean.tokens_by), or allow them more (clean.pattern_seconds).",
            )
        self.documents += 1
        self._until[get_ident()] = perf_counter() + self.seconds

    def end(self, refused: bool) -> None:
        """The document is done with."""
        self.spent += perf_counter() - self._until.pop(get_ident()) + self.seconds
        self.refused += refused

    def left(self) -> float:
        """The seconds that the next pattern has. Raises TooLong for none."""
        until = self._until.get(get_ident())
        if until is None:  # a document that has been looked at before
            return self.seconds * _SECOND_CHANCE
        left = until - perf_counter()
        if left <= 0:
            raise PatternTimeout
        return left


WordStep = Callable[[str], str]
"""A word to the word in its place; an empty string for none."""


@record(frozen=True, kw_only=True)
class Resources:
    """What steps need from files. stop_words: a list of one's own. lemma_table: forms and lemmas; english: its words, for lemmas.
    replacements: words and their replacements. keep: text that stays one token. vocabulary: the terms to use, where they are
    given. words_by_form: for a stem or lemma, the words that it represents, the most frequent one first.

    All empty where the plan asks for none of them.
    patience: what all patterns of a plan share, so that their bounds hold for all of them together."""

    stop_words: frozenset[str] | None = None
    lemma_table: Mapping[str, str] = field(default_factory=dict)
    english: EnglishWords = field(default_factory=EnglishWords)
    replacements: Mapping[str, str] = field(default_factory=dict)
    keep: tuple[str, ...] = ()
    vocabulary: frozenset[str] = frozenset()
    words_by_form: Mapping[str, Sequence[str]] = field(default_factory=dict)
    patience: PatternBudget | None = field(default=None, compare=False, repr=False)


class StepPlace(Enum):
    """Where a step may stand. The first step that needs words cuts the text into them."""

    BEFORE_WORDS = "needs running text"
    ANYWHERE = "works on running text as well as on single words"
    NO_EFFECT_AFTER = "needs running text; has nothing left to do on single words"
    ON_WORDS = "works on single words"


OnText = Callable[[Clean, Resources], TextStep]
OnWords = Callable[[Clean, Resources, WordStep | None], WordStep]
"""The last argument: what the earlier steps do to a word, for lists that words are compared with."""


@record(frozen=True, kw_only=True)
class Step:
    """A step of cleaning.

    name: in a plan. summary: what it does, in one line. example: a text, and what the step alone makes of it, with the settings
    `example_with`. on_text,
    on_words: the step for some settings and resources; on_text unless its place is ON_WORDS, on_words only there. options: the
    keys of [clean] that it reads. resources: the fields of `Resources` that it needs.

    sees_case, needs_punctuation: whether it would work otherwise on text in lower case, or without punctuation. respells: whether
    it spells words otherwise, so that lists of words must go through it too. joins_forms: whether it makes one word of several.
    own_patterns: whether it runs patterns that somebody brought, for these settings. before, after: other steps, with what is
    wrong where they stand before it, or do not. lacks: what makes it useless for these settings, or nothing."""

    name: str
    summary: str
    example: tuple[str, str]
    example_with: Mapping[str, Any] = field(default_factory=dict)
    place: StepPlace = StepPlace.BEFORE_WORDS
    on_text: OnText | None = None
    on_words: OnWords | None = None
    options: tuple[str, ...] = ()
    resources: tuple[str, ...] = ()
    sees_case: bool = True
    needs_punctuation: bool = False
    respells: bool = False
    joins_forms: bool = False
    own_patterns: Callable[[Clean], bool] = field(default=lambda _: False)
    before: Mapping[str, str] = field(default_factory=dict)
    after: Mapping[str, str] = field(default_factory=dict)
    lacks: Callable[[Clean, Resources], str] = field(default=lambda _settings, _resources: "")
