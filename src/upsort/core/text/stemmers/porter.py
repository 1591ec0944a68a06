"""Porter's stemmer for English, exactly as published: M. F. Porter, *An algorithm for suffix stripping*, Program 14(3), 1980.

A word is read as [C](VC)^m[V], with C and V runs of consonants and vowels; m is its measure. A rule (condition) S1 → S2
replaces the suffix S1, of the rules of a step the one with the longest S1 that fits, if the stem before it meets the condition.
"""

from itertools import pairwise

_VOWELS = "aeiou"


def stem(word: str) -> str:
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
