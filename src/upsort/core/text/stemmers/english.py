"""Porter's stemmer for English, exactly as published: M. F. Porter, *An algorithm for suffix stripping*, Program 14(3), 1980.

A word is read as [C](VC)^m[V], with C and V runs of consonants and vowels; m is its measure. A rule (condition) S1 → S2 replaces
the suffix S1, of the rules of a step the one with the longest S1 that fits, if the stem before it meets the condition.

The revision of Porter's English stemmer ("Porter2"; M. F. Porter 2001 and 2002, with the exceptional forms given there)."""

from itertools import pairwise

from upsort.core.text.stemmers.rules import (
    Regions,
    SuffixStep,
    after_first_pair,
    longest_suffix,
    marked,
    regions_of,
    rule,
    rules_of,
    without_longest,
)

_VOWELS = "aeiou"


def porter_stem(word: str) -> str:
    """The stem of a lower-case English word. `stem("relational")` is `"relat"`."""
    if len(word) <= 2 or not word.isascii():
        return word
    for step in (_plurals, _past, _final_y, _double_suffixes, _full_suffixes, _bare_suffixes, _final_e, _double_l):
        word = step(word)
    return word


def _is_consonant(word: str, place: int) -> bool:
    letter = word[place]
    if letter in _VOWELS:
        return False
    return letter != "y" or place == 0 or not _is_consonant(word, place - 1)


def _measure(part: str) -> int:
    kinds = [_is_consonant(part, place) for place in range(len(part))]
    return sum(1 for before, after in pairwise(kinds) if after and not before)


def _has_vowel(part: str) -> bool:
    return not all(_is_consonant(part, place) for place in range(len(part)))


def _double_consonant(part: str) -> bool:
    return len(part) >= 2 and part[-1] == part[-2] and _is_consonant(part, len(part) - 1)


def _consonant_vowel_consonant(part: str) -> bool:
    """The condition *o: consonant, vowel, consonant, the last not w, x or y."""
    return (
        len(part) >= 3
        and _is_consonant(part, len(part) - 3)
        and not _is_consonant(part, len(part) - 2)
        and _is_consonant(part, len(part) - 1)
        and part[-1] not in "wxy"
    )


def _plurals(word: str) -> str:
    if word.endswith(("sses", "ies")):
        return word[:-2]
    return word[:-1] if word.endswith("s") and not word.endswith("ss") else word


def _past(word: str) -> str:
    if word.endswith("eed"):
        return word[:-1] if _measure(word[:-3]) > 0 else word
    for suffix in ("ed", "ing"):
        part = word.removesuffix(suffix)
        if part != word:
            return _tidied(part) if _has_vowel(part) else word
    return word


def _tidied(part: str) -> str:
    if part.endswith(("at", "bl", "iz")):
        return part + "e"
    if _double_consonant(part) and part[-1] not in "lsz":
        return part[:-1]
    return part + "e" if _measure(part) == 1 and _consonant_vowel_consonant(part) else part


def _final_y(word: str) -> str:
    return word[:-1] + "i" if word.endswith("y") and _has_vowel(word[:-1]) else word


_STEP_2 = {
    "ational": "ate", "tional": "tion", "enci": "ence", "anci": "ance", "izer": "ize", "abli": "able", "alli": "al",
    "entli": "ent", "eli": "e", "ousli": "ous", "ization": "ize", "ation": "ate", "ator": "ate", "alism": "al",
    "iveness": "ive", "fulness": "ful", "ousness": "ous", "aliti": "al", "iviti": "ive", "biliti": "ble",
}  # fmt: skip
_STEP_3 = {"icate": "ic", "ative": "", "alize": "al", "iciti": "ic", "ical": "ic", "ful": "", "ness": ""}
_STEP_4 = (
    "al", "ance", "ence", "er", "ic", "able", "ible", "ant", "ement", "ment", "ent", "ion", "ou", "ism", "ate", "iti", "ous",
    "ive", "ize",
)  # fmt: skip


def _replaced(word: str, rules: dict[str, str]) -> str:
    suffix = max((suffix for suffix in rules if word.endswith(suffix)), key=len, default="")
    part = word[: len(word) - len(suffix)]
    return part + rules[suffix] if suffix and _measure(part) > 0 else word


def _double_suffixes(word: str) -> str:
    return _replaced(word, _STEP_2)


def _full_suffixes(word: str) -> str:
    return _replaced(word, _STEP_3)


def _bare_suffixes(word: str) -> str:
    suffix = max((suffix for suffix in _STEP_4 if word.endswith(suffix)), key=len, default="")
    part = word[: len(word) - len(suffix)]
    if not suffix or _measure(part) <= 1 or (suffix == "ion" and not part.endswith(("s", "t"))):
        return word
    return part


def _final_e(word: str) -> str:
    if not word.endswith("e"):
        return word
    measure = _measure(word[:-1])
    return word[:-1] if measure > 1 or (measure == 1 and not _consonant_vowel_consonant(word[:-1])) else word


def _double_l(word: str) -> str:
    return word[:-1] if word.endswith("ll") and _measure(word) > 1 else word


_PORTER2_VOWELS = frozenset("aeiouy")
_DOUBLES = ("bb", "dd", "ff", "gg", "mm", "nn", "pp", "rr", "tt")
_IRREGULAR = {
    "skis": "ski", "skies": "sky", "dying": "die", "lying": "lie", "tying": "tie", "idly": "idl", "gently": "gentl",
    "ugly": "ugli", "early": "earli", "only": "onli", "singly": "singl",
    "sky": "sky", "news": "news", "howe": "howe", "atlas": "atlas", "cosmos": "cosmos", "bias": "bias", "andes": "andes",
}  # fmt: skip
_DONE_AFTER_1A = frozenset({"inning", "outing", "canning", "herring", "earring", "proceed", "exceed", "succeed"})
_DERIVED = SuffixStep(
    *rules_of(
        {
            "tional": "tion", "enci": "ence", "anci": "ance", "abli": "able", "entli": "ent", "izer": "ize", "ization": "ize",
            "ational": "ate", "ation": "ate", "ator": "ate", "alism": "al", "aliti": "al", "alli": "al", "fulness": "ful",
            "ousli": "ous", "ousness": "ous", "iveness": "ive", "iviti": "ive", "biliti": "ble", "bli": "ble", "fulli": "ful",
            "lessli": "less",
        },
        "r1",
    ),
    rule("ogi", "r1", "og", after="l"),
    rule("li", "r1", after="cdeghkmnrt"),
)  # fmt: skip
_ADJECTIVES = SuffixStep(
    *rules_of(
        {"tional": "tion", "ational": "ate", "alize": "al", "icate": "ic", "iciti": "ic", "ical": "ic", "ful": "", "ness": ""},
        "r1",
    ),
    rule("ative"),
)
_BARE = SuffixStep(rule("al ance ence er ic able ible ant ement ment ent ism ate iti ous ive ize"), rule("ion", after="st"))


def porter2_stem(word: str) -> str:
    """The stem of a lower-case English word. `stem("consistency")` is `"consist"`."""
    if not word.isascii():
        word = word.replace("’", "'")
    if len(word) <= 2 or not word.isascii():
        return word
    if word in _IRREGULAR:
        return _IRREGULAR[word]
    word = marked(word.removeprefix("'"), lambda letter, before, _: letter == "y" and (not before or before in _PORTER2_VOWELS))
    regions = _regions(word)
    word = _porter2_plurals(without_longest(word, ("'s'", "'s", "'")))
    if word in _DONE_AFTER_1A:
        return word.replace("Y", "y")
    word = _porter2_past(word, regions.r1)
    if len(word) > 2 and word[-1] in "yY" and word[-2] not in _PORTER2_VOWELS:
        word = word[:-1] + "i"
    for step in (_DERIVED, _ADJECTIVES, _BARE):
        word = step(word, regions)
    return _end(word, regions).replace("Y", "y")


def _regions(word: str) -> Regions:
    for beginning in ("gener", "commun", "arsen"):
        if word.startswith(beginning):
            return Regions(len(beginning), after_first_pair(word, _PORTER2_VOWELS, len(beginning)))
    return regions_of(word, _PORTER2_VOWELS)


def _porter2_plurals(word: str) -> str:
    if word.endswith("sses"):
        return word[:-2]
    if word.endswith(("ied", "ies")):
        return word[:-2] if len(word) > 4 else word[:-1]
    if word.endswith("s") and not word.endswith(("us", "ss")) and any(letter in _PORTER2_VOWELS for letter in word[:-2]):
        return word[:-1]
    return word


def _porter2_past(word: str, r1: int) -> str:
    if word[-1] not in "dgy":
        return word
    suffix = longest_suffix(word, ("eedly", "ingly", "edly", "eed", "ing", "ed"))
    part = word[: len(word) - len(suffix)]
    if suffix in {"eed", "eedly"}:
        return part + "ee" if len(part) >= r1 else word
    if not suffix or not any(letter in _PORTER2_VOWELS for letter in part):
        return word
    if part.endswith(("at", "bl", "iz")):
        return part + "e"
    if part.endswith(_DOUBLES):
        return part[:-1]
    return part + "e" if _is_short(part, r1) else part


def _ends_in_short_syllable(part: str) -> bool:
    if len(part) == 2:
        return part[0] in _PORTER2_VOWELS and part[1] not in _PORTER2_VOWELS
    return (
        len(part) > 2
        and part[-1] not in _PORTER2_VOWELS
        and part[-1] not in "wxY"
        and part[-2] in _PORTER2_VOWELS
        and part[-3] not in _PORTER2_VOWELS
    )


def _is_short(part: str, r1: int) -> bool:
    return r1 >= len(part) and _ends_in_short_syllable(part)


def _end(word: str, regions: Regions) -> str:
    part = word[:-1]
    if word.endswith("e") and (len(part) >= regions.r2 or (len(part) >= regions.r1 and not _ends_in_short_syllable(part))):
        return part
    if word.endswith("l") and len(part) >= regions.r2 and part.endswith("l"):
        return part
    return word
