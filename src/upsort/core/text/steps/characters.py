"""Letters: in lower case, and fewer of them where a word is drawn out.

One way of writing each character: the normal forms of Unicode, and letters without their accents.

Punctuation outside of words, and spaces.

Numbers, taken out, kept, or replaced by one term, or by one for each shape: a year, a date, a price, a telephone number.

Words that are too short or too long left out.

Emoji and emoticons as terms of their own."""

import re
import unicodedata
from functools import partial
from typing import Any, Literal

import numpy as np

from upsort.core.lazy import unicode_pattern
from upsort.core.plan import Clean
from upsort.core.text.characters import DIGIT, DIGIT_INNER, INNER, MARK, UNSPACED, WORD, character_class, lower
from upsort.core.text.editing import Edit, PerDocument, Rewrite, Substitution, TextStep, edited
from upsort.core.text.step import Resources, Step, StepPlace, WordStep, marker
from upsort.core.text.steps.patterns import choice

REPEATED = re.compile(r"([^\W\d_])\1{2,}")
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
    on_text=lambda _, __: Substitution(REPEATED, lambda match: match.group(1) * 2, _three_alike),
    respells=True,
)


_NOT_ASCII = re.compile(r"[^\x00-\x7f]+")
_WITH_COMBINING = unicode_pattern(r"(?s)\P{M}?\p{M}*")


class _BaseCharacters(dict[int, str]):
    """For each character what it is without its accents; worked out when it is met first."""

    def __missing__(self, code: int) -> str:
        parts = unicodedata.normalize("NFD", chr(code))
        self[code] = "".join(part for part in parts if unicodedata.category(part) != "Mn")
        return self[code]


_BASES = _BaseCharacters()


def _without_accents(text: str) -> str:
    return unicodedata.normalize("NFC", _NOT_ASCII.sub(lambda match: match.group().translate(_BASES), text))


INNER_LINE_END = re.compile(rf"(?<=[{UNSPACED}])[ \t\u3000]*\r?\n[ \t\u3000]*(?=[{UNSPACED}])")
LINE_ENDS = Step(
    name="line_ends",
    summary="line ends inside words of Chinese, Japanese, Thai and others without spaces",
    example=("浇水太多\n根烂了", "浇水太多根烂了"),
    on_text=lambda _, __: Substitution(INNER_LINE_END, lambda _: ""),
    sees_case=False,
)
NFC = Step(
    name="nfc",
    summary="composed characters: é as one, not e and an accent",
    example=("cafe\u0301", "café"),
    place=StepPlace.ANYWHERE,
    on_text=lambda _, __: Rewrite(partial(unicodedata.normalize, "NFC"), _WITH_COMBINING),
    respells=True,
)
NFKC = Step(
    name="nfkc",
    summary="the same, and look-alikes such as ﬁ and ２ as plain letters and digits",
    example=("ﬁne № ２", "fine No 2"),
    place=StepPlace.ANYWHERE,
    on_text=lambda _, __: Rewrite(partial(unicodedata.normalize, "NFKC"), _WITH_COMBINING),
    respells=True,
)
ACCENTS = Step(
    name="accents",
    summary="letters without their accents",
    example=("crème brûlée", "creme brulee"),
    place=StepPlace.ANYWHERE,
    on_text=lambda _, __: Rewrite(_without_accents, _WITH_COMBINING, over_lines=True),
    respells=True,
)


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


# A number is a whole token: of `v2.3`, `1.0a`, `covid-19`, `3-year` and `20°C` no part is one. A look behind comes after the
# first character, so that a match is looked for only where that one stands.
_ALONE_AFTER = r"(?![^\W_]|[.,]\d|['’-][^\W_]|°)"
NUMBER = re.compile(r"\d(?<![^\W_]\d)(?<!\d[.,]\d)(?<![^\W_]['’-]\d)\d*(?:[.,:/-]\d+)*(?:st|nd|rd|th)?" + _ALONE_AFTER)
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
_PRICE = rf"(?P<price>[£$€¥₺₽]\s?\d+(?:[.,]\d+)*{_ALONE_AFTER}|(?<!\w)(?<!\d[.,])\d+(?:[.,]\d+)*\s?{_MONEY})"
_YEAR_ALONE = rf"(?P<year>(?<!\w)(?<!\d[.,])(?<!\w['’-]){_YEAR}s?{_ALONE_AFTER}(?!_))"
SHAPES = re.compile(rf"{_DATE}|{_ISBN}|{_PHONE}|{_PRICE}|{_YEAR_ALONE}|(?P<number>{NUMBER.pattern})", re.IGNORECASE)
SHAPE_NAMES = ("date", "isbn", "phone", "price", "year", "number")


def _numbers(mode: Literal["drop", "keep", "marker", "shape"]) -> TextStep:
    if mode == "shape":
        return Substitution(SHAPES, lambda match: marker(next(name for name in SHAPE_NAMES if match[name] is not None)))
    return Substitution(NUMBER, choice(mode, "number"))


NUMBERS = Step(
    name="numbers",
    summary="numbers; also by shape: {year}, {date}, {price}, {phone}, {isbn}",
    example=("since 2019, for £5", "since  , for £ "),
    place=StepPlace.ANYWHERE,
    on_text=lambda settings, _: _numbers(settings.numbers),
    options=("numbers",),
    needs_punctuation=True,
)


def _step(settings: Clean, _: Resources, __: WordStep | None) -> WordStep:
    least, most = settings.token_lengths
    return lambda word: word if len(word) >= least and (not most or len(word) <= most) else ""


LENGTHS = Step(
    name="lengths",
    summary="words shorter or longer than clean.token_lengths left out",
    example=("a an the ferns", "the ferns"),
    example_with={"token_lengths": (3, 0)},
    place=StepPlace.ON_WORDS,
    on_words=_step,
    options=("token_lengths",),
    lacks=lambda settings, _: (
        "clean.token_lengths sets no bound; lengths does nothing." if settings.token_lengths in {(0, 0), (1, 0)} else ""
    ),
)


_EMOJI = unicode_pattern(r"\p{Emoji_Presentation}|\p{Extended_Pictographic}\ufe0f?")
_EMOJI_JOINERS = unicode_pattern(r"[\ufe0f\u200d\U0001f3fb-\U0001f3ff]+")
_MAY_BE_EMOJI = re.compile("[\u200d\u00a9\u00ae\u203c-\U0010ffff]")
_EMOTICON = re.compile(
    r"[:;=8<](?<![\w:;][:;=8<])"
    r"(?:(?<=<)(?P<heart>3)|(?<!<)[-o']?(?:(?P<smile>[)\]dDpP])|(?P<frown>[(\[/\\|])))(?!\w)"
)


class _Emoji(PerDocument):
    """Each emoji and emoticon a marker term, or none. A joined or coloured emoji is its parts."""

    def __init__(self, keep: bool) -> None:
        self.keep = keep

    def apply(self, text: str) -> str:
        edits = self.edits(text)
        return edited(text, edits) if edits else text

    def edits(self, text: str) -> list[Edit]:
        made = [Edit(match.start(), match.end(), self._emoticon(match)) for match in _EMOTICON.finditer(text)]
        if _MAY_BE_EMOJI.search(text):
            made += [Edit(match.start(), match.end(), self._emoji(match.group())) for match in _EMOJI.finditer(text)]
            covered = {place for edit in made for place in range(edit.start, edit.end)}
            made += [
                Edit(match.start(), match.end(), "") for match in _EMOJI_JOINERS.finditer(text) if match.start() not in covered
                and match.start() > 0 and match.start() - 1 in covered
            ]  # fmt: skip
        return sorted(made, key=lambda edit: edit.start)

    def _emoticon(self, match: "re.Match[str]") -> str:
        return marker(match.lastgroup or "") if self.keep else " "

    def _emoji(self, emoji: str) -> str:
        if not self.keep:
            return " "
        name = unicodedata.name(emoji[0], f"emoji-{ord(emoji[0]):x}")
        return marker(re.sub(r"\W+", "-", name.lower()).strip("-"))


EMOJI = Step(
    name="emoji",
    summary="emoji and emoticons as terms such as {seedling}, or none",
    example=("lovely 🌱", "lovely  {seedling} "),
    on_text=lambda settings, _: _Emoji(settings.emoji == "keep"),
    options=("emoji",),
    needs_punctuation=True,
)
