"""The German suffix-stripping algorithm published with Porter's stemming language (M. F. Porter 2001)."""

from upsort.core.text.stemmers.regions import after_first_pair, longest_suffix

_VOWELS = "aeiouyäöü"
_S_ENDING = "bdfghklmnrt"
_ST_ENDING = "bdfghklmnt"
_PLAIN = str.maketrans("UYäöü", "uyaou")


def stem(word: str) -> str:
    """The stem of a lower-case German word. `stem("aufeinanderfolgende")` is `"aufeinanderfolg"`."""
    word = _marked(word.replace("ß", "ss"))
    r1 = after_first_pair(word, _VOWELS)
    r2 = after_first_pair(word, _VOWELS, r1)
    r1 = max(r1, 3)
    word = _step_1(word, r1)
    word = _step_2(word, r1)
    return _step_3(word, r1, r2).translate(_PLAIN)


def _marked(word: str) -> str:
    """u and y between vowels in capitals: they are consonants there."""
    letters = list(word)
    for place in range(1, len(letters) - 1):
        if letters[place] in "uy" and letters[place - 1] in _VOWELS and letters[place + 1] in _VOWELS:
            letters[place] = letters[place].upper()
    return "".join(letters)


def _step_1(word: str, r1: int) -> str:
    suffix = longest_suffix(word, ("ern", "em", "er", "en", "es", "e", "s"))
    part = word[: len(word) - len(suffix)]
    if not suffix or len(part) < r1:
        return word
    if suffix == "s":
        return part if part and part[-1] in _S_ENDING else word
    if suffix in {"e", "en", "es"} and part.endswith("niss"):
        return part[:-1]
    return part


def _step_2(word: str, r1: int) -> str:
    suffix = longest_suffix(word, ("est", "en", "er", "st"))
    part = word[: len(word) - len(suffix)]
    if not suffix or len(part) < r1:
        return word
    if suffix == "st":
        return part if len(part) > 3 and part[-1] in _ST_ENDING else word
    return part


def _step_3(word: str, r1: int, r2: int) -> str:
    suffix = longest_suffix(word, ("isch", "lich", "heit", "keit", "end", "ung", "ig", "ik"))
    part = word[: len(word) - len(suffix)]
    if not suffix or len(part) < r2:
        return word
    match suffix:
        case "end" | "ung":
            if part.endswith("ig") and len(part) - 2 >= r2 and not part.endswith("eig"):
                return part[:-2]
            return part
        case "ig" | "ik" | "isch":
            return word if part.endswith("e") else part
        case "lich" | "heit":
            before = longest_suffix(part, ("er", "en"))
            return part[:-2] if before and len(part) - 2 >= r1 else part
        case _:
            before = longest_suffix(part, ("lich", "ig"))
            shorter = part[: len(part) - len(before)]
            return shorter if before and len(shorter) >= r2 else part
