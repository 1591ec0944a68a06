"""The steps of cleaning that work on running text. Each is a pure function of a text, with an example in `EXAMPLES`."""

import html
import re
import unicodedata
from collections.abc import Callable, Sequence
from functools import partial
from itertools import product
from typing import Any, Literal, assert_never

import numpy as np
import regex

from upsort.core.errors import UsageProblem
from upsort.core.plan import Clean, OrMarker, Step
from upsort.core.text.characters import DIGIT, DIGIT_INNER, INNER, MARK, WORD, character_class
from upsort.core.text.editing import Edit, OneByOne, Rewriting, Substitution, TextStep, edited, holding
from upsort.core.text.lowercase import lower
from upsort.core.text.markers import CLOSE, OPEN, marker
from upsort.core.text.stop_words import negations

EXAMPLES = {
    "nfc": ("cafe\u0301", "café"),
    "nfkc": ("ﬁne № ２", "fine No 2"),
    "accents": ("crème brûlée", "creme brulee"),
    "markup": ("<b>wet</b> &amp; cold", " wet  & cold"),
    "lower": ("My Quince", "my quince"),
    "links": ("see https://fernhollow.example/map now", "see  <link>  now"),
    "emails": ("write to desk@fernhollow.example", "write to  <email> "),
    "names": ("ask @tamsin", "ask  <name> "),
    "tags": ("so dry #watering", "so dry watering"),
    "numbers": ("since 2019, for £5", "since  , for £ "),
    "emoji": ("lovely 🌱", "lovely  <seedling> "),
    "contractions": ("it can't and won't", "it can not and will not"),
    "negations": ("not good at all, but cheap", "not not_good not_at not_all, but cheap"),
    "letters": ("sooooo dry", "soo dry"),
    "punctuation": ("Well... (it's aphid-free)!", "Well     it's aphid-free  "),
    "spaces": ("  too   wide ", "too wide"),
}

_TAG = r"<(?:!--.*?-->|(?:script|style)\b[^>]*>.*?</(?:script|style)\s*>|/?[a-zA-Z][^<>]*>|![^<>]*>)"
_MARKUP = re.compile(rf"{_TAG}|&(?:#\d{{1,7}}|#[xX][0-9a-fA-F]{{1,6}}|[a-zA-Z][a-zA-Z0-9]{{1,31}});", re.DOTALL)
_LINK = re.compile(
    r"\b(?:https?|ftp)://[^\s<>\"']*[^\s<>\"'.,;:!?)\]]|\bwww\.[^\s<>\"']*[^\s<>\"'.,;:!?)\]]", re.IGNORECASE
)
_EMAIL = re.compile(r"\b[\w.+-]{1,64}@[\w-]{1,63}(?:\.[\w-]{1,63}){1,8}\b")
_NAME = re.compile(r"(?<![\w@])@\w{1,64}")
_HASHTAG = re.compile(r"(?<![\w#&])#(\w*[^\W\d]\w*)")
# A look behind comes after the first character, so that a match is looked for only where that one stands.
_NUMBER = re.compile(r"\d(?<![^\W_]\d)\d*(?:[.,:/]\d+)*(?:st|nd|rd|th)?(?![^\W_])")
_PHONE = r"(?P<phone>(?<!\w)\+?\d(?:[ ()/-]{0,2}\d){8,14}(?!\w))"
_PRICE = (
    r"(?P<price>[£$€]\s?\d+(?:[.,]\d+)*|(?<!\w)\d+(?:[.,]\d+)*\s?(?:[£$€]|(?:eur|euros?|usd|gbp|pounds?|dollars?)\b))"
)
_SHAPES = re.compile(
    rf"{_PHONE}|{_PRICE}|(?P<year>(?<!\w)(?:1[5-9]|20)\d\d(?!\w))|(?P<number>{_NUMBER.pattern})", re.IGNORECASE
)
_EMOJI = regex.compile(r"\p{Emoji_Presentation}|\p{Extended_Pictographic}\ufe0f?")
_EMOJI_JOINERS = regex.compile(r"[\ufe0f\u200d\U0001f3fb-\U0001f3ff]+")
_MAY_BE_EMOJI = re.compile("[\u200d\u00a9\u00ae\u203c-\U0010ffff]")
_EMOTICON = re.compile(
    r"[:;=8<](?<![\w:;][:;=8<])"
    r"(?:(?<=<)(?P<heart>3)|(?<!<)[-o']?(?:(?P<smile>[)\]dDpP])|(?P<frown>[(\[/\\|])))(?!\w)"
)
_NOT_ASCII = re.compile(r"[^\x00-\x7f]+")
_WITH_MARKS = regex.compile(r"\P{M}?\p{M}*", regex.DOTALL)
_REPEATED = re.compile(r"([^\W\d_])\1{2,}")
_PUNCTUATION = regex.compile(r"[\p{P}\p{S}--\p{Emoji_Presentation}]", flags=regex.V1)
_SPACES = re.compile(r"^\s+|\s+$|\s+")
_ENGLISH_CONTRACTIONS = {
    "won't": "will not", "can't": "can not", "cannot": "can not", "shan't": "shall not", "ain't": "is not", "let's": "let us",
}  # fmt: skip
_ENGLISH_ENDINGS = {"'t": " not", "'re": " are", "'ve": " have", "'ll": " will", "'m": " am", "'d": " would"}
_ENGLISH = re.compile(
    r"\b(?:(?P<whole>cannot|(?:won|can|shan|ain)['’]t|let['’]s)|(?P<stem>\w++)(?P<end>(?<=\wn)['’]t|['’](?:re|ve|ll|m|d)))\b",
    re.IGNORECASE,
)
_ELISION = re.compile(r"\b(?P<short>qu|[cdjlmnst]|(?:nell|dell|dall|all|sull|un))['’](?=\w)", re.IGNORECASE)
_WORDS = re.compile(r"[\w'’\-\ue000\ue001]+")
_WORD_OR_STOP = re.compile(rf"(?P<word>{_WORDS.pattern})|(?P<stop>[.,;:!?()\n])")


def text_step(name: Step, settings: Clean) -> TextStep:
    """One step. Raises UsageProblem for a pattern that is no regular expression."""
    match name:
        case "nfc" | "nfkc":
            return Rewriting(
                partial(unicodedata.normalize, "NFC" if name == "nfc" else "NFKC"),
                _WITH_MARKS,
            )
        case "accents":
            return Rewriting(_without_accents, _WITH_MARKS, over_lines=True)
        case "lower":
            return Rewriting(
                partial(lower, language=settings.language), re.compile(r"I\u0307|.", re.DOTALL), over_lines=True
            )
        case "markup":
            return Substitution(_MARKUP, lambda found: _entity(found.group()), holding("<", "&"))
        case "links":
            return Substitution(
                _LINK,
                _choice(settings.links, "link"),
                holding("://", *(f"{letters}." for letters in _in_any_case("ww"))),
            )
        case "emails":
            return Substitution(_EMAIL, _choice(settings.emails, "email"), holding("@"))
        case "names":
            return Substitution(_NAME, _choice(settings.names, "name"), holding("@"))
        case "tags":
            choice = _choice(settings.tags, "tag")
            return Substitution(
                _HASHTAG, (lambda found: found.group(1)) if settings.tags == "keep" else choice, holding("#")
            )
        case "numbers":
            return _numbers(settings.numbers)
        case "emoji":
            return _Emoji(settings.emoji == "keep")
        case "contractions":
            english = settings.language == "en"
            return (
                Substitution(_ENGLISH, _split_contraction, holding("'", "’", *_in_any_case("nn")))
                if english
                else Substitution(_ELISION, _split_elision, holding("'", "’"))
            )
        case "negations":
            return _Negations(settings.language)
        case "replace":
            return _Sequence([_replacement(old, new, settings.pattern_seconds) for old, new in settings.replace])
        case "letters":
            return Substitution(_REPEATED, lambda found: found.group(1) * 2, _three_alike)
        case "punctuation":
            return Substitution(_PUNCTUATION, _punctuation)
        case "spaces":
            return Substitution(
                _SPACES,
                lambda found: " " if found.start() > 0 and found.end() < len(found.string) else "",
                whole=lambda text: " ".join(text.split()),
            )
        case "stopwords" | "stem" | "lemmas" | "lengths":
            raise ValueError(f"{name} works on words, not on running text")
        case _:
            assert_never(name)


class _Bases(dict[int, str]):
    """For each character what it is without its accents; worked out when it is met first."""

    def __missing__(self, code: int) -> str:
        parts = unicodedata.normalize("NFD", chr(code))
        self[code] = "".join(part for part in parts if unicodedata.category(part) != "Mn")
        return self[code]


_BASES = _Bases()


def _without_accents(text: str) -> str:
    return unicodedata.normalize("NFC", _NOT_ASCII.sub(lambda found: found.group().translate(_BASES), text))


def _three_alike(text: str) -> bool:
    """Whether a character stands three times in a row."""
    points = np.frombuffer(text.encode("utf-32-le", "surrogatepass"), dtype="<u4")
    same = points[1:] == points[:-1]
    return bool((same[1:] & same[:-1]).any())


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


def _entity(found: str) -> str:
    return html.unescape(found).replace(OPEN, " ").replace(CLOSE, " ") if found[0] == "&" else " "


def _in_any_case(letters: str) -> list[str]:
    return ["".join(cases) for cases in product(*((letter, letter.upper()) for letter in letters))]


def _choice(mode: OrMarker, name: str) -> Callable[[Any], str]:
    match mode:
        case "drop":
            return lambda found: " "
        case "marker":
            return lambda found: marker(name)
        case "keep":
            return lambda found: found.group()
        case _:
            assert_never(mode)


def _numbers(mode: Literal["drop", "keep", "marker", "shape"]) -> TextStep:
    if mode == "shape":
        return Substitution(_SHAPES, lambda found: marker(found.lastgroup))
    return Substitution(_NUMBER, _choice(mode, "number"))


def _split_contraction(found: "re.Match[str]") -> str:
    if found["whole"]:
        whole = found["whole"].replace("’", "'")
        split = _ENGLISH_CONTRACTIONS.get(whole.lower(), found["whole"])  # İ and ſ are taken for i and s, but are none
        return split.capitalize() if whole[0].isupper() else split
    ending = found["end"].replace("’", "'").lower()
    return (found["stem"][:-1] if ending == "'t" else found["stem"]) + _ENGLISH_ENDINGS[ending]


def _split_elision(found: "re.Match[str]") -> str:
    return f"{found['short']}' "


class _Sequence(OneByOne):
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
        return Rewriting(self.apply, re.compile(r"\S+|\s+")).edits(text)


class _Emoji(OneByOne):
    """Each emoji and emoticon a marker term, or none. A joined or coloured emoji is its parts."""

    def __init__(self, keep: bool) -> None:
        self.keep = keep

    def apply(self, text: str) -> str:
        edits = self.edits(text)
        return edited(text, edits) if edits else text

    def edits(self, text: str) -> list[Edit]:
        found = [Edit(one.start(), one.end(), self._emoticon(one)) for one in _EMOTICON.finditer(text)]
        if _MAY_BE_EMOJI.search(text):
            found += [Edit(one.start(), one.end(), self._emoji(one.group())) for one in _EMOJI.finditer(text)]
            covered = {place for edit in found for place in range(edit.start, edit.end)}
            found += [
                Edit(one.start(), one.end(), "") for one in _EMOJI_JOINERS.finditer(text) if one.start() not in covered
                and one.start() > 0 and one.start() - 1 in covered
            ]  # fmt: skip
        return sorted(found, key=lambda edit: edit.start)

    def _emoticon(self, found: "re.Match[str]") -> str:
        return marker(found.lastgroup or "") if self.keep else " "

    def _emoji(self, found: str) -> str:
        if not self.keep:
            return " "
        name = unicodedata.name(found[0], f"emoji-{ord(found[0]):x}")
        return marker(re.sub(r"\W+", "-", name.lower()).strip("-"))


class _Negations(OneByOne):
    """Words after a negation, up to the next punctuation, marked as negated: not_good."""

    def __init__(self, language: str) -> None:
        self.language = language
        self.negations = negations(language)

    def apply(self, text: str) -> str:
        return edited(text, self.edits(text))

    def edits(self, text: str) -> list[Edit]:
        edits: list[Edit] = []
        negated = False
        small = lower(text, self.language).replace("’", "'")
        if self.negations.isdisjoint(_WORDS.findall(small)) and not (self.language == "en" and "n't" in small):
            return edits
        for found in _WORD_OR_STOP.finditer(text):
            if found["stop"]:
                negated = False
                continue
            word = lower(found["word"], self.language).replace("’", "'")
            if word in self.negations or (self.language == "en" and word.endswith("n't")):
                negated = True
            elif negated and OPEN not in word and not word.startswith("not_"):
                edits.append(Edit(found.start(), found.start(), "not_"))
        return edits


def _replacement(old: str, new: str, seconds: float) -> TextStep:
    if len(old) > 2 and old[0] == old[-1] == "/":
        return TimedSubstitution(checked_pattern(old[1:-1]), new, seconds)
    return Substitution(re.compile(re.escape(old)), lambda found: new, holding(old))


class TimedSubstitution(OneByOne):
    """A pattern that somebody brought, with a bound on how long it may take. Raises TimeoutError beyond it."""

    def __init__(self, pattern: "regex.Pattern[str]", new: str, seconds: float) -> None:
        self.pattern, self.new, self.seconds = pattern, new, seconds

    def apply(self, text: str) -> str:
        return str(self.pattern.sub(self.new, text, timeout=self.seconds))

    def edits(self, text: str) -> list[Edit]:
        return [
            Edit(found.start(), found.end(), found.expand(self.new))
            for found in self.pattern.finditer(text, timeout=self.seconds)
        ]


def checked_pattern(text: str) -> "regex.Pattern[str]":
    """A regular expression. Raises UsageProblem that shows the place where it is wrong."""
    try:
        return regex.compile(text)
    except regex.error as error:
        at: int = getattr(error, "pos", None) or 0
        reason = getattr(error, "msg", str(error))
        raise UsageProblem(
            f"The pattern is no regular expression: {reason}.", f"{text[:at]} ⟵ here ⟶ {text[at:]}"
        ) from None
