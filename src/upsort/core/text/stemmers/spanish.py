"""The Spanish suffix-stripping algorithm published with Porter's stemming language (M. F. Porter 2001)."""

from upsort.core.text.stemmers.regions import (
    after_first_pair,
    after_second_vowel,
    longest_first,
    longest_suffix,
    without,
    without_adverb,
)

_VOWELS = "aeiouáéíóúü"
_PLAIN = str.maketrans("áéíóú", "aeiou")
_PRONOUNS = longest_first("me se sela selo selas selos la le lo las les los nos")
_BEFORE_PRONOUN = longest_first("iéndo ándo ár ér ír ando iendo ar er ir yendo")
_STANDARD = longest_first(
    "anza anzas ico ica icos icas ismo ismos able ables ible ibles ista istas oso osa osos osas amiento amientos imiento "
    "imientos adora ador ación adoras adores aciones ante antes ancia ancias logía logías ución uciones encia encias amente "
    "mente idad idades iva ivo ivas ivos"
)
_AFTER_IC = frozenset(longest_first("adora ador ación adoras adores aciones ante antes ancia ancias"))
_Y_VERB = longest_first("ya ye yan yen yeron yendo yo yó yas yes yais yamos")
_E_VERB = frozenset(("en", "es", "éis", "emos"))
_VERB = longest_first(
    "en es éis emos arían arías arán arás aríais aría aréis aríamos aremos ará aré erían erías erán erás eríais ería eréis "
    "eríamos eremos erá eré irían irías irán irás iríais iría iréis iríamos iremos irá iré aba ada ida ía ara iera ad ed id ase "
    "iese aste iste an aban ían aran ieran asen iesen aron ieron ado ido ando iendo ió ar er ir as abas adas idas ías aras "
    "ieras ases ieses ís áis abais íais arais ierais aseis ieseis asteis isteis ados idos amos ábamos íamos imos áramos "
    "iéramos iésemos ásemos"
)
_RESIDUAL = longest_first("os a o á í ó e é")


def stem(word: str) -> str:
    """The stem of a lower-case Spanish word. `stem("tormentas")` is `"torment"`."""
    rv = after_second_vowel(word, _VOWELS)
    r1 = after_first_pair(word, _VOWELS)
    r2 = after_first_pair(word, _VOWELS, r1)
    word = _without_pronoun(word, rv)
    new = _standard(word, r1, r2)
    if new == word:
        new = _y_verb(word, rv)
    if new == word:
        new = _verb(word, rv)
    return _residual(new, rv).translate(_PLAIN)


def _without_pronoun(word: str, rv: int) -> str:
    pronoun = longest_suffix(word, _PRONOUNS)
    part = word[: len(word) - len(pronoun)]
    before = longest_suffix(part[rv:], _BEFORE_PRONOUN) if pronoun else ""
    if not before or (before == "yendo" and not part.endswith("uyendo")):
        return word
    return part[: len(part) - len(before)] + before.translate(_PLAIN)


def _standard(word: str, r1: int, r2: int) -> str:
    suffix = longest_suffix(word, _STANDARD)
    part = word[: len(word) - len(suffix)]
    if not suffix or len(part) < (r1 if suffix == "amente" else r2):
        return word
    match suffix:
        case "logía" | "logías":
            return part + "log"
        case "ución" | "uciones":
            return part + "u"
        case "encia" | "encias":
            return part + "ente"
        case "amente":
            return without_adverb(part, r2, ("os", "ic", "ad"))
        case "mente":
            return without(part, ("ante", "able", "ible"), r2)
        case "idad" | "idades":
            return without(part, ("abil", "ic", "iv"), r2)
        case "iva" | "ivo" | "ivas" | "ivos":
            return without(part, ("at",), r2)
        case _:
            return without(part, ("ic",), r2) if suffix in _AFTER_IC else part


def _y_verb(word: str, rv: int) -> str:
    suffix = longest_suffix(word[rv:], _Y_VERB)
    part = word[: len(word) - len(suffix)]
    return part if suffix and part.endswith("u") else word


def _verb(word: str, rv: int) -> str:
    suffix = longest_suffix(word[rv:], _VERB)
    part = word[: len(word) - len(suffix)]
    return part[:-1] if suffix in _E_VERB and part.endswith("gu") else part


def _residual(word: str, rv: int) -> str:
    suffix = longest_suffix(word[rv:], _RESIDUAL)
    part = word[: len(word) - len(suffix)]
    if suffix in {"e", "é"} and part.endswith("gu") and len(part) - 1 >= rv:
        return part[:-1]
    return part
