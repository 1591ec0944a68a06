"""What the JSON of each command holds: the types from which docs/json.md is made, and against which every result can be
checked."""

from typing import Annotated, Any, NotRequired

from pydantic import ConfigDict, Field, TypeAdapter, with_config
from typing_extensions import TypedDict

from upsort.core.insight.trends import StandingOut
from upsort.core.judging.behind import Behind
from upsort.core.judging.growth import Curve
from upsort.draw.judgements import GrowthPoint
from upsort.jobs.clean import DocumentSteps, StepOnCorpus
from upsort.jobs.columns import ColumnInfo
from upsort.jobs.compare import AtTheEnd
from upsort.jobs.judged import Mistake
from upsort.jobs.label_next import ToLabel
from upsort.jobs.look import InContext, Shown
from upsort.jobs.survey import CopyCounts, Document, Odd
from upsort.jobs.suspects import Suspect
from upsort.jobs.terms import Fact
from upsort.jobs.worth_a_look import Finding

_closed = with_config(ConfigDict(extra="forbid"))
_open = with_config(ConfigDict(extra="allow"))


def _told(text: str) -> Any:
    return Field(description=text)


Count = int | float
"""A count; a mean of counts where documents are judged several times."""


@_closed
class Rate(TypedDict):
    """A measured value with the ends of its 95 % interval; null where it is not defined, or too little bears on it."""

    value: float | None
    low: float | None
    high: float | None
    right: NotRequired[Annotated[Count | None, _told("of the documents, where it is a share of them")]]
    of: NotRequired[Count]
    documents: NotRequired[Annotated[int, _told("that it was measured on, where it is no share of them")]]


@_closed
class Baseline(Rate):
    """The accuracy of always giving one label."""

    label: Annotated[str | None, _told("that label; null where it differs from fold to fold")]


@_closed
class Rows(TypedDict):
    """What became of the rows that were read."""

    read: int
    used: int
    set_aside: int
    reasons: dict[str, int]
    set_aside_file: str | None


@_closed
class Result(TypedDict):
    """What every document has."""

    json_version: Annotated[int, _told("of this description")]
    rows: NotRequired[Rows]


@_closed
class Kept(TypedDict):
    """How copies and groups were kept on one side of every split."""

    copies: int
    group_count: int | None
    taken_out_of_training: int
    without_date: int


@_closed
class LabelJudged(TypedDict):
    """The decisions about one label."""

    support: Annotated[Count, _told("documents that have it")]
    given: Annotated[Count, _told("documents that were given it")]
    precision: Rate
    recall: Rate
    f1: Rate
    f_beta: Rate


@_closed
class Areas(TypedDict):
    """The areas under a label's curves."""

    roc: Rate
    precision_recall: Rate


@_closed
class OwnProbability(TypedDict):
    """What documents of a label got for it."""

    documents: Count
    mean: float | None
    median: float | None


ReliabilityBin = TypedDict("ReliabilityBin", {"from": float, "to": float, "probability": float | None, "right": Rate})
ReliabilityBin.__doc__ = "Documents whose stated probability is in one tenth."


@_closed
class Judgement(TypedDict):
    """Everything measured of decisions."""

    accuracy: Rate
    baseline: Baseline
    macro_f1: Rate
    balanced_accuracy: NotRequired[Rate]
    macro_precision: NotRequired[Rate]
    weighted_f1: NotRequired[Rate]
    macro_f_beta: NotRequired[Rate]
    matthews: NotRequired[Rate]
    kappa: NotRequired[Rate]
    top2_accuracy: NotRequired[Annotated[Rate, _told("own label among the two most probable, of more than two")]]
    roc_area: NotRequired[Rate]
    precision_recall_area: NotRequired[Rate]
    log_loss: NotRequired[Rate]
    brier: NotRequired[Rate]
    p_against_baseline: Annotated[float, _told("of the exact paired test against the baseline")]
    repeats: int
    groups: Annotated[int | None, _told("of documents that belong together; null where all stand alone")]
    labels: dict[str, LabelJudged]
    confusion: Annotated[dict[str, dict[str, Count]], _told("documents by true and by given label")]
    areas: NotRequired[dict[str, Areas]]
    own_probability: NotRequired[dict[str, OwnProbability]]
    calibration_error: NotRequired[float | None]
    calibration_error_by_chance: NotRequired[float | None]
    reliability: NotRequired[list[ReliabilityBin]]


@_closed
class Demo(Result):
    """upsort demo"""

    folder: str
    files: list[str]


@_closed
class Gather(Result):
    """upsort gather"""

    corpus: str
    documents: int
    rows_written: int
    marked: Annotated[int, _told("kept, and marked as to be set aside")]
    conflicts: Annotated[int, _told("copies under another label than what they copy")]
    sources: dict[str, dict[str, int]]
    labels: dict[str, int]
    spellings: Annotated[list[dict[str, int]], _told("labels that differ only in case, spaces or punctuation")]
    missing_columns: dict[str, list[str]]
    unseen_labels: Annotated[dict[str, list[str]], _told("asked for and not there, each with the nearest")]


@_closed
class ShareOfAll(TypedDict):
    """So many documents, and which share of all that is."""

    documents: int
    share: float


@_closed
class Survey(Result):
    """upsort survey"""

    documents: int
    empty: int
    labels: dict[str, ShareOfAll]
    unlabelled: int
    spellings: list[dict[str, int]]
    characters: dict[str, float]
    words: dict[str, float]
    words_by_label: dict[str, dict[str, float]]
    length_share: Annotated[float | None, _told("of the variance of lengths that lies between labels")]
    shortest: list[Document]
    longest: list[Document]
    openings: dict[str, int]
    copies: CopyCounts
    odd: list[Odd]
    distinct_terms: int
    terms: list[dict[str, Any]]
    terms_without_stop_words: list[dict[str, Any]]
    terms_by_label: dict[str, list[dict[str, Any]]]
    terms_by_label_with_stop_words: dict[str, list[dict[str, Any]]]
    columns: list[dict[str, Any]]
    worth_a_look: list[Finding]


@_closed
class SurveyColumns(Result):
    """upsort survey --columns"""

    columns: list[ColumnInfo]


@_closed
class SurveyShow(Result):
    """upsort survey --show"""

    documents: list[Shown]
    of: int


@_closed
class SurveyFind(Result):
    """upsort survey --find"""

    found: list[InContext]
    documents_with_it: int
    of: int


@_closed
class PlanWritten(Result):
    """upsort plan"""

    written: str
    plan: Annotated[dict[str, Any], _told("every key; see docs/plan.md")]


@_closed
class PlanChecked(Result):
    """upsort plan --check"""

    sound: bool
    plan: dict[str, Any]


@_closed
class KeyTold(TypedDict):
    """A key of the plan."""

    key: str
    what_for: str
    may_be: str
    default: Annotated[str, _told("as it is written in TOML")]
    now: str | None
    belongs_to: Annotated[list[str], _told("kinds or steps; empty where it is for all")]
    idle: Annotated[str | None, _told("why it has no effect in the plan in force")]


@_closed
class PlanExplained(Result):
    """upsort plan --explain"""

    keys: list[KeyTold]


@_closed
class CleanShown(Result):
    """upsort clean"""

    documents: int
    shown: list[DocumentSteps]
    steps: list[StepOnCorpus]
    written: Annotated[int, _told("rows")]


@_closed
class StepTold(TypedDict):
    """A cleaning step."""

    step: str
    does: str
    works: str
    before: str
    after: str
    keys: list[str]


@_closed
class CleanSteps(Result):
    """upsort clean --steps-help"""

    steps: list[StepTold]


@_closed
class WordForm(TypedDict):
    """A word after a step."""

    step: str
    form: str


@_closed
class CleanWord(Result):
    """upsort clean --word"""

    words: dict[str, list[WordForm]]


@_closed
class WordGroup(TypedDict):
    """Words that fell together."""

    stem: str
    words: dict[str, int]


@_closed
class CleanGroups(Result):
    """upsort clean --groups"""

    groups: list[WordGroup]


@_closed
class StepsCompared(TypedDict):
    """A list of steps."""

    steps: list[str]
    distinct: int
    accuracy: Rate | None
    p_exact: float | None
    behind_the_best: Behind | None
    standing: str | None


@_closed
class CleanCompared(Result):
    """upsort clean --compare-steps"""

    steps: list[StepsCompared]
    copies: NotRequired[int]
    group_count: NotRequired[int | None]
    taken_out_of_training: NotRequired[int]
    without_date: NotRequired[int]


@_closed
class TermOfMatrix(TypedDict):
    """A term of the matrix."""

    term: str
    documents: int
    count: int
    idf: float
    mean_weight: float
    largest_weight: float
    by_label: dict[str, int]


@_closed
class TermOfDocument(TypedDict):
    """A term of one document."""

    term: str
    count: int
    weight: float


@_closed
class Features(Result):
    """upsort features"""

    documents: int
    terms: int
    nonzeros: int
    density: float
    distinct_terms: int
    seen_once: int
    too_rare: int
    too_common: int
    too_many: int
    without_tokens: int
    bytes: int
    top: list[TermOfMatrix]
    document: list[TermOfDocument]
    written: list[str]


@_closed
class MadeVectors(Result):
    """upsort features --make-vectors"""

    written: str
    words: int
    dimensions: int
    nearest: dict[str, list[str]]


@_closed
class PartOf(TypedDict):
    """One side of a split."""

    file: str
    documents: int


@_closed
class Split(Result):
    """upsort split"""

    training: PartOf
    held_out: PartOf
    labels: dict[str, dict[str, int]]
    copies: int
    groups: int | None
    taken_out_of_training: int
    without_date: int
    off_the_share: dict[str, float]
    seed: int | None


@_closed
class Trained(TypedDict):
    """What came of a training, of each answer."""

    answer: NotRequired[str]
    classifier: str
    documents: int
    terms: int
    labels: dict[str, int]
    penalty: float
    iterations: int
    optimality: float
    reached: bool
    calibration: str
    too_common: Annotated[list[str], _told("terms left out for being in too many documents")]
    without_tokens: int
    copies: int
    training_accuracy: Rate
    held_out_accuracy: Annotated[Rate | None, _told("of the quick check")]


@_closed
class Train(Result, Trained):
    """upsort train"""

    sorter: str
    bytes: int


@_closed
class TrainSeveral(Result):
    """upsort train, with several answers"""

    sorter: str
    bytes: int
    answers: list[Trained]


@_closed
class Covered(TypedDict):
    """What leaving the less certain documents undecided brings."""

    undecided_below: float
    decided: int
    right: int
    of: int


@_closed
class BeforeCalibration(TypedDict):
    """Without calibration."""

    log_loss: float
    brier: float


@_closed
class Evaluated(Judgement):
    """What is told of one answer of a sorter."""

    training_accuracy: Rate
    unknown_labels: dict[str, int]
    by: Annotated[dict[str, Rate], _told("for each value of the column --by")]
    all_words_known: Rate
    some_words_unknown: Rate
    without_copies_of_training: Rate | None
    before_calibration: BeforeCalibration | None
    mean_cost: float | None
    decided: Rate | None
    coverage: list[Covered]
    mistakes: list[Mistake]


@_closed
class Evaluate(Result, Evaluated):
    """upsort evaluate"""

    written: list[str]


@_closed
class EvaluateSeveral(Result):
    """upsort evaluate, with several answers"""

    answers: dict[str, Evaluated]
    written: list[str]


@_closed
class Fold(TypedDict):
    """One fold."""

    fold: int
    accuracy: Rate
    baseline: Rate
    training_accuracy: Rate
    terms: int
    reached: bool


@_closed
class Copied(TypedDict):
    """The documents that have a copy."""

    copies_apart: Rate | None
    copies_together: Rate | None


@_closed
class CrossValidated(Judgement, Kept):
    """What folds tell of one answer."""

    folds: list[Fold]
    spread: Annotated[float | None, _told("the standard deviation of the folds' accuracies")]
    copies_together: NotRequired[Judgement]
    copied_documents: NotRequired[Copied]


@_closed
class CrossValidate(Result, CrossValidated):
    """upsort cross-validate"""


@_closed
class CrossValidateSeveral(Result):
    """upsort cross-validate, with several answers"""

    answers: dict[str, CrossValidated]


@_open
class Candidate(TypedDict):
    """A candidate. Beside these keys there is a rate for every measure, under its name in docs/measures.md."""

    name: str
    only_it: Annotated[Count, _told("documents that it alone gets right, beside the most accurate")]
    only_the_best: Count
    p_exact: float
    p_folds: float
    behind_the_best: Behind
    standing: str
    on_training_parts: float | None
    seconds: float
    bytes: int


@_closed
class Compare(Result, Kept):
    """upsort compare"""

    by: Annotated[str, _told("the measure that orders the candidates")]
    candidates: list[Candidate]
    counted: Annotated[int, _told("how often the text was cleaned and counted")]
    at_the_end: list[AtTheEnd]
    nested: Rate | None


@_closed
class Expected(TypedDict):
    """The result that is expected of so many documents."""

    documents: int
    value: float
    low: float
    high: float


@_closed
class CurveOf(Result, Kept):
    """upsort curve"""

    points: list[GrowthPoint]
    growth: Curve | None
    twice_as_many: Expected | None
    written: str | None


@_closed
class Interval(TypedDict):
    """A number and the ends of its interval."""

    value: float
    low: float
    high: float


@_closed
class Suspects(Result, Kept):
    """upsort suspects"""

    suspects: list[Suspect]
    expected_wrong: Interval
    wrong_share_by_label: dict[str, float]
    judged_by: list[str]
    judged: int


@_closed
class Noted(TypedDict):
    """An evaluation of the ledger."""

    time: str
    command: str
    name: str
    plan: str
    data: str
    seed: int | None
    documents: int | None
    version: str | None
    settings: Annotated[str, _told("the whole plan, as JSON")]
    measures: dict[str, Rate]


@_closed
class Ledger(Result):
    """upsort ledger"""

    evaluations: list[Noted]


@_closed
class TermRanked(TypedDict):
    """A term of a label."""

    term: str
    value: Annotated[float, _told("by the way that ranks them")]
    z: float | None
    documents: int
    others: int
    stable: bool | None


@_closed
class Terms(Result):
    """upsort terms"""

    way: str
    labels: dict[str, list[TermRanked]]
    against: dict[str, list[TermRanked]]
    facts: list[Fact]
    written: list[str]


@_closed
class PulledTerm(TypedDict):
    """A term of the text, with what it adds to each label's score."""

    term: str
    count: int
    value: float
    pulls: dict[str, float]


@_closed
class Flip(TypedDict):
    """Words whose absence changes the label."""

    without: list[str]
    label: str


@_closed
class Similar(TypedDict):
    """A similar document."""

    document: str
    label: str
    similarity: float


@_closed
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


@_closed
class ExplainTree(Result):
    """upsort explain, of a tree"""

    path: list[str]


@_closed
class Next(Result):
    """upsort next"""

    documents: list[ToLabel]
    written: str | None


@_closed
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


@_closed
class Score(Result):
    """upsort score -o FILE"""

    scored: str
    documents: int
    labels: NotRequired[dict[str, int]]
    answers: NotRequired[dict[str, dict[str, int]]]
    without_tokens: int
    unknown_share: float


@_closed
class Trend(Result):
    """upsort trend"""

    by: str
    label: str
    periods: dict[str, dict[str, Rate]]
    standing_out: list[StandingOut]
    written: str | None


@_closed
class Report(Result):
    """upsort report"""

    written: str
    bytes: int
    suspects: int | None


SHAPES: dict[str, tuple[Any, ...]] = {
    "demo": (Demo,),
    "gather": (Gather,),
    "survey": (Survey, SurveyColumns, SurveyShow, SurveyFind),
    "plan": (PlanWritten, PlanChecked, PlanExplained),
    "clean": (CleanShown, CleanSteps, CleanWord, CleanGroups, CleanCompared),
    "features": (Features, MadeVectors),
    "split": (Split,),
    "train": (Train, TrainSeveral),
    "evaluate": (Evaluate, EvaluateSeveral),
    "cross-validate": (CrossValidate, CrossValidateSeveral),
    "compare": (Compare,),
    "curve": (CurveOf,),
    "suspects": (Suspects,),
    "ledger": (Ledger,),
    "terms": (Terms,),
    "explain": (Explain, ExplainTree),
    "next": (Next,),
    "extend": (Extend,),
    "score": (Score,),
    "trend": (Trend,),
    "report": (Report,),
}
"""The shapes of each command, with those of options that show something else. `ask` answers in lines, `score` in rows: see the
docs."""


def schema_of(shape: Any) -> dict[str, Any]:
    """A shape as JSON Schema (draft 2020-12)."""
    return TypeAdapter(shape).json_schema()
