"""The Italian suffix-stripping algorithm published with Porter's stemming language (M. F. Porter 2001)."""

from upsort.core.text.stemmers.regions import (
    after_first_pair,
    after_second_vowel,
    longest_first,
    longest_suffix,
    without,
    without_adverb,
)

_VOWELS = "aeiouàèìòù"
_GRAVE = str.maketrans("áéíóú", "àèìòù")
_PRONOUNS = longest_first(
    "ci gli la le li lo mi ne si ti vi sene gliela gliele glieli glielo gliene mela mele meli melo mene tela tele teli telo tene "
    "cela cele celi celo cene vela vele veli velo vene"
)
_STANDARD = longest_first(
    "anza anze ico ici ica ice iche ichi ismo ismi abile abili ibile ibili ista iste isti istà istè istì oso osi osa ose mente "
    "atrice atrici ante anti azione azioni atore atori logia logie uzione uzioni usione usioni enza enze amento amenti imento "
    "imenti amente ità ivo ivi iva ive"
)
_VERB = longest_first(
    "ammo ando ano are arono asse assero assi assimo ata ate ati ato ava avamo avano avate avi avo emmo enda ende endi endo erà "
    "erai eranno ere erebbe erebbero erei eremmo eremo ereste eresti erete erò erono essero ete eva evamo evano evate evi evo "
    "Yamo iamo immo irà irai iranno ire irebbe irebbero irei iremmo iremo ireste iresti irete irò irono isca iscano isce isci "
    "isco iscono issero ita ite iti ito iva ivamo ivano ivate ivi ivo ono uta ute uti uto ar ir"
)


def stem(word: str) -> str:
    """The stem of a lower-case Italian word. `stem("abbandonata")` is `"abbandon"`."""
    word = _marked(word.translate(_GRAVE))
    rv = after_second_vowel(word, _VOWELS)
    r1 = after_first_pair(word, _VOWELS)
    r2 = after_first_pair(word, _VOWELS, r1)
    word = _without_pronoun(word, rv)
    new = _standard(word, rv, r1, r2)
    if new == word:
        new = word[: len(word) - len(longest_suffix(word[rv:], _VERB))]
    return _residual(new, rv).replace("I", "i").replace("U", "u")


def _marked(word: str) -> str:
    """u after q, and u and i between vowels, in capitals: they are consonants there."""
    letters = list(word)
    for place in range(1, len(letters)):
        after = place + 1 < len(letters) and letters[place + 1] in _VOWELS
        if (letters[place] == "u" and letters[place - 1] == "q") or (
            letters[place] in "ui" and letters[place - 1] in _VOWELS and after
        ):
            letters[place] = letters[place].upper()
    return "".join(letters)


def _without_pronoun(word: str, rv: int) -> str:
    pronoun = longest_suffix(word, _PRONOUNS)
    part = word[: len(word) - len(pronoun)]
    match longest_suffix(part[rv:], ("ando", "endo", "ar", "er", "ir")) if pronoun else "":
        case "":
            return word
        case "ando" | "endo":
            return part
        case _:
            return part + "e"


def _standard(word: str, rv: int, r1: int, r2: int) -> str:
    suffix = longest_suffix(word, _STANDARD)
    part = word[: len(word) - len(suffix)]
    region = {"amente": r1, "amento": rv, "amenti": rv, "imento": rv, "imenti": rv}.get(suffix, r2)
    if not suffix or len(part) < region:
        return word
    match suffix:
        case "azione" | "azioni" | "atore" | "atori":
            return without(part, ("ic",), r2)
        case "logia" | "logie":
            return part + "log"
        case "uzione" | "uzioni" | "usione" | "usioni":
            return part + "u"
        case "enza" | "enze":
            return part + "ente"
        case "amente":
            return without_adverb(part, r2, ("abil", "os", "ic"))
        case "ità":
            return without(part, ("abil", "ic", "iv"), r2)
        case "ivo" | "ivi" | "iva" | "ive":
            shorter = without(part, ("at",), r2)
            return without(shorter, ("ic",), r2) if shorter != part else part
        case _:
            return part


def _residual(word: str, rv: int) -> str:
    """Without a final vowel, and an i before it; ch and gh at the end are c and g then."""
    if len(word) > rv and word[-1] in "aeioàèìò":
        word = word[:-1]
        if len(word) > rv and word[-1] == "i":
            word = word[:-1]
    return word[:-1] if len(word) - 2 >= rv and word.endswith(("ch", "gh")) else word
