"""Words that a negation reaches, marked as negated."""

import re

from upsort.core.text.editing import Edit, OneByOne, edited
from upsort.core.text.lowercase import lower
from upsort.core.text.markers import OPEN
from upsort.core.text.step import Step
from upsort.core.text.stop_words import negations

_WORDS = re.compile(r"[\w'’\-\ue000\ue001]+")
_WORD_OR_STOP = re.compile(rf"(?P<word>{_WORDS.pattern})|(?P<stop>[.,;:!?()\n])")


class _Negations(OneByOne):
    """Words after a negation, up to the next punctuation, marked as negated: not_good."""

    def __init__(self, language: str) -> None:
        self.language = language
        self.negations = negations(language)

    def apply(self, text: str) -> str:
        return edited(text, self.edits(text))

    def edits(self, text: str) -> list[Edit]:
        edits: list[Edit] = []
        negated = False
        small = lower(text, self.language).replace("’", "'")
        if self.negations.isdisjoint(_WORDS.findall(small)) and not (self.language == "en" and "n't" in small):
            return edits
        for found in _WORD_OR_STOP.finditer(text):
            if found["stop"]:
                negated = False
                continue
            word = lower(found["word"], self.language).replace("’", "'")
            if word in self.negations or (self.language == "en" and word.endswith("n't")):
                negated = True
            elif negated and OPEN not in word and not word.startswith("not_"):
                edits.append(Edit(found.start(), found.start(), "not_"))
        return edits


NEGATIONS = Step(
    name="negations",
    told="words from a negation to the next punctuation, marked: not_good",
    example=("not good at all, but cheap", "not not_good not_at not_all, but cheap"),
    on_text=lambda settings: _Negations(settings.language),
    options=("language",),
    needs_punctuation=True,
    before={"punctuation": "nothing ends a negation any more"},
)
