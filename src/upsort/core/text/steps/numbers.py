"""Numbers, taken out, kept, or replaced by one term, or by one for each shape: a year, a price, a telephone number."""

import re
from typing import Literal

from upsort.core.text.editing import Substitution, TextStep
from upsort.core.text.markers import marker
from upsort.core.text.step import Place, Step
from upsort.core.text.steps.replaced import choice

# A look behind comes after the first character, so that a match is looked for only where that one stands.
_NUMBER = re.compile(r"\d(?<![^\W_]\d)\d*(?:[.,:/]\d+)*(?:st|nd|rd|th)?(?![^\W_])")
_PHONE = r"(?P<phone>(?<!\w)\+?\d(?:[ ()/-]{0,2}\d){8,14}(?!\w))"
_PRICE = (
    r"(?P<price>[£$€]\s?\d+(?:[.,]\d+)*|(?<!\w)\d+(?:[.,]\d+)*\s?(?:[£$€]|(?:eur|euros?|usd|gbp|pounds?|dollars?)\b))"
)
_SHAPES = re.compile(
    rf"{_PHONE}|{_PRICE}|(?P<year>(?<!\w)(?:1[5-9]|20)\d\d(?!\w))|(?P<number>{_NUMBER.pattern})", re.IGNORECASE
)


def _numbers(mode: Literal["drop", "keep", "marker", "shape"]) -> TextStep:
    if mode == "shape":
        return Substitution(_SHAPES, lambda found: marker(found.lastgroup))
    return Substitution(_NUMBER, choice(mode, "number"))


NUMBERS = Step(
    name="numbers",
    told="numbers; also by shape: <year>, <price>, <phone>",
    example=("since 2019, for £5", "since  , for £ "),
    place=Place.EITHER_SIDE,
    on_text=lambda settings: _numbers(settings.numbers),
    options=("numbers",),
    needs_punctuation=True,
)
