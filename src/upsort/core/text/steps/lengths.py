"""Words that are too short or too long left out."""

from upsort.core.plan import Clean
from upsort.core.text.resources import Resources, WordStep
from upsort.core.text.step import Step, StepPlace


def _step(settings: Clean, _: Resources, __: WordStep | None) -> WordStep:
    least, most = settings.token_lengths
    return lambda word: word if len(word) >= least and (not most or len(word) <= most) else ""


LENGTHS = Step(
    name="lengths",
    summary="words shorter or longer than clean.token_lengths left out",
    example=("a an the ferns", "the ferns"),
    example_with={"token_lengths": (3, 0)},
    place=StepPlace.ON_WORDS,
    on_words=_step,
    options=("token_lengths",),
    lacks=lambda settings, _: (
        "clean.token_lengths sets no bound; lengths does nothing." if settings.token_lengths in {(0, 0), (1, 0)} else ""
    ),
)
