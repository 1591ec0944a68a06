"""Letters: in lower case, and fewer of them where a word is drawn out."""

import re
from functools import partial

import numpy as np

from upsort.core.text.editing import Rewriting, Substitution
from upsort.core.text.lowercase import lower
from upsort.core.text.step import Place, Step

_REPEATED = re.compile(r"([^\W\d_])\1{2,}")
_ONE_BY_ONE = re.compile(r"I\u0307|.", re.DOTALL)


def _three_alike(text: str) -> bool:
    """Whether a character stands three times in a row."""
    points = np.frombuffer(text.encode("utf-32-le", "surrogatepass"), dtype="<u4")
    same = points[1:] == points[:-1]
    return bool((same[1:] & same[:-1]).any())


LOWER = Step(
    name="lower",
    told="lower case, by the rules of the language",
    example=("My Quince", "my quince"),
    place=Place.EITHER_SIDE,
    on_text=lambda settings, _: Rewriting(partial(lower, language=settings.language), _ONE_BY_ONE, over_lines=True),
    options=("language",),
    respells=True,
)
LETTERS = Step(
    name="letters",
    told="a letter that stands three times or more in a row: twice",
    example=("sooooo dry", "soo dry"),
    place=Place.EITHER_SIDE,
    on_text=lambda _, __: Substitution(_REPEATED, lambda found: found.group(1) * 2, _three_alike),
    respells=True,
)
