"""What the JSON of the commands before training holds."""

from typing import Annotated, Any, NotRequired, TypedDict

from upsort.cli.shapes.shared import RateJson, Result, described
from upsort.core.evaluation.intervals import DifferenceToBest
from upsort.workflows.browse import ColumnInfo, Occurrence, ShownDocument
from upsort.workflows.clean import DocumentSteps, StepOnCorpus
from upsort.workflows.shared.survey_blocks import SurveyDocument
from upsort.workflows.survey import CopyCounts, OddDocuments
from upsort.workflows.survey_findings import Finding


class Demo(Result):
    """upsort demo"""

    folder: str
    files: list[str]


class GatherJson(Result):
    """upsort gather"""

    corpus: str
    documents: int
    rows_written: int
    marked: Annotated[int, described("kept, and marked as to be set aside")]
    conflicts: Annotated[int, described("copies under another label than what they copy")]
    sources: dict[str, dict[str, int]]
    labels: dict[str, int]
    spellings: Annotated[list[dict[str, int]], described("labels that differ only in case, spaces or punctuation")]
    missing_columns: dict[str, list[str]]
    unseen_labels: Annotated[dict[str, list[str]], described("asked for and not there, each with the nearest")]


class ShareOfAll(TypedDict):
    """So many documents, and which share of all that is."""

    documents: int
    share: float


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
    length_share: Annotated[float | None, described("of the variance of lengths that lies between labels")]
    shortest: list[SurveyDocument]
    longest: list[SurveyDocument]
    openings: dict[str, int]
    copies: CopyCounts
    odd: list[OddDocuments]
    language: Annotated[str, described("whose stop words are left out")]
    distinct_terms: int
    terms: list[dict[str, Any]]
    terms_without_stop_words: list[dict[str, Any]]
    terms_by_label: dict[str, list[dict[str, Any]]]
    terms_by_label_with_stop_words: dict[str, list[dict[str, Any]]]
    columns: list[dict[str, Any]]
    spoken: Annotated[
        str | None, described("the code of the language that the texts seem to be in; null where it is not known")
    ]
    languages: Annotated[dict[str, int], described("documents in each language that is told, by name")]
    script: Annotated[str | None, described("the script, where the language is not known by it")]
    broken: Annotated[str, described("the first broken characters, where there are any")]
    several: Annotated[int, described("documents of several labels, which count at each")]
    separator: Annotated[str, described("what seems to separate the labels of a cell, where nobody says so")]
    worth_a_look: list[Finding]


class SurveyColumns(Result):
    """upsort survey --columns"""

    columns: list[ColumnInfo]


class SurveyShow(Result):
    """upsort survey --show"""

    documents: list[ShownDocument]
    of: int


class SurveyFind(Result):
    """upsort survey --find"""

    found: list[Occurrence]
    documents_with_it: int
    of: int


class PlanWritten(Result):
    """upsort plan"""

    written: str
    plan: Annotated[dict[str, Any], described("every key; see docs/plan.md")]


class PlanChecked(Result):
    """upsort plan --check"""

    sound: bool
    warnings: Annotated[list[str], described("what makes a cleaning step useless")]
    plan: dict[str, Any]


class KeyDescription(TypedDict):
    """A key of the plan."""

    key: str
    what_for: str
    may_be: str
    default: Annotated[str, described("as it is written in TOML")]
    now: str | None
    belongs_to: Annotated[list[str], described("kinds or steps; empty where it is for all")]
    idle: Annotated[str | None, described("why it has no effect in the plan in force")]


class PlanExplained(Result):
    """upsort plan --explain"""

    keys: list[KeyDescription]


class CleanShown(Result):
    """upsort clean"""

    documents: int
    shown: list[DocumentSteps]
    steps: list[StepOnCorpus]
    written: Annotated[int, described("rows")]


class StepDescription(TypedDict):
    """A cleaning step."""

    step: str
    does: str
    works: str
    before: str
    after: str
    keys: list[str]


class CleanSteps(Result):
    """upsort clean --steps-help"""

    steps: list[StepDescription]


class WordForm(TypedDict):
    """A word after a step."""

    step: str
    form: str


class CleanWord(Result):
    """upsort clean --word"""

    words: dict[str, list[WordForm]]


class WordGroupJson(TypedDict):
    """Words that fell together."""

    stem: str
    words: dict[str, int]


class CleanGroups(Result):
    """upsort clean --groups"""

    groups: list[WordGroupJson]


class StepsComparedJson(TypedDict):
    """A list of steps."""

    steps: list[str]
    distinct: int
    accuracy: RateJson | None
    p_exact: float | None
    behind_the_best: DifferenceToBest | None
    standing: str | None


class CleanCompared(Result):
    """upsort clean --compare-steps"""

    steps: list[StepsComparedJson]
    copies: NotRequired[int]
    group_count: NotRequired[int | None]
    taken_out_of_training: NotRequired[int]
    without_date: NotRequired[int]


class TermOfMatrix(TypedDict):
    """A term of the matrix."""

    term: str
    documents: int
    count: int
    idf: float
    mean_weight: float
    largest_weight: float
    by_label: dict[str, int]


class TermOfDocument(TypedDict):
    """A term of one document."""

    term: str
    count: int
    weight: float


class FeaturesJson(Result):
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


class MadeVectorsJson(Result):
    """upsort features --make-vectors"""

    written: str
    words: int
    dimensions: int
    nearest: dict[str, list[str]]


class PartOf(TypedDict):
    """One side of a split."""

    file: str
    documents: int


class SplitJson(Result):
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
