"""Numbers, taken out, kept, or replaced by one term, or by one for each shape: a year, a date, a price, a telephone number."""

import re
from typing import Literal

from upsort.core.text.editing import Substitution, TextStep
from upsort.core.text.markers import marker
from upsort.core.text.step import Step, StepPlace
from upsort.core.text.steps.replaced import choice

# A look behind comes after the first character, so that a match is looked for only where that one stands.
_NUMBER = re.compile(r"\d(?<![^\W_]\d)\d*(?:[.,:/]\d+)*(?:st|nd|rd|th)?(?![^\W_])")
_DAY, _MONTH, _YEAR = r"(?:0?[1-9]|[12]\d|3[01])", r"(?:0?[1-9]|1[0-2])", r"(?:1[5-9]|20)\d\d"
_TIME = r"(?:T\d\d:\d\d(?::\d\d(?:[.,]\d+)?)?(?:Z|[+-]\d\d:?\d\d)?)?"
_DATE = (
    rf"(?P<date>(?<![\w.,])(?:{_YEAR}(?P<between>[-/.]){_MONTH}(?P=between){_DAY}{_TIME}"
    rf"|{_DAY}(?P<within>[-/.]){_MONTH}(?P=within)(?:{_YEAR}|\d\d)"
    rf"|{_MONTH}(?P<inside>[-/]){_DAY}(?P=inside)(?:{_YEAR}|\d\d))(?![^\W_]))"
)
# Thirteen digits that begin with 978 or 979, ten in four groups, or ten behind the word (ISO 2108).
_ISBN = (
    r"(?P<isbn>(?<![\w-])(?:97[89](?:[ -]?\d){10}"
    r"|(?=(?:\d[ -]?){9}[\dX](?![\w-]))\d{1,5}(?P<gap>[ -])\d{1,7}(?P=gap)\d{1,6}(?P=gap)[\dX]"
    r"|(?<=isbn[ :])\d{9}[\dX])(?![\w-]))"
)
# From seven to fifteen digits (ITU E.164) behind a plus, a bracket or a leading zero; others may be any number.
_PHONE = (
    r"(?P<phone>(?<![\w.,])(?=(?:[^\d\n]{0,3}\d){7,15}(?!\d))"
    r"(?:\+\d{1,3}(?:[ /-]?\(0\))?|\(\+?\d{1,5}\)|0\d)(?:[ ()/-]{0,2}\d){4,14}(?!\w))"
)
_MONEY = r"(?:[£$€¥₺₽]|(?:eur|euros?|usd|gbp|chf|pounds?|dollars?|kr|tl|zł|руб)\b)"
_PRICE = rf"(?P<price>[£$€¥₺₽]\s?\d+(?:[.,]\d+)*|(?<!\w)\d+(?:[.,]\d+)*\s?{_MONEY})"
_YEAR_ALONE = rf"(?P<year>(?<!\w){_YEAR}s?(?!\w))"
_SHAPES = re.compile(rf"{_DATE}|{_ISBN}|{_PHONE}|{_PRICE}|{_YEAR_ALONE}|(?P<number>{_NUMBER.pattern})", re.IGNORECASE)
_NAMES = ("date", "isbn", "phone", "price", "year", "number")


def _numbers(mode: Literal["drop", "keep", "marker", "shape"]) -> TextStep:
    if mode == "shape":
        return Substitution(_SHAPES, lambda match: marker(next(name for name in _NAMES if match[name] is not None)))
    return Substitution(_NUMBER, choice(mode, "number"))


NUMBERS = Step(
    name="numbers",
    summary="numbers; also by shape: <year>, <date>, <price>, <phone>, <isbn>",
    example=("since 2019, for £5", "since  , for £ "),
    place=StepPlace.ANYWHERE,
    on_text=lambda settings, _: _numbers(settings.numbers),
    options=("numbers",),
    needs_punctuation=True,
)
