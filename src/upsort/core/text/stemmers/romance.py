"""French, Italian, Portuguese and Spanish suffix stripping, as published with Porter's stemming language (M. F. Porter 2001)."""

from upsort.core.text.stemmers.rules import (
    Finish,
    Regions,
    SuffixStep,
    dropping,
    dropping_twice,
    longest_first,
    longest_suffix,
    marked,
    regions_of,
    rule,
    without,
    without_longest,
)


def _adverb(*others: str) -> Finish:
    """The end of a rule for -amente: -iv goes too, and -at before that, else one of other endings, all within R2."""
    other, iv_at = dropping(*others), dropping_twice("iv", "at")
    return lambda part, regions: (iv_at if part.endswith("iv") else other)(part, regions)


def _after_second_vowel(word: str, vowels: frozenset[str]) -> int:
    """Where the region RV begins: after the vowel that follows a consonant in second place, after the consonant that follows two
    vowels, or after the third letter; the end where there is none such."""
    if len(word) < 3:
        return len(word)
    if word[1] not in vowels:
        return next((place + 1 for place in range(2, len(word)) if word[place] in vowels), len(word))
    if word[0] in vowels:
        return next((place + 1 for place in range(2, len(word)) if word[place] not in vowels), len(word))
    return 3


def _regions(word: str, vowels: frozenset[str]) -> Regions:
    return regions_of(word, vowels, _after_second_vowel(word, vowels))


_ITALIAN_VOWELS = frozenset("aeiouàèìòù")
_GRAVE = str.maketrans("áéíóú", "àèìòù")
_ITALIAN_PRONOUNS = longest_first(
    "ci gli la le li lo mi ne si ti vi sene gliela gliele glieli glielo gliene mela mele meli melo mene tela tele teli telo tene "
    "cela cele celi celo cene vela vele veli velo vene"
)
_ITALIAN_STANDARD = SuffixStep(
    rule(
        "anza anze ico ici ica ice iche ichi ismo ismi abile abili ibile ibili ista iste isti istà istè istì oso osi osa ose "
        "mente atrice atrici ante anti"
    ),
    rule("azione azioni atore atori", finish=dropping("ic")),
    rule("logia logie", put="log"),
    rule("uzione uzioni usione usioni", put="u"),
    rule("enza enze", put="ente"),
    rule("amento amenti imento imenti", "rv"),
    rule("amente", "r1", finish=_adverb("abil", "os", "ic")),
    rule("ità", finish=dropping("abil", "ic", "iv")),
    rule("ivo ivi iva ive", finish=dropping_twice("at", "ic")),
)
_ITALIAN_VERB = longest_first(
    "ammo ando ano are arono asse assero assi assimo ata ate ati ato ava avamo avano avate avi avo emmo enda ende endi endo erà "
    "erai eranno ere erebbe erebbero erei eremmo eremo ereste eresti erete erò erono essero ete eva evamo evano evate evi evo "
    "Yamo iamo immo irà irai iranno ire irebbe irebbero irei iremmo iremo ireste iresti irete irò irono isca iscano isce isci "
    "isco iscono issero ita ite iti ito iva ivamo ivano ivate ivi ivo ono uta ute uti uto ar ir"
)


def italian_stem(word: str) -> str:
    """The stem of a lower-case Italian word. `stem("abbandonata")` is `"abbandon"`."""
    word = marked(word.translate(_GRAVE), _italian_consonant)
    regions = _regions(word, _ITALIAN_VOWELS)
    word = _without_italian_pronoun(word, regions.rv)
    new = _ITALIAN_STANDARD(word, regions)
    if new == word:
        new = without_longest(word, _ITALIAN_VERB, regions.rv)
    return _italian_residual(new, regions.rv).replace("I", "i").replace("U", "u")


def _italian_consonant(letter: str, before: str, after: str) -> bool:
    """u after q, and u and i between vowels."""
    return (letter == "u" and before == "q") or (letter in "ui" and before in _ITALIAN_VOWELS and after in _ITALIAN_VOWELS)


def _without_italian_pronoun(word: str, rv: int) -> str:
    part = without_longest(word, _ITALIAN_PRONOUNS)
    before = longest_suffix(part[rv:], ("ando", "endo", "ar", "er", "ir")) if part != word else ""
    if not before:
        return word
    return part if before in {"ando", "endo"} else part + "e"


def _italian_residual(word: str, rv: int) -> str:
    """Without a final vowel, and an i before it; ch and gh at the end are c and g then."""
    if len(word) > rv and word[-1] in "aeioàèìò":
        word = without(word[:-1], ("i",), rv)
    return word[:-1] if len(word) - 2 >= rv and word.endswith(("ch", "gh")) else word


_PORTUGUESE_VOWELS = frozenset("aeiouáéíóúâêô")
_PORTUGUESE_STANDARD = SuffixStep(
    rule(
        "eza ezas ico ica icos icas ismo ismos ável ível ista istas oso osa osos osas amento amentos imento imentos adora ador "
        "aça~o adoras adores aço~es ante antes ância"
    ),
    rule("logia logias", put="log"),
    rule("uça~o uço~es", put="u"),
    rule("ência ências", put="ente"),
    rule("amente", "r1", finish=_adverb("os", "ic", "ad")),
    rule("mente", finish=dropping("ante", "avel", "ível")),
    rule("idade idades", finish=dropping("abil", "ic", "iv")),
    rule("iva ivo ivas ivos", finish=dropping("at")),
    rule("ira iras", "rv", "ir", after=("e",)),
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
    regions = _regions(word, _PORTUGUESE_VOWELS)
    new = _PORTUGUESE_STANDARD(word, regions)
    if new == word:
        new = without_longest(word, _PORTUGUESE_VERB, regions.rv)
    if new == word:
        new = without_longest(word, ("os", "a", "i", "o", "á", "í", "ó"), regions.rv)
    elif new.endswith("ci") and len(new) > regions.rv:
        new = new[:-1]
    return _portuguese_residual(new, regions.rv).replace("a~", "ã").replace("o~", "õ")


def _portuguese_residual(word: str, rv: int) -> str:
    if len(word) > rv and word[-1] in "eéê":
        word = word[:-1]
        return word[:-1] if len(word) > rv and word.endswith(("gu", "ci")) else word
    return f"{word[:-1]}c" if word.endswith("ç") else word


_SPANISH_VOWELS = frozenset("aeiouáéíóúü")
_PLAIN = str.maketrans("áéíóú", "aeiou")
_SPANISH_PRONOUNS = longest_first("me se sela selo selas selos la le lo las les los nos")
_BEFORE_PRONOUN = longest_first("iéndo ándo ár ér ír ando iendo ar er ir yendo")
_SPANISH_STANDARD = SuffixStep(
    rule(
        "anza anzas ico ica icos icas ismo ismos able ables ible ibles ista istas oso osa osos osas amiento amientos imiento "
        "imientos"
    ),
    rule("adora ador ación adoras adores aciones ante antes ancia ancias", finish=dropping("ic")),
    rule("logía logías", put="log"),
    rule("ución uciones", put="u"),
    rule("encia encias", put="ente"),
    rule("amente", "r1", finish=_adverb("os", "ic", "ad")),
    rule("mente", finish=dropping("ante", "able", "ible")),
    rule("idad idades", finish=dropping("abil", "ic", "iv")),
    rule("iva ivo ivas ivos", finish=dropping("at")),
)
_Y_VERB = longest_first("ya ye yan yen yeron yendo yo yó yas yes yais yamos")
_E_VERB = frozenset(("en", "es", "éis", "emos"))
_SPANISH_VERB = longest_first(
    "en es éis emos arían arías arán arás aríais aría aréis aríamos aremos ará aré erían erías erán erás eríais ería eréis "
    "eríamos eremos erá eré irían irías irán irás iríais iría iréis iríamos iremos irá iré aba ada ida ía ara iera ad ed id ase "
    "iese aste iste an aban ían aran ieran asen iesen aron ieron ado ido ando iendo ió ar er ir as abas adas idas ías aras "
    "ieras ases ieses ís áis abais íais arais ierais aseis ieseis asteis isteis ados idos amos ábamos íamos imos áramos "
    "iéramos iésemos ásemos"
)
_SPANISH_RESIDUAL = longest_first("os a o á í ó e é")


def spanish_stem(word: str) -> str:
    """The stem of a lower-case Spanish word. `stem("tormentas")` is `"torment"`."""
    regions = _regions(word, _SPANISH_VOWELS)
    rv = regions.rv
    word = _without_spanish_pronoun(word, rv)
    new = _SPANISH_STANDARD(word, regions)
    if new == word:
        part = without_longest(word, _Y_VERB, rv)
        new = part if part.endswith("u") else word
    if new == word:
        new = _spanish_verb(word, rv)
    return _spanish_residual(new, rv).translate(_PLAIN)


def _without_spanish_pronoun(word: str, rv: int) -> str:
    part = without_longest(word, _SPANISH_PRONOUNS)
    before = longest_suffix(part[rv:], _BEFORE_PRONOUN) if part != word else ""
    if not before or (before == "yendo" and not part.endswith("uyendo")):
        return word
    return part[: len(part) - len(before)] + before.translate(_PLAIN)


def _spanish_verb(word: str, rv: int) -> str:
    suffix = longest_suffix(word[rv:], _SPANISH_VERB)
    part = word[: len(word) - len(suffix)]
    return part[:-1] if suffix in _E_VERB and part.endswith("gu") else part


def _spanish_residual(word: str, rv: int) -> str:
    suffix = longest_suffix(word[rv:], _SPANISH_RESIDUAL)
    part = word[: len(word) - len(suffix)]
    return part[:-1] if suffix in {"e", "é"} and part.endswith("gu") and len(part) - 1 >= rv else part


_VOWELS = frozenset("aeiouyâàëéêèïîôûù")
_I_VERB = longest_first(
    "îmes ît îtes i ie ies ir ira irai iraIent irais irait iras irent irez iriez irions irons iront is issaIent issais issait "
    "issant issante issantes issants isse issent isses issez issiez issions issons it"
)
_VERB = longest_first(
    "ions é ée ées és èrent er era erai eraIent erais erait eras erez eriez erions erons eront ez iez âmes ât âtes a ai aIent "
    "ais ait ant ante antes ants as asse assent asses assiez assions"
)
_VERB_BEFORE_E = frozenset(
    longest_first("âmes ât âtes a ai aIent ais ait ant ante antes ants as asse assent asses assiez assions")
)


def french_stem(word: str) -> str:
    """The stem of a lower-case French word. `french_stem("continuation")` is `"continu"`."""
    word = marked(word, _consonant)
    regions = regions_of(word, _VOWELS, _rv(word))
    rv, r2 = regions.rv, regions.r2
    new = _STANDARD(word, regions)
    if new == word or longest_suffix(word, _STANDARD.suffixes) in _BEFORE_VERBS:
        stemmed, is_i_verb = _i_verbs(new, rv)
        new = stemmed if is_i_verb else _verbs(new, rv, r2)
    new = _tidied(new) if new != word else _residual(new, rv, r2)
    new = _undoubled(new)
    return _unaccented(new).replace("I", "i").replace("U", "u").replace("Y", "y")


def _consonant(letter: str, before: str, after: str) -> bool:
    """u and i between vowels, y beside a vowel, and u after q."""
    if letter == "y":
        return before in _VOWELS or after in _VOWELS
    return (letter == "u" and before == "q") or (letter in "ui" and before in _VOWELS and after in _VOWELS)


def _rv(word: str) -> int:
    if word.startswith(("par", "col", "tap")) or (len(word) > 2 and word[0] in _VOWELS and word[1] in _VOWELS):
        return 3
    return next((place + 1 for place in range(1, len(word)) if word[place] in _VOWELS), len(word))


def _without_ic(part: str, regions: Regions) -> str:
    if not part.endswith("ic"):
        return part
    return part[:-2] if len(part) - 2 >= regions.r2 else part[:-2] + "iqU"


def _french_adverb(part: str, regions: Regions) -> str:
    """An adverb without its -ement."""
    if part.endswith("iv") and len(part) - 2 >= regions.r2:
        return without(part[:-2], ("at",), regions.r2)
    if part.endswith("eus"):
        if len(part) - 3 >= regions.r2:
            return part[:-3]
        return part[:-1] + "x" if len(part) - 3 >= regions.r1 else part
    if part.endswith(("abl", "iqU")):
        return part[:-3] if len(part) - 3 >= regions.r2 else part
    if part.endswith(("ièr", "Ièr")):
        return part[:-3] + "i" if len(part) - 3 >= regions.rv else part
    return part


def _quality(part: str, regions: Regions) -> str:
    """A noun without its -ité."""
    if part.endswith("abil"):
        return part[:-4] if len(part) - 4 >= regions.r2 else part[:-4] + "abl"
    return _without_ic(part, regions) if part.endswith("ic") else without(part, ("iv",), regions.r2)


def _without_at(part: str, regions: Regions) -> str:
    shorter = without(part, ("at",), regions.r2)
    return _without_ic(shorter, regions) if shorter != part else part


_STANDARD = SuffixStep(
    rule("ance iqUe isme able iste eux ances iqUes ismes ables istes"),
    rule("atrice ateur ation atrices ateurs ations", finish=_without_ic),
    rule("logie logies", put="log"),
    rule("usion ution usions utions", put="u"),
    rule("ence ences", put="ent"),
    rule("ement ements", "rv", finish=_french_adverb),
    rule("ité ités", finish=_quality),
    rule("if ive ifs ives", finish=_without_at),
    rule("eaux", "whole", "eau"),
    rule("aux", "r1", "al"),
    rule("euse euses", "r1", finish=lambda part, regions: part if len(part) >= regions.r2 else part + "eux"),
    rule("issement issements", "r1", not_after=_VOWELS),
    rule("amment", "rv", "ant"),
    rule("emment", "rv", "ent"),
    rule("ment ments", "rv", after=_VOWELS, finish=lambda part, regions: part if len(part) > regions.rv else None),
)
_BEFORE_VERBS = frozenset({"amment", "emment", "ment", "ments"})  # after which the suffixes of verbs are tried as well


def _i_verbs(word: str, rv: int) -> tuple[str, bool]:
    suffix = longest_suffix(word[rv:], _I_VERB)
    part = word[: len(word) - len(suffix)]
    if suffix and len(part) - 1 >= rv and part[-1] not in _VOWELS:
        return part, True
    return word, False


def _verbs(word: str, rv: int, r2: int) -> str:
    suffix = longest_suffix(word[rv:], _VERB)
    part = word[: len(word) - len(suffix)]
    if not suffix:
        return word
    if suffix == "ions":
        return part if len(part) >= r2 else word
    if suffix in _VERB_BEFORE_E and part.endswith("e") and len(part) - 1 >= rv:
        return part[:-1]
    return part


def _tidied(word: str) -> str:
    if word.endswith("Y"):
        return word[:-1] + "i"
    return word[:-1] + "c" if word.endswith("ç") else word


def _residual(word: str, rv: int, r2: int) -> str:
    if word.endswith("s") and len(word) > 1 and word[-2] not in "aiouès":
        word = word[:-1]
    suffix = longest_suffix(word[rv:], ("ière", "Ière", "ier", "Ier", "ion", "e"))
    part = word[: len(word) - len(suffix)]
    match suffix:
        case "ion":
            return part if len(part) >= r2 and len(part) - 1 >= rv and part[-1] in "st" else word
        case "ier" | "ière" | "Ier" | "Ière":
            return part + "i"
        case "e":
            return part
        case _:
            return word


def _undoubled(word: str) -> str:
    return word[:-1] if word.endswith(("enn", "onn", "ett", "ell", "eill")) else word


def _unaccented(word: str) -> str:
    """é or è becomes e when at least one non-vowel and nothing else follows it."""
    place = len(word)
    while place > 0 and word[place - 1] not in _VOWELS:
        place -= 1
    if 0 < place < len(word) and word[place - 1] in "éè":
        return word[: place - 1] + "e" + word[place:]
    return word
