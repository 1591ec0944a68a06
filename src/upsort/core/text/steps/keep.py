"""Text that is cut as one token as it is written, whatever the other steps do: C++, .NET."""

import re
from collections.abc import Iterable

from upsort.core.plan import Clean
from upsort.core.text.editing import Substitution, TextStep
from upsort.core.text.markers import protect
from upsort.core.text.resources import Resources
from upsort.core.text.step import Step
from upsort.core.text.steps.patterns import any_of, on_whole_words

_SPACES = re.compile(r"\s+")


def protected_texts(settings: Clean, resources: Resources) -> frozenset[str]:
    """What is to be kept, as it is shown: spaces inside are underscores."""
    return frozenset(_SPACES.sub("_", text.strip()) for text in (*settings.keep, *resources.keep) if text.strip())


def _step(settings: Clean, resources: Resources) -> TextStep:
    texts = [" ".join(text.split()) for text in (*settings.keep, *resources.keep) if text.strip()]
    # Signs make a text unmistakable, so that its case does not matter; plain words may be others in other case: IT, it.
    signed = {text.casefold(): text for text in texts if not text.replace(" ", "").isalnum()}
    plain = [text for text in texts if text.replace(" ", "").isalnum()]
    alternatives = [f"(?i:{_spaced(signed)})"] if signed else []
    alternatives += [_spaced(plain)] if plain else []
    if not alternatives:
        return Substitution(re.compile("(?!)"), lambda match: "", lambda _: False)

    def as_written(match: "re.Match[str]") -> str:
        text = " ".join(match.group().split())
        return protect(signed.get(text.casefold(), text).replace(" ", "_"))

    return Substitution(re.compile(on_whole_words("|".join(alternatives))), as_written)


def _spaced(texts: Iterable[str]) -> str:
    """A pattern for any of some texts; where they hold a space, any white space will do."""
    return any_of(texts).replace("\\ ", r"\s+")


KEEP = Step(
    name="keep",
    summary="text of clean.keep as one token, as it is written; done first where it is not among the steps",
    example=("learn c++, not C", "learn  C++ , not C"),
    example_with={"keep": ("C++",)},
    on_text=_step,
    resources=("keep",),
    lacks=lambda settings, resources: (
        "" if protected_texts(settings, resources) else "clean.keep is empty; keep does nothing."
    ),
)
