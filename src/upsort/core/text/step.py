"""The record that each step of cleaning fills in. What a step is stands there, and everything else reads it."""

from collections.abc import Callable, Mapping
from dataclasses import field
from enum import Enum
from typing import Any

from upsort.core.plan import Clean
from upsort.core.records import record
from upsort.core.text.editing import TextStep
from upsort.core.text.resources import Resources, WordStep


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

    name: in a plan. told: what it does, in one line. example: a text, and what the step alone makes of it, with the
    settings `example_with`. on_text,
    on_words: the step for some settings and resources; on_text unless its place is ON_WORDS, on_words only there. options: the
    keys of [clean] that it reads. resources: the fields of `Resources` that it needs.

    sees_case, needs_punctuation: whether it would work otherwise on text in lower case, or without punctuation. respells: whether
    it spells words otherwise, so that lists of words must go through it too. joins_forms: whether it makes one word of several.
    own_patterns: whether it runs patterns that somebody brought, for these settings. before, after: other steps, with what is
    wrong where they stand before it, or do not. lacks: what makes it useless for these settings, or nothing.
    """

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
