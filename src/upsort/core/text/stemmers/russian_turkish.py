"""The Russian suffix-stripping algorithm published with Porter's stemming language (M. F. Porter 2001).

A light Turkish stemmer: the endings of nouns, from the last to the first, as far as vowel harmony allows.

The order of the endings (plural, possessive, case, -ki) is that of the affix stripping of Eryiğit & Adalı, *An affix stripping
morphological analyzer for Turkish* (2004), without their automata: each kind is taken off at most once, a remainder of two
letters with a vowel is always left, and verbs are left alone. A final ı, i, u or ü is taken off where three letters remain,
because the accusative and the possessive of the third person are nothing else; the last consonant is then hard again (kitabı,
kitap)."""

from upsort.core.text.stemmers.rules import longest_first, longest_suffix, regions_of, without_longest

_VOWELS = "аеиоуыэюя"
_GERUND_AFTER_A = ("вшись", "вши", "в")
_GERUND = longest_first("ив ивши ившись ыв ывши ывшись")
_ADJECTIVE = longest_first(
    "ее ие ые ое ими ыми ей ий ый ой ем им ым ом его ого ему ому их ых ую юю ая яя ою ею"
)  # fmt: skip
_PARTICIPLE_AFTER_A = longest_first("ем нн вш ющ щ")
_PARTICIPLE = longest_first("ивш ывш ующ")
_VERB_AFTER_A = longest_first("ла на ете йте ли й л ем н ло но ет ют ны ть ешь нно")
_VERB = longest_first("ила ыла ена ейте уйте ите или ыли ей уй ил ыл им ым ен ило ыло ено ят ует уют ит ыт ены ить ыть ишь ую ю")
_NOUN = longest_first("а ев ов ие ье е иями ями ами еи ии и ией ей ой ий й иям ям ием ем ам ом о у ах иях ях ы ь ию ью ю ия ья я")


def russian_stem(word: str) -> str:
    """The stem of a lower-case Russian word. `stem("важнейшие")` is `"важн"`."""
    word = word.replace("ё", "е")
    rv = next((place + 1 for place, letter in enumerate(word) if letter in _VOWELS), len(word))
    r2 = regions_of(word, _VOWELS).r2
    before, end = word[:rv], _inflected(word[rv:])
    end = end.removesuffix("и")
    suffix = longest_suffix(end, ("ость", "ост"))
    if suffix and len(before) + len(end) - len(suffix) >= r2:
        end = end[: len(end) - len(suffix)]
    return before + _tidied(end)


def _inflected(end: str) -> str:
    """The part behind the first vowel without what inflection adds."""
    gerund = _ending(end, _GERUND_AFTER_A, _GERUND)
    if gerund:
        return end[: len(end) - len(gerund)]
    end = without_longest(end, ("ся", "сь"))
    adjective = longest_suffix(end, _ADJECTIVE)
    if adjective:
        part = end[: len(end) - len(adjective)]
        return part[: len(part) - len(_ending(part, _PARTICIPLE_AFTER_A, _PARTICIPLE))]
    ending = _ending(end, _VERB_AFTER_A, _VERB) or longest_suffix(end, _NOUN)
    return end[: len(end) - len(ending)]


def _ending(end: str, after_a: tuple[str, ...], other_endings: tuple[str, ...]) -> str:
    """The longest of all these endings, empty where it is one that must follow а or я and does not."""
    first, second = longest_suffix(end, after_a), longest_suffix(end, other_endings)
    if len(second) > len(first):
        return second
    return first if first and end[: len(end) - len(first)].endswith(("а", "я")) else ""


def _tidied(end: str) -> str:
    """Without what the superlative adds, a second н, and the soft sign."""
    shorter = without_longest(end, ("ейше", "ейш"))
    if shorter.endswith("нн"):
        return shorter[:-1]
    return shorter if shorter != end else end.removesuffix("ь")


_TURKISH_VOWELS = "aeıioöuü"
_BACK, _ROUND = "aıou", "oöuü"
_HIGH, _LOW = "ıiuü", "ae"
_AFTER_VOWELS = "mnsy"  # what endings begin with that stand behind a vowel alone
_HARD = {"b": "p", "c": "ç", "d": "t", "ğ": "k"}
_OLD_LETTERS = str.maketrans("âîû", "aiu")


def _forms(pattern: str) -> tuple[str, ...]:
    """All forms of endings: I represents ı, i, u or ü, A for a or e, D for d or t; longest first."""
    pieces = pattern.split()
    for sign, letters in (("I", _HIGH), ("A", _LOW), ("D", "dt")):
        pieces = [piece.replace(sign, letter) for piece in pieces for letter in (letters if sign in piece else sign)]
    return longest_first(" ".join(pieces))


_RELATIVE = ("daki", "deki", "taki", "teki", "nki")
_CASES = _forms("DA DAn ndA ndAn nIn In yI yA nI nA ylA lA")
_POSSESSIVES = _forms("ImIz InIz mIz nIz Im In m n sI lArI")
_PLURAL = ("lar", "ler")


def turkish_stem(word: str) -> str:
    """The stem of a lower-case Turkish word. `stem("kitaplarımızdan")` is `"kitap"`."""
    word = word.translate(_OLD_LETTERS)
    for mark in "'’":
        head, apostrophe, _ = word.partition(mark)  # what follows an apostrophe is an ending of a name
        if apostrophe and head:
            return head
    word = _without(word, _RELATIVE)
    for endings in (_CASES, _POSSESSIVES, _PLURAL):
        word = _without(word, endings)
    if len(word) > 3 and word[-1] in _HIGH and word[-2] not in _TURKISH_VOWELS and _fits(word[:-1], word[-1]):
        word = word[:-1]
    if len(word) > 2 and word[-1] in _HARD and word[-2] in _TURKISH_VOWELS:
        word = word[:-1] + _HARD[word[-1]]
    return word


def _without(word: str, endings: tuple[str, ...]) -> str:
    """The word without the longest ending that harmony allows there."""
    for ending in endings:
        part = word[: len(word) - len(ending)]
        least = 2 if len(ending) > 1 else 3
        if word.endswith(ending) and len(part) >= least and _fits(part, ending):
            return part
    return word


def _fits(part: str, ending: str) -> bool:
    """Whether an ending's first vowel goes with the last one before it; an ending that has none wants a vowel before it."""
    before = next((letter for letter in reversed(part) if letter in _TURKISH_VOWELS), "")
    first = next((letter for letter in ending if letter in _TURKISH_VOWELS), "")
    if not before or (ending[0] in _AFTER_VOWELS and part[-1] not in _TURKISH_VOWELS):
        return False
    if (ending[0] in _TURKISH_VOWELS or ending in {"la", "le"}) and part[-1] in _TURKISH_VOWELS:
        return False
    return not first or ((first in _BACK) == (before in _BACK) and (first in _LOW or (first in _ROUND) == (before in _ROUND)))
