"""Lemmas: the base form of a word, from a table of forms, from suffix rules learned from it, or by English detachment rules."""

from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from dataclasses import field

from upsort.core.lazy import record

_LONGEST_SUFFIX = 6
_LEAST_FORMS = 2
_LEAST_STEM = 2
_LEAST_PLURAL = 3


@record(frozen=True)
class SuffixRules:
    """For an ending of forms, how many characters to take off and what to put on: the commonest way among the table's forms."""

    rules: Mapping[str, tuple[int, str]]

    def lemma(self, form: str) -> str:
        """The lemma by the longest ending that has a rule; the form itself without one."""
        for size in range(min(_LONGEST_SUFFIX, len(form) - _LEAST_STEM), 0, -1):
            rule = self.rules.get(form[-size:])
            if rule is not None:
                cut, put = rule
                return form[: len(form) - cut] + put
        return form


def learned_rules(table: Mapping[str, str]) -> SuffixRules:
    """Rules from forms and their lemmas. An ending gets a rule when at least two forms have it."""
    ways: dict[str, Counter[tuple[int, str]]] = {}
    for form, lemma in sorted(table.items()):
        same = 0
        while same < min(len(form), len(lemma)) and form[same] == lemma[same]:
            same += 1
        change = (len(form) - same, lemma[same:])
        for size in range(max(1, change[0]), min(_LONGEST_SUFFIX, len(form) - _LEAST_STEM) + 1):
            ways.setdefault(form[-size:], Counter())[change] += 1
    rules = {}
    for ending, counts in ways.items():
        change, times = min(counts.items(), key=lambda entry: (-entry[1], entry[0]))
        if counts.total() >= _LEAST_FORMS and times * 2 > counts.total():
            rules[ending] = change
    return SuffixRules(rules)


@record(frozen=True)
class RuleQuality:
    """How the learned rules do on forms that they were not learned from."""

    right: int
    of: int


def rules_on_held_out(table: Mapping[str, str]) -> RuleQuality:
    """Learn from nine tenths of the table and try the rest; every tenth form in sorted order is held out."""
    forms = sorted(table)
    held_out = forms[::10]
    rules = learned_rules({form: table[form] for form in forms if form not in set(held_out)})
    return RuleQuality(sum(rules.lemma(form) == table[form] for form in held_out), len(held_out))


def table_lemmatiser(table: Mapping[str, str]) -> Callable[[str], str]:
    """Lemmas from a table of forms; forms that it lacks by rules learned from it."""
    rules = learned_rules(table)
    lemmas = set(table.values())
    return lambda form: table[form] if form in table else form if form in lemmas else rules.lemma(form)


_VOWELS = frozenset("aeiou")
_DOUBLING_CONSONANTS = frozenset("bdgklmnprt")
"""Consonants that are doubled after a short stressed vowel before an ending that begins with a vowel: dig, digging."""


def _without_s(form: str) -> Iterator[str]:
    """What may stand before the -s of plurals and of the third person (Quirk et al. 1985, sections 3.5 and 5.80)."""
    if not form.endswith("s"):
        return
    stem = form[:-1]
    if stem.endswith("ie"):  # cookies
        yield stem
        if stem[-3:-2] not in _VOWELS:  # ladies: a consonant and y
            yield f"{stem[:-2]}y"
    if stem.endswith("zze"):  # buzzes, quizzes
        yield stem[:-1]
        yield stem[:-2]
    sibilant = stem.endswith(("sse", "she", "che", "xe", "ze"))
    if sibilant:
        yield stem[:-1]
    if not stem.endswith("s"):
        yield stem
    if stem.endswith("oe"):  # potatoes, but toes
        yield stem[:-1]
    if stem.endswith("se") and not sibilant:  # buses, but houses
        yield stem[:-1]


def _without(form: str, ending: str) -> Iterator[str]:
    """What may stand before an ending that begins with a vowel: a final e is dropped before it, a final consonant may be doubled,
    y becomes i after a consonant unless the ending begins with i."""
    if not form.endswith(ending):
        return
    stem = form[: -len(ending)]
    if ending[0] != "i" and stem.endswith("i") and stem[-2:-1] not in _VOWELS:
        yield f"{stem[:-1]}y"
    if ending[0] == "i" and stem.endswith("y"):  # lying
        yield f"{stem[:-1]}ie"
    yield f"{stem}e"
    yield stem
    if len(stem) > 2 and stem[-1] == stem[-2] and stem[-1] in _DOUBLING_CONSONANTS:
        yield stem[:-1]


def _bases_of(form: str, part: str) -> Iterator[str]:
    """The words that a form may be an inflection of, the likeliest first (Quirk et al. 1985, chapters 3, 5 and 7)."""
    match part:
        case "noun":
            yield from _without_s(form)
            if form.endswith("men"):
                yield f"{form[:-3]}man"
        case "verb":
            yield from _without_s(form)
            for ending in ("ed", "ing"):
                yield from _without(form, ending)
        case "adjective":
            for ending in ("er", "est"):
                yield from _without(form, ending)
        case _:
            raise ValueError(f"there is no part of speech {part!r}")


@record(frozen=True)
class EnglishWords:
    """What is known of English words. bases: known base forms. irregular: for each part of speech, forms and their lemmas.
    comparing: adjectives that are compared by -er and -est. keeping: words that look like forms of others and are none."""

    bases: frozenset[str] = frozenset()
    irregular: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    comparing: frozenset[str] = frozenset()
    protected: frozenset[str] = frozenset()


def english_lemma(form: str, part: str, known: EnglishWords) -> str:
    """The base form of an English word.

    part: noun, verb or adjective, or empty to try them in that order; a word that is a base form itself then keeps itself. A word
    that no rule leads to a known base loses the s of a regular plural.
    """
    for owner in ("'s", "’s"):
        form = form.removesuffix(owner)
    form = form.rstrip("'’") or form
    if not part and form in known.protected:
        return form
    parts = (part,) if part else ("noun", "verb", "adjective")
    for kind in parts:
        if form in known.irregular.get(kind, {}):
            return known.irregular[kind][form]
    if not part and form in known.bases:
        return form
    for kind in parts:
        bases = known.comparing if kind == "adjective" else known.bases
        for base in _bases_of(form, kind):
            if len(base) >= _LEAST_STEM and base in bases:
                return base
    regular_plural = (
        form.endswith("s") and not form.endswith(("ss", "us", "is", "as", "os")) and len(form) > _LEAST_PLURAL
    )
    if not regular_plural or part not in {"", "noun"}:
        return form
    return f"{form[:-3]}y" if form.endswith("ies") and len(form) > _LEAST_PLURAL + 1 else form[:-1]
