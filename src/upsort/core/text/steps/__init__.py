"""The steps of cleaning by name. Each is a record; adding one is adding it here."""

from upsort.core.errors import UsageProblem
from upsort.core.names import suggestion
from upsort.core.text.step import Step
from upsort.core.text.steps.contractions import CONTRACTIONS
from upsort.core.text.steps.emoji import EMOJI
from upsort.core.text.steps.forms import LEMMAS, STEM
from upsort.core.text.steps.keep import KEEP
from upsort.core.text.steps.lengths import LENGTHS
from upsort.core.text.steps.letters import LETTERS, LOWER
from upsort.core.text.steps.markup import MARKUP
from upsort.core.text.steps.negations import NEGATIONS
from upsort.core.text.steps.normal_forms import ACCENTS, NFC, NFKC
from upsort.core.text.steps.numbers import NUMBERS
from upsort.core.text.steps.patterns import REPLACE
from upsort.core.text.steps.punctuation import PUNCTUATION, SPACES
from upsort.core.text.steps.replaced import EMAILS, LINKS, NAMES, TAGS
from upsort.core.text.steps.stop_words import STOP_WORDS

STEPS: dict[str, Step] = {
    step.name: step
    for step in (
        KEEP,
        NFC,
        NFKC,
        ACCENTS,
        MARKUP,
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
"""In the order in which they are told."""


def step_called(name: str) -> Step:
    """The record of a step. Raises UsageProblem for one that there is not."""
    if name not in STEPS:
        raise UsageProblem(f"There is no cleaning step {name!r}.", suggestion(name, STEPS, "steps"))
    return STEPS[name]
