"""Punctuation outside of words, and spaces."""

import re
from typing import Any

from upsort.core.deferred import unicode_pattern
from upsort.core.text.characters import DIGIT, DIGIT_INNER, INNER, MARK, WORD, character_class
from upsort.core.text.editing import Substitution
from upsort.core.text.step import Step, StepPlace

_PUNCTUATION = unicode_pattern(r"(?V1)[\p{P}\p{S}--\p{Emoji_Presentation}]")
_SPACES = re.compile(r"^\s+|\s+$|\s+")


def _punctuation(match: Any) -> str:
    """A space for a punctuation mark, unless it stands inside a word by the rules of the tokeniser."""
    text, place = match.string, match.start()
    kind = character_class(match.group())
    if kind not in {INNER, DIGIT_INNER} or not 0 < place < len(text) - 1:
        return " "
    # Marks belong to the character before them, so the one before a run of marks decides.
    before = place - 1
    while before > 0 and character_class(text[before]) == MARK:
        before -= 1
    classes = {WORD, DIGIT} if kind == INNER else {DIGIT}
    around = {character_class(text[before if kind == INNER else place - 1]), character_class(text[place + 1])}
    return str(match.group()) if around <= classes else " "


PUNCTUATION = Step(
    name="punctuation",
    summary="a space for each punctuation mark that is not inside a word",
    example=("Well... (it's aphid-free)!", "Well     it's aphid-free  "),
    place=StepPlace.ANYWHERE,
    on_text=lambda _, __: Substitution(_PUNCTUATION, _punctuation),
    sees_case=False,
)
SPACES = Step(
    name="spaces",
    summary="one space between words",
    example=("  too   wide ", "too wide"),
    place=StepPlace.NO_EFFECT_AFTER,
    on_text=lambda _, __: Substitution(
        _SPACES,
        lambda match: " " if match.start() > 0 and match.end() < len(match.string) else "",
        whole=lambda text: " ".join(text.split()),
    ),
    sees_case=False,
)
