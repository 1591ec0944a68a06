"""One form for the forms of a word: its stem, or its lemma."""

from functools import lru_cache

from upsort.core.plan import Clean
from upsort.core.text.lemmas import english_lemma, table_lemmatiser
from upsort.core.text.resources import Resources, WordStep
from upsort.core.text.stemmers import FOR_LANGUAGE, STEMMERS
from upsort.core.text.step import Step, StepPlace


def _stem(settings: Clean, _: Resources, __: WordStep | None) -> WordStep:
    stemmer = STEMMERS.get(settings.stemmer or FOR_LANGUAGE.get(settings.language, ""), _itself)
    return _sparing(stemmer, settings.unchanged)


def _no_stemmer(settings: Clean, _: Resources) -> str:
    if settings.stemmer or settings.language in FOR_LANGUAGE:
        return ""
    return f"there is no stemmer for the language {settings.language!r}; stem does nothing."


def _lemmas(settings: Clean, resources: Resources, _: WordStep | None) -> WordStep:
    return _sparing(_lemmatiser(settings, resources), settings.unchanged)


def _itself(word: str) -> str:
    return word


def _lemmatiser(settings: Clean, resources: Resources) -> WordStep:
    if resources.lemma_table:
        return table_lemmatiser(resources.lemma_table)
    if settings.language != "en":
        return _itself
    return lambda word: english_lemma(word, settings.lemma_part, resources.english)


def _no_lemmas(settings: Clean, resources: Resources) -> str:
    if settings.language == "en" or settings.lemma_file or resources.lemma_table:
        return ""
    return (
        f"there are no rules for lemmas of the language {settings.language!r}: lemmas does nothing without lemma_file."
    )


def _sparing(step: WordStep, unchanged: tuple[str, ...]) -> WordStep:
    """The step, but for markers, words that are to stay, and the marks of negation before a word."""
    spared = frozenset(unchanged)

    @lru_cache(_PROTECTED)  # whoever asks document by document meets most words again
    def careful(word: str) -> str:
        if word in spared or word.startswith("<"):
            return word
        return f"not_{step(word[4:])}" if word.startswith("not_") else step(word)

    return careful


_PROTECTED = 1 << 14
_CAPITALS = {"lower": "words with capitals (Leaves) do not fall together with those without"}

STEM = Step(
    name="stem",
    summary="the stem of each word",
    example=("leaves leaf pruning", "leav leaf prune"),
    place=StepPlace.ON_WORDS,
    on_words=_stem,
    options=("language", "stemmer", "unchanged"),
    joins_forms=True,
    after=_CAPITALS,
    lacks=_no_stemmer,
)
LEMMAS = Step(
    name="lemmas",
    summary="the dictionary form of each word",
    example=("leaves mice pruned", "leaf mouse prune"),
    place=StepPlace.ON_WORDS,
    on_words=_lemmas,
    options=("language", "lemma_file", "lemma_part", "unchanged"),
    resources=("lemma_table", "english"),
    joins_forms=True,
    after=_CAPITALS,
    lacks=_no_lemmas,
)
