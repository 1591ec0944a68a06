"""Which language a corpus is in, by a look at its first documents."""

from collections import Counter
from collections.abc import Iterable
from itertools import islice

from upsort.core import plan
from upsort.core.text.characters import lower
from upsort.core.text.languages import NAMES, WITHOUT_SPACES, DetectedLanguage, spoken_in
from upsort.core.text.tokeniser import tokenise
from upsort.io.plan.resources import profiles
from upsort.io.sources.inputs import Inputs
from upsort.io.tables.columns import roles_in
from upsort.io.tables.documents import texts_of

_MOST_SAMPLED = 300
_LEAST_DOCUMENTS = 3
_LEAST_SHARE = 0.6


def main_language(detections: Iterable[DetectedLanguage]) -> DetectedLanguage:
    """What most of the documents of which anything is known are in; nothing where that are too few, or no clear majority."""
    counts = Counter(detected for detected in detections if detected.known)
    if not counts:
        return DetectedLanguage()
    most, times = counts.most_common(1)[0]
    return most if times >= _LEAST_SHARE * counts.total() and times >= _LEAST_DOCUMENTS else DetectedLanguage()


def language_of(inputs: Inputs, columns: plan.Columns) -> DetectedLanguage:
    """The language of the first documents of the first table."""
    table = inputs.tables[0]
    roles = roles_in(table.columns, table.name, plan.Columns(text=columns.text))
    rows = [row for block in islice(table.blocks(), 1) for row in block.rows[:_MOST_SAMPLED]]
    texts = [lower(text, "") for text in texts_of(rows, roles)]
    return main_language(spoken_in(tokenise(texts), profiles()))


def other_language(detected: DetectedLanguage, choices: plan.Plan) -> str:
    """What is to be said where texts are in another language than the plan says; empty where they are not."""
    language = choices.clean.language
    if not detected.code or detected.code == language:
        return ""
    return (
        f"the texts are {NAMES[detected.code]}, it seems; stop words, stems and lower case go by "
        f"{NAMES.get(language, repr(language))} "
        f"(--language {detected.code}, or clean.language in the plan)."
    )


def needs_letters(detected: DetectedLanguage, choices: plan.Plan) -> bool:
    """Whether terms of letters would serve better than the words that there are no spaces between."""
    return detected.code in WITHOUT_SPACES and choices.features.units != "letters"
