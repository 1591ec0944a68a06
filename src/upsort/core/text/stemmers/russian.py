"""The Russian suffix-stripping algorithm published with Porter's stemming language (M. F. Porter 2001)."""

from upsort.core.text.stemmers.regions import after_first_pair, longest_first, longest_suffix

_VOWELS = "аеиоуыэюя"
_GERUND_AFTER_A = ("вшись", "вши", "в")
_GERUND = longest_first("ив ивши ившись ыв ывши ывшись")
_ADJECTIVE = longest_first(
    "ее ие ые ое ими ыми ей ий ый ой ем им ым ом его ого ему ому их ых ую юю ая яя ою ею"
)  # fmt: skip
_PARTICIPLE_AFTER_A = longest_first("ем нн вш ющ щ")
_PARTICIPLE = longest_first("ивш ывш ующ")
_VERB_AFTER_A = longest_first("ла на ете йте ли й л ем н ло но ет ют ны ть ешь нно")
_VERB = longest_first(
    "ила ыла ена ейте уйте ите или ыли ей уй ил ыл им ым ен ило ыло ено ят ует уют ит ыт ены ить ыть ишь ую ю"
)
_NOUN = longest_first(
    "а ев ов ие ье е иями ями ами еи ии и ией ей ой ий й иям ям ием ем ам ом о у ах иях ях ы ь ию ью ю ия ья я"
)


def stem(word: str) -> str:
    """The stem of a lower-case Russian word. `stem("важнейшие")` is `"важн"`."""
    word = word.replace("ё", "е")
    rv = next((place + 1 for place, letter in enumerate(word) if letter in _VOWELS), len(word))
    r2 = after_first_pair(word, _VOWELS, after_first_pair(word, _VOWELS))
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
    reflexive = longest_suffix(end, ("ся", "сь"))
    end = end[: len(end) - len(reflexive)]
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
    superlative = longest_suffix(end, ("ейше", "ейш"))
    end = end[: len(end) - len(superlative)]
    if end.endswith("нн"):
        return end[:-1]
    return end if superlative else end.removesuffix("ь")
