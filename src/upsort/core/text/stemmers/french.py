"""The French suffix-stripping algorithm published with Porter's stemming language (M. F. Porter 2001)."""

from upsort.core.text.stemmers.rules import Regions, SuffixStep, longest_first, longest_suffix, marked, regions_of, rule, without

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


def stem(word: str) -> str:
    """The stem of a lower-case French word. `stem("continuation")` is `"continu"`."""
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


def _adverb(part: str, regions: Regions) -> str:
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
    rule("ement ements", "rv", finish=_adverb),
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
