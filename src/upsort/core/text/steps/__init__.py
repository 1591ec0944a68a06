"""The steps of cleaning by name. Each is a record; adding one is adding it here."""

from upsort.core.errors import UsageProblem, suggestion
from upsort.core.text.step import Step
from upsort.core.text.steps.characters import (
    ACCENTS,
    EMOJI,
    LENGTHS,
    LETTERS,
    LINE_ENDS,
    LOWER,
    NFC,
    NFKC,
    NUMBERS,
    PUNCTUATION,
    SPACES,
)
from upsort.core.text.steps.markup import MARKUP
from upsort.core.text.steps.patterns import EMAILS, LINKS, NAMES, REPLACE, TAGS
from upsort.core.text.steps.words import CONTRACTIONS, KEEP, LEMMAS, NEGATIONS, STEM, STOP_WORDS


def step_called(name: str) -> Step:
    """The record of a step. Raises UsageProblem for one that there is not."""
    if name not in STEPS:
        raise UsageProblem(f"There is no cleaning step {name!r}.", suggestion(name, STEPS, "steps"))
    return STEPS[name]


STEPS: dict[str, Step] = {
    step.name: step
    for step in (
        KEEP,
        NFC,
        NFKC,
        ACCENTS,
        MARKUP,
        LINE_ENDS,
        LOWER,
        LINKS,
        EMAILS,
        NAMES,
        TAGS,
        NUMBERS,
        EMOJI,
        CONTRACTIONS,
        NEGATIONS,
        REPLACE,
        LETTERS,
        PUNCTUATION,
        SPACES,
        STOP_WORDS,
        STEM,
        LEMMAS,
        LENGTHS,
    )
}
"""In the order in which they are reported."""
