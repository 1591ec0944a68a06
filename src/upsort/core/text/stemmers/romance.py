"""The Italian suffix-stripping algorithm published with Porter's stemming language (M. F. Porter 2001).

The Portuguese suffix-stripping algorithm published with Porter's stemming language (M. F. Porter 2001).

The Spanish suffix-stripping algorithm published with Porter's stemming language (M. F. Porter 2001)."""

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


def italian_stem(word: str) -> str:
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


_PORTUGUESE_VOWELS = "aeiouáéíóúâêô"
_PORTUGUESE_STANDARD = longest_first(
    "eza ezas ico ica icos icas ismo ismos ável ível ista istas oso osa osos osas amento amentos imento imentos adora ador aça~o "
    "adoras adores aço~es ante antes ância logia logias uça~o uço~es ência ências amente mente idade idades iva ivo ivas ivos "
    "ira iras"
)
_PORTUGUESE_VERB = longest_first(
    "ada ida ia aria eria iria ará ara erá era irá ava asse esse isse aste este iste ei arei erei irei am iam ariam eriam iriam "
    "aram eram iram avam em arem erem irem assem essem issem ado ido ando endo indo ara~o era~o ira~o ar er ir as adas idas ias "
    "arias erias irias arás aras erás eras irás avas es ardes erdes irdes ares eres ires asses esses isses astes estes istes is "
    "ais eis íeis aríeis eríeis iríeis áreis areis éreis ereis íreis ireis ásseis ésseis ísseis áveis ados idos ámos amos íamos "
    "aríamos eríamos iríamos áramos éramos íramos ávamos emos aremos eremos iremos ássemos êssemos íssemos imos armos ermos "
    "irmos eu iu ou ira iras"
)


def portuguese_stem(word: str) -> str:
    """The stem of a lower-case Portuguese word. `stem("quilométricas")` is `"quilométr"`."""
    word = word.replace("ã", "a~").replace("õ", "o~")
    rv = after_second_vowel(word, _PORTUGUESE_VOWELS)
    r1 = after_first_pair(word, _PORTUGUESE_VOWELS)
    r2 = after_first_pair(word, _PORTUGUESE_VOWELS, r1)
    new = _portuguese_standard(word, rv, r1, r2)
    if new == word:
        new = word[: len(word) - len(longest_suffix(word[rv:], _PORTUGUESE_VERB))]
    if new != word:
        new = new[:-1] if new.endswith("ci") and len(new) > rv else new
    else:
        new = word[: len(word) - len(longest_suffix(word[rv:], ("os", "a", "i", "o", "á", "í", "ó")))]
    return _portuguese_residual(new, rv).replace("a~", "ã").replace("o~", "õ")


def _portuguese_standard(word: str, rv: int, r1: int, r2: int) -> str:
    suffix = longest_suffix(word, _PORTUGUESE_STANDARD)
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


def _portuguese_residual(word: str, rv: int) -> str:
    if len(word) > rv and word[-1] in "eéê":
        word = word[:-1]
        return word[:-1] if len(word) > rv and word.endswith(("gu", "ci")) else word
    return f"{word[:-1]}c" if word.endswith("ç") else word


_SPANISH_VOWELS = "aeiouáéíóúü"
_PLAIN = str.maketrans("áéíóú", "aeiou")
_SPANISH_PRONOUNS = longest_first("me se sela selo selas selos la le lo las les los nos")
_BEFORE_PRONOUN = longest_first("iéndo ándo ár ér ír ando iendo ar er ir yendo")
_SPANISH_STANDARD = longest_first(
    "anza anzas ico ica icos icas ismo ismos able ables ible ibles ista istas oso osa osos osas amiento amientos imiento "
    "imientos adora ador ación adoras adores aciones ante antes ancia ancias logía logías ución uciones encia encias amente "
    "mente idad idades iva ivo ivas ivos"
)
_AFTER_IC = frozenset(longest_first("adora ador ación adoras adores aciones ante antes ancia ancias"))
_Y_VERB = longest_first("ya ye yan yen yeron yendo yo yó yas yes yais yamos")
_E_VERB = frozenset(("en", "es", "éis", "emos"))
_SPANISH_VERB = longest_first(
    "en es éis emos arían arías arán arás aríais aría aréis aríamos aremos ará aré erían erías erán erás eríais ería eréis "
    "eríamos eremos erá eré irían irías irán irás iríais iría iréis iríamos iremos irá iré aba ada ida ía ara iera ad ed id ase "
    "iese aste iste an aban ían aran ieran asen iesen aron ieron ado ido ando iendo ió ar er ir as abas adas idas ías aras "
    "ieras ases ieses ís áis abais íais arais ierais aseis ieseis asteis isteis ados idos amos ábamos íamos imos áramos "
    "iéramos iésemos ásemos"
)
_RESIDUAL = longest_first("os a o á í ó e é")


def spanish_stem(word: str) -> str:
    """The stem of a lower-case Spanish word. `stem("tormentas")` is `"torment"`."""
    rv = after_second_vowel(word, _SPANISH_VOWELS)
    r1 = after_first_pair(word, _SPANISH_VOWELS)
    r2 = after_first_pair(word, _SPANISH_VOWELS, r1)
    word = _spanish_without_pronoun(word, rv)
    new = _spanish_standard(word, r1, r2)
    if new == word:
        new = _y_verb(word, rv)
    if new == word:
        new = _verb(word, rv)
    return _spanish_residual(new, rv).translate(_PLAIN)


def _spanish_without_pronoun(word: str, rv: int) -> str:
    pronoun = longest_suffix(word, _SPANISH_PRONOUNS)
    part = word[: len(word) - len(pronoun)]
    before = longest_suffix(part[rv:], _BEFORE_PRONOUN) if pronoun else ""
    if not before or (before == "yendo" and not part.endswith("uyendo")):
        return word
    return part[: len(part) - len(before)] + before.translate(_PLAIN)


def _spanish_standard(word: str, r1: int, r2: int) -> str:
    suffix = longest_suffix(word, _SPANISH_STANDARD)
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
    suffix = longest_suffix(word[rv:], _SPANISH_VERB)
    part = word[: len(word) - len(suffix)]
    return part[:-1] if suffix in _E_VERB and part.endswith("gu") else part


def _spanish_residual(word: str, rv: int) -> str:
    suffix = longest_suffix(word[rv:], _RESIDUAL)
    part = word[: len(word) - len(suffix)]
    if suffix in {"e", "é"} and part.endswith("gu") and len(part) - 1 >= rv:
        return part[:-1]
    return part
