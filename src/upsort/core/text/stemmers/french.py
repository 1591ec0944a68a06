"""The French suffix-stripping algorithm published with Porter's stemming language (M. F. Porter 2001)."""

from upsort.core.text.stemmers.regions import after_first_pair, longest_first, longest_suffix

_VOWELS = "aeiouyâàëéêèïîôûù"
_STANDARD = longest_first(
    "ance iqUe isme able iste eux ances iqUes ismes ables istes atrice ateur ation atrices ateurs ations logie logies usion "
    "ution usions utions ence ences ement ements ité ités if ive ifs ives eaux aux euse euses issement issements amment "
    "emment ment ments"
)
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
    word = _marked(word)
    rv = _rv(word)
    r1 = after_first_pair(word, _VOWELS)
    r2 = after_first_pair(word, _VOWELS, r1)
    new, to_verbs = _standard(word, rv, r1, r2)
    if new == word or to_verbs:
        stemmed, is_i_verb = _i_verbs(new, rv)
        new = stemmed if is_i_verb else _verbs(new, rv, r2)
    new = _tidied(new) if new != word else _residual(new, rv, r2)
    new = _undoubled(new)
    return _unaccented(new).replace("I", "i").replace("U", "u").replace("Y", "y")


def _marked(word: str) -> str:
    """u and i between vowels, y beside a vowel, and u after q in capitals: they are consonants there."""
    letters = list(word)
    last = len(letters) - 1
    for place, letter in enumerate(letters):
        before = place > 0 and letters[place - 1] in _VOWELS
        after = place < last and letters[place + 1] in _VOWELS
        if (
            (letter in "ui" and before and after)
            or (letter == "y" and (before or after))
            or (letter == "u" and place > 0 and letters[place - 1] == "q")
        ):
            letters[place] = letter.upper()
    return "".join(letters)


def _rv(word: str) -> int:
    if word.startswith(("par", "col", "tap")) or (len(word) > 2 and word[0] in _VOWELS and word[1] in _VOWELS):
        return 3
    return next((place + 1 for place in range(1, len(word)) if word[place] in _VOWELS), len(word))


def _standard(word: str, rv: int, r1: int, r2: int) -> tuple[str, bool]:
    """Standard suffixes; and whether the verb suffixes are still to be tried (after the adverbs)."""
    suffix = longest_suffix(word, _STANDARD)
    part = word[: len(word) - len(suffix)]
    size = len(part)
    match suffix:
        case "":
            return word, False
        case "atrice" | "ateur" | "ation" | "atrices" | "ateurs" | "ations":
            return (_without_ic(part, r2), False) if size >= r2 else (word, False)
        case "logie" | "logies":
            return (part + "log", False) if size >= r2 else (word, False)
        case "usion" | "ution" | "usions" | "utions":
            return (part + "u", False) if size >= r2 else (word, False)
        case "ence" | "ences":
            return (part + "ent", False) if size >= r2 else (word, False)
        case "ement" | "ements":
            return (_adverb(part, rv, r1, r2), False) if size >= rv else (word, False)
        case "ité" | "ités":
            return (_quality(part, r2), False) if size >= r2 else (word, False)
        case "if" | "ive" | "ifs" | "ives":
            if size < r2:
                return word, False
            if part.endswith("at") and size - 2 >= r2:
                return _without_ic(part[:-2], r2), False
            return part, False
        case "eaux":
            return part + "eau", False
        case "aux":
            return (part + "al", False) if size >= r1 else (word, False)
        case "euse" | "euses":
            if size >= r2:
                return part, False
            return (part + "eux", False) if size >= r1 else (word, False)
        case "issement" | "issements":
            return (part, False) if size >= r1 and part and part[-1] not in _VOWELS else (word, False)
        case "amment":
            return (part + "ant", True) if size >= rv else (word, False)
        case "emment":
            return (part + "ent", True) if size >= rv else (word, False)
        case "ment" | "ments":
            return (part, True) if size - 1 >= rv and part[-1] in _VOWELS else (word, False)
        case _:
            return (part, False) if size >= r2 else (word, False)


def _without_ic(part: str, r2: int) -> str:
    if not part.endswith("ic"):
        return part
    return part[:-2] if len(part) - 2 >= r2 else part[:-2] + "iqU"


def _adverb(part: str, rv: int, r1: int, r2: int) -> str:
    if part.endswith("iv") and len(part) - 2 >= r2:
        part = part[:-2]
        return part[:-2] if part.endswith("at") and len(part) - 2 >= r2 else part
    if part.endswith("eus"):
        if len(part) - 3 >= r2:
            return part[:-3]
        return part[:-1] + "x" if len(part) - 3 >= r1 else part
    if part.endswith(("abl", "iqU")):
        return part[:-3] if len(part) - 3 >= r2 else part
    if part.endswith(("ièr", "Ièr")):
        return part[:-3] + "i" if len(part) - 3 >= rv else part
    return part


def _quality(part: str, r2: int) -> str:
    if part.endswith("abil"):
        return part[:-4] if len(part) - 4 >= r2 else part[:-4] + "abl"
    if part.endswith("ic"):
        return part[:-2] if len(part) - 2 >= r2 else part[:-2] + "iqU"
    if part.endswith("iv") and len(part) - 2 >= r2:
        return part[:-2]
    return part


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
