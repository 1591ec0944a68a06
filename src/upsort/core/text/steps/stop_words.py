"""Stop words left out."""

from upsort.core.plan import Clean
from upsort.core.text.resources import Resources, WordStep
from upsort.core.text.step import Step, StepPlace
from upsort.core.text.stop_words import negations, stop_words

_AFTER_FORMS = (
    "the stop words are stemmed too before they are compared, so that other words that fall together with one are dropped with "
    "it. Put stop_words first"
)


def stop_list(settings: Clean, resources: Resources) -> frozenset[str]:
    """The stop words in force, in lower case, with straight apostrophes."""
    words = resources.stop_words if resources.stop_words is not None else stop_words(settings.language)
    if settings.drop_negations:
        words = words | negations(settings.language)
    return (words | frozenset(settings.stop_words_add)) - frozenset(settings.stop_words_keep)


def _step(settings: Clean, resources: Resources, before: WordStep | None) -> WordStep:
    """The stop words go through the earlier steps too, so that they are compared in the form that words have by then."""
    words = stop_list(settings, resources)
    forms = words | frozenset(before(word) for word in words) if before is not None else words
    return lambda word: "" if word.replace("’", "'") in forms else word


def _lacks(settings: Clean, resources: Resources) -> str:
    if stop_list(settings, resources):
        return ""
    return f"there is no list of stop words for the language {settings.language!r}; give stop_words_file."


STOP_WORDS = Step(
    name="stop_words",
    summary="stop words left out; negations stay unless clean.drop_negations",
    example=("the fern is not dead", "fern not dead"),
    place=StepPlace.ON_WORDS,
    on_words=_step,
    options=("language", "stop_words_file", "stop_words_add", "stop_words_keep", "drop_negations"),
    resources=("stop_words",),
    before={"stem": _AFTER_FORMS, "lemmas": _AFTER_FORMS},
    after={"lower": "stop words with capitals (The, It) are not recognised"},
    lacks=_lacks,
)
