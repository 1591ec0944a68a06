"""What steps of cleaning need from files, and the shape of a step on words."""

from collections.abc import Callable, Mapping
from dataclasses import field

from upsort.core.records import record
from upsort.core.text.lemmas import EnglishWords
from upsort.core.text.patience import PatternBudget

WordStep = Callable[[str], str]
"""A word to the word in its place; an empty string for none."""


@record(frozen=True, kw_only=True)
class Resources:
    """What steps need from files. stop_words: a list of one's own. lemma_table: forms and lemmas; english: its words, for lemmas.
    replacements: words and what is to stand in their place. keep: text that stays one token. vocabulary: the terms to use, where
    they are given. full_forms: for a stem or lemma, the word that it most often stands for.

    All empty where the plan asks for none of them.
    patience: what all patterns of a plan share, so that their bounds hold for all of them together.
    """

    stop_words: frozenset[str] | None = None
    lemma_table: Mapping[str, str] = field(default_factory=dict)
    english: EnglishWords = field(default_factory=EnglishWords)
    replacements: Mapping[str, str] = field(default_factory=dict)
    keep: tuple[str, ...] = ()
    vocabulary: frozenset[str] = frozenset()
    full_forms: Mapping[str, str] = field(default_factory=dict)
    patience: PatternBudget | None = field(default=None, compare=False, repr=False)
