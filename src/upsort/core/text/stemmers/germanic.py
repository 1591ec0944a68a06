"""The Dutch suffix-stripping algorithm published with Porter's stemming language (M. F. Porter 2001).

The German suffix-stripping algorithm published with Porter's stemming language (M. F. Porter 2001).

The Swedish suffix-stripping algorithm published with Porter's stemming language (M. F. Porter 2001)."""

from upsort.core.text.stemmers.regions import after_first_pair, longest_first, longest_suffix

_VOWELS = "aeiouyè"
_PLAIN = str.maketrans("äëïöüáéíóú", "aeiouaeiou")


def dutch_stem(word: str) -> str:
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
    if len(word) >= 4 and word[-1] not in _VOWELS + "I" and word[-3:-1] in {"aa", "ee", "oo", "uu"} and word[-4] not in _VOWELS:
        return word[:-2] + word[-1]
    return word


_GERMAN_VOWELS = "aeiouyäöü"
_S_ENDING = "bdfghklmnrt"
_ST_ENDING = "bdfghklmnt"
_GERMAN_PLAIN = str.maketrans("UYäöü", "uyaou")


def german_stem(word: str) -> str:
    """The stem of a lower-case German word. `stem("aufeinanderfolgende")` is `"aufeinanderfolg"`."""
    word = _german_marked(word.replace("ß", "ss"))
    r1 = after_first_pair(word, _GERMAN_VOWELS)
    r2 = after_first_pair(word, _GERMAN_VOWELS, r1)
    r1 = max(r1, 3)
    word = _german_step_1(word, r1)
    word = _step_2(word, r1)
    return _german_step_3(word, r1, r2).translate(_GERMAN_PLAIN)


def _german_marked(word: str) -> str:
    """u and y between vowels in capitals: they are consonants there."""
    letters = list(word)
    for place in range(1, len(letters) - 1):
        if letters[place] in "uy" and letters[place - 1] in _GERMAN_VOWELS and letters[place + 1] in _GERMAN_VOWELS:
            letters[place] = letters[place].upper()
    return "".join(letters)


def _german_step_1(word: str, r1: int) -> str:
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


def _german_step_3(word: str, r1: int, r2: int) -> str:
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


_SWEDISH_VOWELS = "aeiouyäåö"
_SWEDISH_S_ENDING = "bcdfghjklmnoprtvy"
_MAIN = longest_first(
    "a arna erna heterna orna ad e ade ande arne are aste en anden aren heten ern ar er heter or as arnas ernas ornas es ades "
    "andes ens arens hetens erns at andet het ast s"
)
_OTHER = {"lig": "", "ig": "", "els": "", "löst": "lös", "fullt": "full"}


def swedish_stem(word: str) -> str:
    """The stem of a lower-case Swedish word. `stem("jaktkarlarne")` is `"jaktkarl"`."""
    r1 = max(after_first_pair(word, _SWEDISH_VOWELS), 3)
    suffix = longest_suffix(word[r1:], _MAIN)
    part = word[: len(word) - len(suffix)]
    if suffix and (suffix != "s" or (part and part[-1] in _SWEDISH_S_ENDING)):
        word = part
    if word[r1:].endswith(("dd", "gd", "nn", "dt", "gt", "kt", "tt")):
        word = word[:-1]
    suffix = longest_suffix(word[r1:], ("fullt", "löst", "els", "lig", "ig"))
    return word[: len(word) - len(suffix)] + _OTHER[suffix] if suffix else word
