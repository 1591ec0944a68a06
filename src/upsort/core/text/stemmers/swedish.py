"""The Swedish suffix-stripping algorithm published with Porter's stemming language (M. F. Porter 2001)."""

from upsort.core.text.stemmers.regions import after_first_pair, longest_first, longest_suffix

_VOWELS = "aeiouyäåö"
_S_ENDING = "bcdfghjklmnoprtvy"
_MAIN = longest_first(
    "a arna erna heterna orna ad e ade ande arne are aste en anden aren heten ern ar er heter or as arnas ernas ornas es ades "
    "andes ens arens hetens erns at andet het ast s"
)
_OTHER = {"lig": "", "ig": "", "els": "", "löst": "lös", "fullt": "full"}


def stem(word: str) -> str:
    """The stem of a lower-case Swedish word. `stem("jaktkarlarne")` is `"jaktkarl"`."""
    r1 = max(after_first_pair(word, _VOWELS), 3)
    suffix = longest_suffix(word[r1:], _MAIN)
    part = word[: len(word) - len(suffix)]
    if suffix and (suffix != "s" or (part and part[-1] in _S_ENDING)):
        word = part
    if word[r1:].endswith(("dd", "gd", "nn", "dt", "gt", "kt", "tt")):
        word = word[:-1]
    suffix = longest_suffix(word[r1:], ("fullt", "löst", "els", "lig", "ig"))
    return word[: len(word) - len(suffix)] + _OTHER[suffix] if suffix else word
