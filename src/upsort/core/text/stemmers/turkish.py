"""A light Turkish stemmer: the endings of nouns, from the last to the first, as far as vowel harmony allows.

The order of the endings (plural, possessive, case, -ki) is that of the affix stripping of Eryiğit & Adalı, *An affix stripping
morphological analyzer for Turkish* (2004), without their automata: each kind is taken off at most once, a remainder of two
letters with a vowel is always left, and verbs are left alone. A final ı, i, u or ü is taken off where three letters remain,
because the accusative and the possessive of the third person are nothing else; the last consonant is then hard again (kitabı,
kitap).
"""

from upsort.core.text.stemmers.regions import longest_first

_VOWELS = "aeıioöuü"
_BACK, _ROUND = "aıou", "oöuü"
_HIGH, _LOW = "ıiuü", "ae"
_AFTER_VOWELS = "mnsy"  # what endings begin with that stand behind a vowel alone
_HARD = {"b": "p", "c": "ç", "d": "t", "ğ": "k"}
_OLD_LETTERS = str.maketrans("âîû", "aiu")


def _forms(pattern: str) -> tuple[str, ...]:
    """All forms of endings: I stands for ı, i, u or ü, A for a or e, D for d or t; longest first."""
    pieces = pattern.split()
    for sign, letters in (("I", _HIGH), ("A", _LOW), ("D", "dt")):
        pieces = [piece.replace(sign, letter) for piece in pieces for letter in (letters if sign in piece else sign)]
    return longest_first(" ".join(pieces))


_RELATIVE = ("daki", "deki", "taki", "teki", "nki")
_CASES = _forms("DA DAn ndA ndAn nIn In yI yA nI nA ylA lA")
_POSSESSIVES = _forms("ImIz InIz mIz nIz Im In m n sI lArI")
_PLURAL = ("lar", "ler")


def stem(word: str) -> str:
    """The stem of a lower-case Turkish word. `stem("kitaplarımızdan")` is `"kitap"`."""
    word = word.translate(_OLD_LETTERS)
    for mark in "'’":
        head, apostrophe, _ = word.partition(mark)  # what follows an apostrophe is an ending of a name
        if apostrophe and head:
            return head
    word = _without(word, _RELATIVE)
    for endings in (_CASES, _POSSESSIVES, _PLURAL):
        word = _without(word, endings)
    if len(word) > 3 and word[-1] in _HIGH and word[-2] not in _VOWELS and _fits(word[:-1], word[-1]):
        word = word[:-1]
    if len(word) > 2 and word[-1] in _HARD and word[-2] in _VOWELS:
        word = word[:-1] + _HARD[word[-1]]
    return word


def _without(word: str, endings: tuple[str, ...]) -> str:
    """The word without the longest ending that harmony allows there."""
    for ending in endings:
        part = word[: len(word) - len(ending)]
        least = 2 if len(ending) > 1 else 3
        if word.endswith(ending) and len(part) >= least and _fits(part, ending):
            return part
    return word


def _fits(part: str, ending: str) -> bool:
    """Whether an ending's first vowel goes with the last one before it; an ending that has none wants a vowel before it."""
    before = next((letter for letter in reversed(part) if letter in _VOWELS), "")
    first = next((letter for letter in ending if letter in _VOWELS), "")
    if not before or (ending[0] in _AFTER_VOWELS and part[-1] not in _VOWELS):
        return False
    if (ending[0] in _VOWELS or ending in {"la", "le"}) and part[-1] in _VOWELS:
        return False
    return not first or (
        (first in _BACK) == (before in _BACK) and (first in _LOW or (first in _ROUND) == (before in _ROUND))
    )
