"""The steps of cleaning that work on single words. A step maps a word to the word in its place, or to nothing."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from upsort.core.plan import Clean, Step
from upsort.core.text.stemmers import FOR_LANGUAGE, STEMMERS
from upsort.core.text.stop_words import negations, stop_words

WordStep = Callable[[str], str]
"""A word to the word in its place; an empty string for none."""

NAMES = frozenset({"stopwords", "stem", "lemmas", "lengths"})
EXAMPLES = {
    "stopwords": ("the fern is not dead", "fern not dead"),
    "stem": ("leaves leaf pruning", "leav leaf prune"),
    "lemmas": ("leaves mice pruned", "leaf mouse prune"),
    "lengths": ("a an the ferns", "the ferns"),
}


@dataclass(frozen=True, kw_only=True)
class Resources:
    """What steps need from files. stop_words: a list of one's own. lemma_table: forms and lemmas; bases and irregular: English.
    vocabulary: the terms to use, where they are given. full_forms: for a stem or lemma, the word that it most often stands for.

    All empty where the plan asks for none of them.
    """

    stop_words: frozenset[str] | None = None
    lemma_table: Mapping[str, str] = field(default_factory=dict)
    bases: frozenset[str] = frozenset()
    irregular: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    vocabulary: frozenset[str] = frozenset()
    full_forms: Mapping[str, str] = field(default_factory=dict)


def stop_list(settings: Clean, resources: Resources) -> frozenset[str]:
    """The stop words in force, in lower case, with straight apostrophes."""
    words = resources.stop_words if resources.stop_words is not None else stop_words(settings.language)
    if settings.drop_negations:
        words = words | negations(settings.language)
    return (words | frozenset(settings.stop_words_add)) - frozenset(settings.stop_words_keep)


def word_step(name: Step, settings: Clean, resources: Resources, before: "WordStep | None" = None) -> WordStep:
    """One step.

    before: what the earlier steps do to a word; the stop words go through it too, so that they are compared in the form in
    which the words are at that point.
    """
    match name:
        case "stopwords":
            words = stop_list(settings, resources)
            forms = words | frozenset(before(word) for word in words) if before is not None else words
            return lambda word: "" if word.replace("’", "'") in forms else word
        case "stem":
            stemmer = STEMMERS.get(settings.stemmer or FOR_LANGUAGE.get(settings.language, ""), _itself)
            return _sparing(stemmer, settings.unchanged)
        case "lemmas":
            return _sparing(_lemmatiser(settings, resources), settings.unchanged)
        case "lengths":
            least, most = settings.token_lengths
            return lambda word: word if len(word) >= least and (not most or len(word) <= most) else ""
        case _:
            raise ValueError(f"{name} works on running text, not on words")


def _itself(word: str) -> str:
    return word


def _lemmatiser(settings: Clean, resources: Resources) -> WordStep:
    from upsort.core.text.lemmas import english_lemma, table_lemmatiser

    if resources.lemma_table:
        return table_lemmatiser(resources.lemma_table)
    if settings.language != "en":
        return _itself
    return lambda word: english_lemma(word, settings.lemma_part, resources.bases, resources.irregular)


def _sparing(step: WordStep, unchanged: tuple[str, ...]) -> WordStep:
    """The step, but for markers, words that are to stay, and the marks of negation before a word."""
    spared = frozenset(unchanged)

    def careful(word: str) -> str:
        if word in spared or word.startswith("<"):
            return word
        return f"not_{step(word[4:])}" if word.startswith("not_") else step(word)

    return careful
