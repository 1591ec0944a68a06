"""What the JSON of the commands that read and use a sorter holds."""

from typing import Annotated, NotRequired

from typing_extensions import TypedDict

from upsort.cli.shapes.shared import Rate, Result, closed, told
from upsort.core.insight.trends import StandingOut
from upsort.jobs.label_next import ToLabel
from upsort.jobs.terms import Fact


@closed
class TermRanked(TypedDict):
    """A term of a label."""

    term: str
    value: Annotated[float, told("by the way that ranks them")]
    z: float | None
    documents: int
    others: int
    stable: bool | None


@closed
class Terms(Result):
    """upsort terms"""

    way: str
    labels: dict[str, list[TermRanked]]
    against: dict[str, list[TermRanked]]
    facts: list[Fact]
    written: list[str]


@closed
class PulledTerm(TypedDict):
    """A term of the text, with what it adds to each label's score."""

    term: str
    count: int
    value: float
    pulls: dict[str, float]


@closed
class Flip(TypedDict):
    """Words whose absence changes the label."""

    without: list[str]
    label: str


@closed
class Similar(TypedDict):
    """A similar document."""

    document: str
    label: str
    similarity: float


@closed
class Explain(Result):
    """upsort explain"""

    label: str
    second_label: str
    probabilities: dict[str, float]
    scores: dict[str, float]
    intercept: dict[str, float]
    terms: list[PulledTerm]
    unknown_words: list[str]
    flip: Flip | None
    similar: list[Similar]


@closed
class ExplainTree(Result):
    """upsort explain, of a tree"""

    path: list[str]


@closed
class Next(Result):
    """upsort next"""

    documents: list[ToLabel]
    written: str | None


@closed
class Extend(Result):
    """upsort extend"""

    sorter: str
    bytes: int
    way: str
    documents: int
    added: int
    new_terms: int
    lost_terms: int
    new_labels: list[str]


@closed
class Score(Result):
    """upsort score -o FILE"""

    scored: str
    documents: int
    labels: NotRequired[dict[str, int]]
    answers: NotRequired[dict[str, dict[str, int]]]
    without_tokens: int
    unknown_share: float


@closed
class Trend(Result):
    """upsort trend"""

    by: str
    label: str
    periods: dict[str, dict[str, Rate]]
    standing_out: list[StandingOut]
    written: str | None


@closed
class Report(Result):
    """upsort report"""

    written: str
    bytes: int
    suspects: int | None
