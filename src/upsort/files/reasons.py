"""Why a row cannot be used: a kind that programs agree on, what it is about, and a detail for the reader."""

from enum import StrEnum

from upsort.core.records import record


class ReasonKind(StrEnum):
    """The kinds of reason. {0} and {1} stand for what a reason is about."""

    WIDTH = "{0} where the table has {1} columns"
    BYTES = "{0}"
    NOT_JSON = "not JSON: {0}"
    NOT_AN_OBJECT = "not a JSON object"
    TOO_DEEP = "values nested more than {0} deep"
    TOO_LARGE = "larger than {0}"
    BROKEN_JSON = "the JSON is broken off or wrong here: {0}"
    NO_TEXT = "no text"
    NO_LABEL = "no label"
    NO_WEIGHT = "no weight above 0"
    NO_NUMBER = "no number in column {0}"
    NO_DATE = "no date"
    NO_DATE_IN = "no date in column {0}"
    SLOW_PATTERN = "the patterns of the plan took longer than {0} seconds on this machine, or made it far too long"
    TOO_SHORT = "shorter than {0} words"
    FOOTER = "a total or a note below the table"
    REPETITION = "the same few words repeated"
    JUNK = "junk"
    NOT_CHOSEN = "label not chosen"
    RARE = "rare label"
    COPY = "exact copy"
    NEAR_COPY = "near copy"
    OTHERWISE_LABELLED_COPY = "exact copy under another label"
    OTHERWISE_LABELLED_NEAR_COPY = "near copy under another label"
    HELD_OUT_GROUP = "in one group with a held-out row, or a copy of one"


@record(frozen=True)
class RejectionReason:
    """about: what stands in the places of the kind's wording. detail: what is special to the row."""

    why: ReasonKind
    about: tuple[str, ...] = ()
    detail: str = ""

    @property
    def what(self) -> str:
        """The reason without its detail: what rows with the same reason have in common."""
        return self.why.value.format(*self.about)

    def __str__(self) -> str:
        return f"{self.what}, {self.detail}" if self.detail else self.what
