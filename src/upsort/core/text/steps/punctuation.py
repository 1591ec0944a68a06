"""Punctuation outside of words, and spaces."""

import re
from typing import Any

from upsort.core.deferred import unicode_pattern
from upsort.core.text.characters import DIGIT, DIGIT_INNER, INNER, MARK, WORD, character_class
from upsort.core.text.editing import Substitution
from upsort.core.text.step import Place, Step

_PUNCTUATION = unicode_pattern(r"(?V1)[\p{P}\p{S}--\p{Emoji_Presentation}]")
_SPACES = re.compile(r"^\s+|\s+$|\s+")


def _punctuation(found: Any) -> str:
    """A space for a punctuation mark, unless it stands inside a word by the rules of the tokeniser."""
    text, place = found.string, found.start()
    kind = character_class(found.group())
    if kind not in {INNER, DIGIT_INNER} or not 0 < place < len(text) - 1:
        return " "
    # Marks belong to the character before them, so the one before a run of marks decides.
    before = place - 1
    while before > 0 and character_class(text[before]) == MARK:
        before -= 1
    wanted = {WORD, DIGIT} if kind == INNER else {DIGIT}
    around = {character_class(text[before if kind == INNER else place - 1]), character_class(text[place + 1])}
    return str(found.group()) if around <= wanted else " "


PUNCTUATION = Step(
    name="punctuation",
    told="a space for each punctuation mark that is not inside a word",
    example=("Well... (it's aphid-free)!", "Well     it's aphid-free  "),
    place=Place.EITHER_SIDE,
    on_text=lambda _, __: Substitution(_PUNCTUATION, _punctuation),
    sees_case=False,
)
SPACES = Step(
    name="spaces",
    told="one space between words",
    example=("  too   wide ", "too wide"),
    place=Place.HARMLESS_AFTER,
    on_text=lambda _, __: Substitution(
        _SPACES,
        lambda found: " " if found.start() > 0 and found.end() < len(found.string) else "",
        whole=lambda text: " ".join(text.split()),
    ),
    sees_case=False,
)
