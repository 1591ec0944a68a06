"""Which characters make words: a class for each.

The rules follow the word boundaries of Unicode Standard Annex 29, simplified:

- letters, digits and the marks that follow them are inside words;
- an apostrophe, a hyphen, an underscore, a middle dot or a zero-width joiner is inside a word when it stands between two
  characters of words (`don't`, `aphid-free`, `snake_case`);
- a full stop or comma is inside a number when it stands between two digits (`3.50`, `1,000`);
- each ideograph and each hiragana letter is a word of its own.

Lower-casing that respects the language.

Unicode's default mapping (`str.lower`) already gives the Greek final sigma and keeps the German ß. Turkish and Azeri need their
own rule: the capital of dotless `ı` is `I`, and the capital of dotted `i` is `İ` (Unicode SpecialCasing, conditions `tr` and
`az`).

Documents that say the same few words over and over.

Where sentences and clauses end: marks, abbreviations that end none, and the words that begin another clause.

Cutting long documents into passages of so many words, lines or paragraphs, with or without overlap.

Labels as they are written: mapped, folded, joined, and grouped by spelling."""

import re
import unicodedata
from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import cache, lru_cache
from typing import Any, Literal

from upsort.core.errors import UsageProblem
from upsort.core.text.step import PRIVATE

WORD, DIGIT, OTHER, INNER, DIGIT_INNER, IDEOGRAPH, MARK = range(7)
# Those below OTHER are inside tokens wherever they stand; for those above it, that depends on their neighbours.

INNER_MARKS = frozenset("'’-_·\u2010\u2011\u00ad\u200c\u200d")
_DIGIT_INNER = frozenset(".,")
IDEOGRAPHS = ((0x3041, 0x3096), (0x3400, 0x4DBF), (0x4E00, 0x9FFF), (0xF900, 0xFAFF), (0x20000, 0x3FFFF))


@lru_cache(maxsize=8192)
def character_class(character: str) -> int:
    """The class of one character; one of the constants of this module."""
    if character in INNER_MARKS:
        return INNER
    if character in PRIVATE:
        return WORD
    if character in _DIGIT_INNER:
        return DIGIT_INNER
    category = unicodedata.category(character)
    if category[0] == "L":
        code = ord(character)
        return IDEOGRAPH if any(low <= code <= high for low, high in IDEOGRAPHS) else WORD
    if category[0] == "N":
        return DIGIT
    return MARK if category[0] == "M" else OTHER


LOWER_DEPENDS = "Σİ"
"""Letters whose lower case depends on their neighbours, or is two characters."""
DOTTED_I_LANGUAGES = frozenset({"tr", "az"})
_TURKIC_CAPITALS = str.maketrans({"I": "ı", "İ": "i"})


def lower(text: str, language: str) -> str:
    """`text` in lower case by the rules of `language` (a two-letter code). `lower("ILIK", "tr")` is `"ılık"`."""
    if language in DOTTED_I_LANGUAGES:
        # A combining dot after a capital I is the same letter as İ; joined first, or it would be left behind.
        text = text.replace("I\u0307", "İ").translate(_TURKIC_CAPITALS)
    return text.lower()


_LEAST_TOKENS = 4
_TIMES = 3
_MOST_DISTINCT = 6


def is_repetition(tokens: Any, distinct: Any) -> Any:
    """Whether a document with these numbers of tokens and distinct tokens repeats a few words at least three times on average;
    of arrays of both (n,) for each."""
    return (tokens >= _LEAST_TOKENS) & (distinct <= _MOST_DISTINCT) & (distinct * _TIMES <= tokens)


SENTENCE_ENDS = ".!?…。！？"
CLAUSE_ENDS = f"{SENTENCE_ENDS},;:()\n、，；："

_ABBREVIATIONS = {
    "en": """
        mr mrs ms dr prof st rev hon sr jr vs etc approx dept est fig figs inc ltd co no nos vol pp ed eds jan feb mar apr
        jun jul aug sep sept oct nov dec mon tue wed thu fri sat sun ave rd e.g i.e a.m p.m cf al""",
    "de": """
        hr fr dr prof str nr ca bzw usw evtl ggf inkl exkl zzgl vgl bsp abs abb bd hrsg jh jan feb mär apr jun jul aug sep
        sept okt nov dez mo di mi do sa so tel st mio mrd max min geb gest sog allg z.b d.h u.a i.d.r o.ä s.o s.u""",
    "fr": """
        m mm mme mmes mlle mlles dr pr me st ste av bd env etc ex fig p pp vol éd hab janv févr avr juil sept oct nov déc cf
        c.-à-d p.ex""",
    "es": """
        sr sra sres sras srta dr dra prof d dña ud uds av avda núm nº pág págs etc ej aprox tel vol ene feb mar abr jun jul
        ago sep sept oct nov dic p.ej""",
    "it": """
        sig sigg sig.ra dott dott.ssa prof prof.ssa ing avv arch geom art n nr pag pagg vol ecc es ca tel cfr gen feb mar
        apr mag giu lug ago set ott nov dic p.es""",
    "pt": """
        sr sra srs dr dra prof profa av núm nº pág págs etc ex aprox tel vol jan fev mar abr mai jun jul ago set out nov dez
        p.ex""",
    "nl": """
        dhr mevr mw dr prof ir drs mr str nr ca bijv enz etc evt incl excl blz jan feb mrt apr jun jul aug sep sept okt nov
        dec tel m.a.w d.w.z o.a b.v""",
    "sv": """
        dr prof nr ca bl ev inkl exkl kl jan feb mar apr jun jul aug sep sept okt nov dec tel t.ex d.v.s m.m o.s.v bl.a""",
    "da": """
        dr prof hr fr nr ca bl evt inkl ekskl kl jan feb mar apr jun jul aug sep sept okt nov dec tlf f.eks d.v.s m.m o.s.v
        bl.a""",
    "ru": """
        г гг им ул д кв стр с рис тыс млн млрд руб коп проф акад см ср янв февр апр авг сент окт нояб дек тел т.е т.д т.п
        т.к""",
    "tr": """
        dr doç prof av müh sn bay bayan no sok cad apt mah örn vb vs bkz yy tel st sf ocak t.c m.ö m.s""",
}
_BEGIN_A_CLAUSE = {
    "en": "but however although though because while whereas",
    "de": "aber sondern doch jedoch obwohl weil denn während",
    "fr": "mais car parce quoique cependant pourtant",
    "es": "pero sino aunque porque mientras",
    "it": "ma però perché sebbene mentre anzi",
    "pt": "mas porém porque embora enquanto",
    "nl": "maar want omdat hoewel terwijl",
    "sv": "men utan eftersom fast medan",
    "da": "men fordi selvom mens",
    "ru": "но а однако хотя потому",
    "tr": "ama fakat ancak çünkü lakin oysa",
}


_ORDINALS = frozenset({"de", "da", "tr"})
"""Languages in which a full stop behind a number of one or two digits makes it an ordinal."""


def ends_no_sentence(word: str, language: str) -> bool:
    """Whether a full stop right behind a word belongs to it: behind a single letter, an abbreviation, an ordinal."""
    if word.isdigit():
        return language in _ORDINALS and len(word) <= 2
    return len(word) == 1 or word.lower() in abbreviations(language)


@cache
def abbreviations(language: str) -> frozenset[str]:
    """What ends in a full stop that ends no sentence, in lower case, without that stop."""
    return frozenset(_ABBREVIATIONS.get(language, "").split())


@cache
def conjunctions(language: str) -> frozenset[str]:
    """Words that begin another clause than the one before them."""
    return frozenset(_BEGIN_A_CLAUSE.get(language, "").split())


Unit = Literal["words", "lines", "paragraphs"]

_PIECES: dict[Unit, Callable[[str], list[tuple[int, int]]]] = {
    "words": lambda text: [match.span() for match in re.finditer(r"\S+", text)],
    "lines": lambda text: [match.span() for match in re.finditer(r"[^\n]*\S[^\n]*", text)],
    "paragraphs": lambda text: [match.span() for match in re.finditer(r"\S(?:[^\n]|\n(?!\s*\n))*", text)],
}


def passages(text: str, size: int, unit: Unit = "words", overlap: int = 0) -> list[str]:
    """The text in passages of `size` words (stretches without white space), non-blank lines, or paragraphs.

    Each passage begins size - overlap units after the one before. A rest of less than half a passage is joined to the last. What
    lies between a passage's units is kept as it stands. Raises UsageProblem unless 0 <= overlap < size."""
    if not 0 <= overlap < size:
        raise UsageProblem(f"An overlap of {overlap} does not fit passages of {size} {unit}.", "It must be smaller.")
    places = _PIECES[unit](text)
    step = size - overlap
    begins = list(range(0, max(len(places) - overlap, 1), step))
    if len(begins) > 1 and len(places) - begins[-1] - overlap < step / 2:
        begins.pop()
    cut = []
    for number, begin in enumerate(begins):
        last = number == len(begins) - 1
        units = places[begin:] if last else places[begin : begin + size]
        if units:
            cut.append(text[units[0][0] : units[-1][1]])
    return cut


def lines_between(text: str, first: int, last: int | None) -> str:
    """The lines from `first` to `last`, counted from 1; a negative `last` counts from the end, so -1 leaves off the last line.

    kept_lines("a\\nb\\nc\\nd", 2, -1) is "b\\nc".
    """
    lines = text.split("\n")
    return "\n".join(lines[first - 1 : last])


_SEPARATORS = re.compile(r"[\W_]+")


def renamed_label(label: str, relabel: Mapping[str, str], fold_case: bool, language: str) -> str:
    """A label trimmed, in lower case where asked, and renamed where `relabel` has it (as written or in lower case)."""
    label = label.strip()
    folded = lower(label, language) if fold_case else label
    return relabel.get(label, relabel.get(folded, folded))


def labels_in(cell: str, separator: str) -> set[str]:
    """The labels in a cell that may hold several."""
    return {label for part in cell.split(separator) if (label := part.strip())}


def joined_labels(labels: Iterable[str], separator: str) -> str:
    """A set of labels as one cell: sorted, with the separator between them."""
    return (f"{separator} " if separator.strip() else separator).join(sorted(labels))


def spellings(labels: Counter[str]) -> list[list[tuple[str, int]]]:
    """Groups of labels that differ only in case, spaces or punctuation, each with its documents, most common first."""
    groups: dict[str, list[tuple[str, int]]] = {}
    for label, count in labels.most_common():
        groups.setdefault(_SEPARATORS.sub(" ", label.casefold()).strip(), []).append((label, count))
    return [group for normal, group in groups.items() if len(group) > 1 and normal]


_PLACEHOLDERS = """n/a na n.a. #n/a #n/v #nv k.a. k.a k/a null nil none nan missing blank empty (blank) (none) (empty) (leer) leer
    tbd tba todo unknown unbekannt undefined s.o. o.a. ohne n.v.t. n.b. нет пусто yok 無し なし 无 不明"""


# Thai, Lao, Burmese, Khmer, kana and Chinese characters.
UNSPACED = "\u0e01-\u0eff\u1000-\u109f\u1780-\u17ff\u3041-\u30ff\u3400-\u9fff\uf900-\ufaff\U00020000-\U0003ffff"
"""The characters of scripts without spaces between words, as a regular expression has them in brackets."""
_BETWEEN_UNSPACED = re.compile(rf"(?<=[{UNSPACED}]) (?=[{UNSPACED}])")


def joined_words(words: Sequence[str]) -> str:
    """Words one space apart, but for those of scripts that have none between them."""
    text = " ".join(words)
    return text if text.isascii() else _BETWEEN_UNSPACED.sub("", text)


def is_placeholder(label: str) -> bool:
    """Whether a cell looks as if it stood for no label: `-`, `n/a`, `k.A.`, `NULL`, `?`, `tbd`, in any case."""
    return label.casefold() in _PLACEHOLDERS.split() or not any(character.isalnum() for character in label)
