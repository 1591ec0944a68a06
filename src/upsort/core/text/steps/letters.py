"""Letters: in lower case, and fewer of them where a word is drawn out."""

import re
from functools import partial

import numpy as np

from upsort.core.text.editing import Rewrite, Substitution
from upsort.core.text.lowercase import lower
from upsort.core.text.step import Step, StepPlace

_REPEATED = re.compile(r"([^\W\d_])\1{2,}")
_CHARACTERS = re.compile(r"I\u0307|.", re.DOTALL)


def _three_alike(text: str) -> bool:
    """Whether a character stands three times in a row."""
    points = np.frombuffer(text.encode("utf-32-le", "surrogatepass"), dtype="<u4")
    same = points[1:] == points[:-1]
    return bool((same[1:] & same[:-1]).any())


LOWER = Step(
    name="lower",
    summary="lower case, by the rules of the language",
    example=("My Quince", "my quince"),
    place=StepPlace.ANYWHERE,
    on_text=lambda settings, _: Rewrite(partial(lower, language=settings.language), _CHARACTERS, over_lines=True),
    options=("language",),
    respells=True,
)
LETTERS = Step(
    name="letters",
    summary="a letter that stands three times or more in a row: twice",
    example=("sooooo dry", "soo dry"),
    place=StepPlace.ANYWHERE,
    on_text=lambda _, __: Substitution(_REPEATED, lambda match: match.group(1) * 2, _three_alike),
    respells=True,
)
