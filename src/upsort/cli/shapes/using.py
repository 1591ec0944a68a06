"""What the JSON of the commands that read and use a sorter holds."""

from typing import Annotated, NotRequired, TypedDict

from upsort.cli.shapes.shared import RateJson, Result, described
from upsort.core.analysis.drift import UnusualPeriod
from upsort.workflows.next_documents import LabellingBenefit, LabelSuggestion
from upsort.workflows.terms import TermFact


class TermRanked(TypedDict):
    """A term of a label."""

    term: str
    value: Annotated[float, described("by the way that ranks them")]
    z: float | None
    documents: int
    others: int
    stable: bool | None


class Terms(Result):
    """upsort terms"""

    way: str
    labels: dict[str, list[TermRanked]]
    against: dict[str, list[TermRanked]]
    facts: list[TermFact]
    written: list[str]


class PulledTerm(TypedDict):
    """A term of the text, the word vector of one, or a column beside the text, with what it adds to each label's score."""

    term: str
    source: Annotated[str, described("`term`, `vector` or `column`")]
    count: Annotated[int, described("how often it stands in the text; 0 of a column")]
    value: Annotated[float, described("what it is to the classifier; of a vector, its share of the mean")]
    given: Annotated[float | None, described("the number in the column")]
    shares_with: Annotated[list[str], described("other terms of the same hashed column")]
    pulls: dict[str, float]


class Begins(TypedDict):
    """What the scores begin with, such as an intercept."""

    name: str
    adds: dict[str, float]


class ContributionSumJson(TypedDict):
    """What adds up to the scores."""

    begins: list[Begins]
    terms: list[PulledTerm]


class TreeQuestion(TypedDict):
    """A question of a tree."""

    term: str
    above: Annotated[float | None, described("the number that was asked for; null where the term was")]
    answer: bool
    documents: Annotated[float, described("of the training that were asked")]


class QuestionPath(TypedDict):
    """The way through a tree."""

    questions: list[TreeQuestion]
    documents: Annotated[dict[str, float], described("of the training that answered alike, by label")]


class NeighbourVote(TypedDict):
    """A training document that has a say."""

    label: str
    similarity: float
    weight: float
    says: Annotated[float, described("what it adds to the score of its label")]
    in_common: list[str]
    document: Annotated[str | None, described("its identifier, where it was found among the tables of --among")]


class WordWeight(TypedDict):
    """A word of the text, from start to end in it."""

    start: int
    end: int
    term: Annotated[str, described("what cleaning made of it")]
    known: bool
    leaning: Annotated[
        float, described("what it says for the label, against the next one where labels exclude each other")
    ]


class TermEstimate(TypedDict):
    """One term of the arithmetic of naive Bayes: times · ln(above / below)."""

    term: str
    times: int
    above: float
    below: float
    log: float


class AbsentTerms(TypedDict):
    """What absent terms add."""

    terms: int
    log: float


class WorkedSum(TypedDict):
    """The arithmetic of one label."""

    label: str
    documents: float
    of: float
    log_prior: float
    smoothing: float
    terms: list[TermEstimate]
    absent: AbsentTerms | None
    score: float
    plain_share: float
    probability: float


class Flip(TypedDict):
    """Words whose absence changes the label."""

    without: list[str]
    label: str


class Similar(TypedDict):
    """A similar document."""

    document: str
    label: str
    similarity: float


class Explain(Result):
    """upsort explain"""

    label: Annotated[str, described("as score gives it")]
    labels: Annotated[list[str] | None, described("the single ones, where a document may have several")]
    probability: float
    second_label: str
    remark: Annotated[str | None, described("on an answer that rests on no word of the text")]
    probabilities: dict[str, float]
    scores: dict[str, float]
    thresholds: Annotated[
        dict[str, float] | None, described("from which probability on a label is given, where there may be several")
    ]
    calibration: Annotated[str, described("how scores become probabilities")]
    sum: Annotated[ContributionSumJson | None, described("of a linear sorter, naive Bayes or centroids")]
    path: Annotated[QuestionPath | None, described("of a tree")]
    voters: Annotated[list[NeighbourVote] | None, described("of neighbours")]
    training_documents: Annotated[dict[str, float] | None, described("of kinds that do not look at the text")]
    words: list[WordWeight]
    unknown_words: list[str]
    flip: Flip | None
    similar: list[Similar]
    arithmetic: Annotated[list[WorkedSum] | None, described("with --arithmetic")]


class Next(Result):
    """upsort next"""

    documents: list[LabelSuggestion]
    worth: Annotated[
        LabellingBenefit | None,
        described("what labelling more is expected to bring, of a sorter that keeps its documents"),
    ]
    written: str | None


class AddedTo(TypedDict):
    """What is known of the documents that were added to one answer."""

    answer: str | None
    unknown_share: Annotated[float | None, described("of the new documents' words, to the sorter as it was")]
    new_right_before: Annotated[RateJson, described("of the new documents, by the sorter as it was")]
    held_out_older: Annotated[RateJson | None, described("of the older documents, by folds of all")]
    held_out_new: Annotated[RateJson | None, described("of the new ones, by folds of all")]


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
    answers: list[AddedTo]


class Export(Result):
    """upsort export"""

    exported: str
    tokens: Annotated[str, described("the file of texts with their tokens")]
    terms: int
    labels: list[str]
    kind: str


class Score(Result):
    """upsort score -o FILE"""

    scored: str
    documents: int
    labels: NotRequired[dict[str, int]]
    answers: NotRequired[dict[str, dict[str, int]]]
    without_tokens: int
    nothing_known: Annotated[
        int, described("documents without a word that the sorter knows, those without any word included")
    ]
    unknown_share: float


class TrendJson(Result):
    """upsort trend"""

    by: str
    label: str
    periods: dict[str, dict[str, RateJson]]
    standing_out: list[UnusualPeriod]
    written: str | None


class Report(Result):
    """upsort report"""

    written: str
    bytes: int
    suspects: int | None
