"""The Portuguese suffix-stripping algorithm published with Porter's stemming language (M. F. Porter 2001)."""

from upsort.core.text.stemmers.regions import (
    after_first_pair,
    after_second_vowel,
    longest_first,
    longest_suffix,
    without,
    without_adverb,
)

_VOWELS = "aeiouáéíóúâêô"
_STANDARD = longest_first(
    "eza ezas ico ica icos icas ismo ismos ável ível ista istas oso osa osos osas amento amentos imento imentos adora ador aça~o "
    "adoras adores aço~es ante antes ância logia logias uça~o uço~es ência ências amente mente idade idades iva ivo ivas ivos "
    "ira iras"
)
_VERB = longest_first(
    "ada ida ia aria eria iria ará ara erá era irá ava asse esse isse aste este iste ei arei erei irei am iam ariam eriam iriam "
    "aram eram iram avam em arem erem irem assem essem issem ado ido ando endo indo ara~o era~o ira~o ar er ir as adas idas ias "
    "arias erias irias arás aras erás eras irás avas es ardes erdes irdes ares eres ires asses esses isses astes estes istes is "
    "ais eis íeis aríeis eríeis iríeis áreis areis éreis ereis íreis ireis ásseis ésseis ísseis áveis ados idos ámos amos íamos "
    "aríamos eríamos iríamos áramos éramos íramos ávamos emos aremos eremos iremos ássemos êssemos íssemos imos armos ermos "
    "irmos eu iu ou ira iras"
)


def stem(word: str) -> str:
    """The stem of a lower-case Portuguese word. `stem("quilométricas")` is `"quilométr"`."""
    word = word.replace("ã", "a~").replace("õ", "o~")
    rv = after_second_vowel(word, _VOWELS)
    r1 = after_first_pair(word, _VOWELS)
    r2 = after_first_pair(word, _VOWELS, r1)
    new = _standard(word, rv, r1, r2)
    if new == word:
        new = word[: len(word) - len(longest_suffix(word[rv:], _VERB))]
    if new != word:
        new = new[:-1] if new.endswith("ci") and len(new) > rv else new
    else:
        new = word[: len(word) - len(longest_suffix(word[rv:], ("os", "a", "i", "o", "á", "í", "ó")))]
    return _residual(new, rv).replace("a~", "ã").replace("o~", "õ")


def _standard(word: str, rv: int, r1: int, r2: int) -> str:
    suffix = longest_suffix(word, _STANDARD)
    part = word[: len(word) - len(suffix)]
    if suffix in {"ira", "iras"}:
        return part + "ir" if len(part) >= rv and part.endswith("e") else word
    if not suffix or len(part) < (r1 if suffix == "amente" else r2):
        return word
    match suffix:
        case "logia" | "logias":
            return part + "log"
        case "uça~o" | "uço~es":
            return part + "u"
        case "ência" | "ências":
            return part + "ente"
        case "amente":
            return without_adverb(part, r2, ("os", "ic", "ad"))
        case "mente":
            return without(part, ("ante", "avel", "ível"), r2)
        case "idade" | "idades":
            return without(part, ("abil", "ic", "iv"), r2)
        case "iva" | "ivo" | "ivas" | "ivos":
            return without(part, ("at",), r2)
        case _:
            return part


def _residual(word: str, rv: int) -> str:
    if len(word) > rv and word[-1] in "eéê":
        word = word[:-1]
        return word[:-1] if len(word) > rv and word.endswith(("gu", "ci")) else word
    return f"{word[:-1]}c" if word.endswith("ç") else word
