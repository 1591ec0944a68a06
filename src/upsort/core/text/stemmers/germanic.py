"""The Dutch, German and Swedish suffix-stripping algorithms published with Porter's stemming language (M. F. Porter 2001)."""

from upsort.core.text.stemmers.rules import (
    Regions,
    SuffixStep,
    dropping,
    longest_first,
    longest_suffix,
    marked,
    regions_of,
    rule,
    without_longest,
)


def _without_ig(part: str, regions: Regions) -> str:
    """Without -ig in R2, unless e is before it."""
    return part[:-2] if part.endswith("ig") and len(part) - 2 >= regions.r2 and not part.endswith("eig") else part


_DUTCH_VOWELS = frozenset("aeiouyè")
_DUTCH_PLAIN = str.maketrans("äëïöüáéíóú", "aeiouaeiou")


def _undoubled(part: str, regions: Regions) -> str:
    del regions
    return part[:-1] if part.endswith(("kk", "dd", "tt")) else part


def _without_ig_undoubled(part: str, regions: Regions) -> str:
    shorter = _without_ig(part, regions)
    return shorter if shorter != part else _undoubled(part, regions)


_EN = rule("en ene", "r1", not_after=(*_DUTCH_VOWELS, "gem"), finish=_undoubled)
_WITHOUT_EN = SuffixStep(_EN)
_WITHOUT_E = SuffixStep(rule("e", "r1", not_after=_DUTCH_VOWELS, finish=_undoubled))
_DUTCH_1 = SuffixStep(rule("heden", "r1", "heid"), _EN, rule("se s", "r1", not_after=(*_DUTCH_VOWELS, "j")))
_DUTCH_3 = SuffixStep(
    rule("end ing", finish=_without_ig_undoubled), rule("ig", not_after=("e",)), rule("lijk", finish=_WITHOUT_E), rule("baar bar")
)


def dutch_stem(word: str) -> str:
    """The stem of a lower-case Dutch word. `stem("lichamelijke")` is `"licham"`."""
    word = marked(word.translate(_DUTCH_PLAIN), _dutch_consonant)
    regions = regions_of(word, _DUTCH_VOWELS, least=3)
    word = _DUTCH_1(word, regions)
    without_e = _WITHOUT_E(word, regions)
    removed_e, word = without_e != word, without_e
    if word.endswith("heid") and len(word) - 4 >= regions.r2 and not word.endswith("cheid"):
        word = _WITHOUT_EN(word[:-4], regions) if word.endswith("enheid") else word[:-4]
    if removed_e or not word.endswith("bar"):
        word = _DUTCH_3(word, regions)
    return _single_vowel(word).replace("I", "i").replace("Y", "y")


def _dutch_consonant(letter: str, before: str, after: str) -> bool:
    """y at the beginning and after a vowel, and i between vowels."""
    if letter == "y":
        return not before or before in _DUTCH_VOWELS
    return letter == "i" and before in _DUTCH_VOWELS and after in _DUTCH_VOWELS


def _single_vowel(word: str) -> str:
    """A double vowel between consonants at the end is one: maan, man."""
    doubled = len(word) >= 4 and word[-3:-1] in {"aa", "ee", "oo", "uu"}
    if doubled and word[-1] != "I" and word[-1] not in _DUTCH_VOWELS and word[-4] not in _DUTCH_VOWELS:
        return word[:-2] + word[-1]
    return word


_GERMAN_VOWELS = frozenset("aeiouyäöü")
_GERMAN_PLAIN = str.maketrans("UYäöü", "uyaou")
_GERMAN_1 = SuffixStep(
    rule("ern em er", "r1"),
    rule("e en es", "r1", finish=lambda part, _: part[:-1] if part.endswith("niss") else part),
    rule("s", "r1", after="bdfghklmnrt"),
)
_GERMAN_2 = SuffixStep(
    rule("est en er", "r1"), rule("st", "r1", after="bdfghklmnt", finish=lambda part, _: part if len(part) > 3 else None)
)
_GERMAN_3 = SuffixStep(
    rule("end ung", finish=_without_ig),
    rule("ig ik isch", not_after=("e",)),
    rule("lich heit", finish=dropping("er", "en", region="r1")),
    rule("keit", finish=dropping("lich", "ig")),
)


def german_stem(word: str) -> str:
    """The stem of a lower-case German word. `stem("aufeinanderfolgende")` is `"aufeinanderfolg"`."""
    word = marked(word.replace("ß", "ss"), _german_consonant)
    regions = regions_of(word, _GERMAN_VOWELS, least=3)
    for step in (_GERMAN_1, _GERMAN_2, _GERMAN_3):
        word = step(word, regions)
    return word.translate(_GERMAN_PLAIN)


def _german_consonant(letter: str, before: str, after: str) -> bool:
    """u and y between vowels."""
    return letter in "uy" and before in _GERMAN_VOWELS and after in _GERMAN_VOWELS


_SWEDISH_VOWELS = frozenset("aeiouyäåö")
_SWEDISH_MAIN = longest_first(
    "a arna erna heterna orna ad e ade ande arne are aste en anden aren heten ern ar er heter or as arnas ernas ornas es ades "
    "andes ens arens hetens erns at andet het ast s"
)
_SWEDISH_OTHER = {"lig": "", "ig": "", "els": "", "löst": "lös", "fullt": "full"}


def swedish_stem(word: str) -> str:
    """The stem of a lower-case Swedish word. `stem("jaktkarlarne")` is `"jaktkarl"`."""
    r1 = regions_of(word, _SWEDISH_VOWELS, least=3).r1
    part = without_longest(word, _SWEDISH_MAIN, r1)
    if word != part + "s" or part.endswith(tuple("bcdfghjklmnoprtvy")):
        word = part
    if word[r1:].endswith(("dd", "gd", "nn", "dt", "gt", "kt", "tt")):
        word = word[:-1]
    suffix = longest_suffix(word[r1:], ("fullt", "löst", "els", "lig", "ig"))
    return word[: len(word) - len(suffix)] + _SWEDISH_OTHER[suffix] if suffix else word
