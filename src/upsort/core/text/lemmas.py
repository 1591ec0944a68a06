"""Lemmas: the base form of a word, from a table of forms, from suffix rules learned from it, or by English detachment rules."""

from collections import Counter
from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass

_LONGEST_SUFFIX = 6
_LEAST_FORMS = 2
_LEAST_STEM = 2
_LEAST_PLURAL = 4


@dataclass(frozen=True)
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


@dataclass(frozen=True)
class RuleQuality:
    """How the learned rules do on forms that they were not learned from."""

    right: int
    of: int


def rules_on_held_out(table: Mapping[str, str]) -> RuleQuality:
    """Learn from nine tenths of the table and try the rest; every tenth form in sorted order is held out."""
    forms = sorted(table)
    held = forms[::10]
    rules = learned_rules({form: table[form] for form in forms if form not in set(held)})
    return RuleQuality(sum(rules.lemma(form) == table[form] for form in held), len(held))


def table_lemmatiser(table: Mapping[str, str]) -> Callable[[str], str]:
    """Lemmas from a table of forms; forms that it lacks by rules learned from it."""
    rules = learned_rules(table)
    lemmas = set(table.values())
    return lambda form: table[form] if form in table else form if form in lemmas else rules.lemma(form)


# Detachment: an ending and what takes its place; a candidate counts when it is a known base form (as in Porter & others'
# descriptions of English inflection; Quirk, Greenbaum, Leech & Svartvik 1985, chapters 3, 5 and 7).
_NOUN = (("sses", "ss"), ("ches", "ch"), ("shes", "sh"), ("xes", "x"), ("zes", "z"), ("ves", "f"), ("ves", "fe"), ("ies", "y"),
         ("men", "man"), ("oes", "o"), ("s", ""))  # fmt: skip
_VERB = (("ies", "y"), ("ied", "y"), ("ying", "ie"), ("es", "e"), ("es", ""), ("s", ""), ("ed", "e"), ("ed", ""), ("ing", "e"),
         ("ing", ""))  # fmt: skip
_ADJECTIVE = (("ier", "y"), ("iest", "y"), ("er", "e"), ("er", ""), ("est", "e"), ("est", ""))
_RULES = {"noun": _NOUN, "verb": _VERB, "adjective": _ADJECTIVE}
_DOUBLED = "bdgklmnprt"


def english_lemma(form: str, part: str, bases: Collection[str], irregular: Mapping[str, Mapping[str, str]]) -> str:
    """The base form of an English word.

    part: noun, verb or adjective, or empty to try them in that order. bases: known base forms. irregular: for each part of
    speech, forms and their lemmas. A word that no rule leads to a known base loses the s of a regular plural.
    """
    parts = (part,) if part else ("noun", "verb", "adjective")
    for kind in parts:
        if form in irregular.get(kind, {}):
            return irregular[kind][form]
    if not part and form in bases:
        return form
    for kind in parts:
        for ending, put in _RULES[kind]:
            if not form.endswith(ending) or len(form) - len(ending) < _LEAST_STEM:
                continue
            base = form[: len(form) - len(ending)] + put
            if base in bases and not (ending == "s" and base.endswith("s")):
                return base
            doubled = kind != "noun" and not put and len(base) > 2 and base[-1] == base[-2] and base[-1] in _DOUBLED
            if doubled and base[:-1] in bases:
                return base[:-1]
    regular_plural = (
        form.endswith("s") and not form.endswith(("ss", "us", "is", "as", "os")) and len(form) > _LEAST_PLURAL
    )
    return form[:-1] if regular_plural and part in {"", "noun"} else form
