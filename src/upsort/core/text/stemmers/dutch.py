"""The Dutch suffix-stripping algorithm published with Porter's stemming language (M. F. Porter 2001)."""

from upsort.core.text.stemmers.regions import after_first_pair, longest_suffix

_VOWELS = "aeiouyè"
_PLAIN = str.maketrans("äëïöüáéíóú", "aeiouaeiou")


def stem(word: str) -> str:
    """The stem of a lower-case Dutch word. `stem("lichamelijke")` is `"licham"`."""
    word = _marked(word.translate(_PLAIN))
    r1 = after_first_pair(word, _VOWELS)
    r2 = after_first_pair(word, _VOWELS, r1)
    r1 = max(r1, 3)
    word = _step_1(word, r1)
    without_e = _without_e(word, r1)
    removed_e, word = without_e != word, without_e
    if word.endswith("heid") and len(word) - 4 >= r2 and not word.endswith("cheid"):
        word = word[:-4]
        if word.endswith("en"):
            word = _without_en(word, word[:-2], r1)
    word = _step_3(word, r1, r2, removed_e)
    return _single_vowel(word).replace("I", "i").replace("Y", "y")


def _marked(word: str) -> str:
    """y at the beginning and after a vowel, and i between vowels, in capitals: they are consonants there."""
    letters = list(word)
    for place, letter in enumerate(letters):
        before = place > 0 and letters[place - 1] in _VOWELS
        after = place + 1 < len(letters) and letters[place + 1] in _VOWELS
        if (letter == "y" and (before or place == 0)) or (letter == "i" and before and after):
            letters[place] = letter.upper()
    return "".join(letters)


def _undoubled(word: str) -> str:
    return word[:-1] if word.endswith(("kk", "dd", "tt")) else word


def _without_en(word: str, part: str, r1: int) -> str:
    """word without its ending en or ene, as part, where that may go."""
    if len(part) < r1 or not part or part[-1] in _VOWELS or part.endswith("gem"):
        return word
    return _undoubled(part)


def _step_1(word: str, r1: int) -> str:
    suffix = longest_suffix(word, ("heden", "ene", "en", "se", "s"))
    part = word[: len(word) - len(suffix)]
    match suffix:
        case "":
            return word
        case "heden":
            return f"{part}heid" if len(part) >= r1 else word
        case "en" | "ene":
            return _without_en(word, part, r1)
        case _:
            return part if len(part) >= r1 and part and part[-1] not in _VOWELS + "j" else word


def _without_e(word: str, r1: int) -> str:
    if word.endswith("e") and len(word) - 1 >= r1 and len(word) > 1 and word[-2] not in _VOWELS:
        return _undoubled(word[:-1])
    return word


def _step_3(word: str, r1: int, r2: int, removed_e: bool) -> str:
    suffix = longest_suffix(word, ("lijk", "baar", "end", "ing", "bar", "ig"))
    part = word[: len(word) - len(suffix)]
    if not suffix or len(part) < r2:
        return word
    match suffix:
        case "end" | "ing":
            if part.endswith("ig") and len(part) - 2 >= r2 and not part.endswith("eig"):
                return part[:-2]
            return _undoubled(part)
        case "ig":
            return word if part.endswith("e") else part
        case "lijk":
            return _without_e(part, r1)
        case "bar":
            return part if removed_e else word
        case _:
            return part


def _single_vowel(word: str) -> str:
    """A double vowel between consonants at the end is one: maan, man."""
    if (
        len(word) >= 4
        and word[-1] not in _VOWELS + "I"
        and word[-3:-1] in {"aa", "ee", "oo", "uu"}
        and word[-4] not in _VOWELS
    ):
        return word[:-2] + word[-1]
    return word
