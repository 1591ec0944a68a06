"""What the JSON of the commands that train and judge holds."""

from typing import Annotated, Any, NotRequired, TypedDict

from upsort.cli.shapes.shared import Count, DuplicatesJson, JudgementJson, RateJson, RatesJson, Result, described
from upsort.core.evaluation.intervals import DifferenceToBest
from upsort.core.evaluation.learning_curve import PowerLaw
from upsort.plots.evaluation_figures import GrowthPoint
from upsort.workflows.compare import RangeEnd
from upsort.workflows.shared.evaluation import Mistake
from upsort.workflows.suspects import Suspect


class TrainedJson(TypedDict):
    """What came of a training, of each answer."""

    answer: NotRequired[str]
    classifier: str
    documents: int
    terms: int
    labels: dict[str, int]
    penalty: float
    passes: Annotated[int, described("over the documents, before the steps; only of large trainings")]
    iterations: int
    optimality: float
    reached: bool
    calibration: str
    undecided_below: Annotated[float | None, described("the bound, where there is one")]
    too_common: Annotated[list[str], described("terms left out for being in too many documents")]
    without_tokens: int
    copies: int
    training_accuracy: RateJson
    held_out_accuracy: Annotated[RateJson | None, described("of the quick check")]


class Train(Result, TrainedJson):
    """upsort train"""

    sorter: str
    bytes: int


class TrainSeveral(Result):
    """upsort train, with several answers"""

    sorter: str
    bytes: int
    answers: list[TrainedJson]


class Covered(TypedDict):
    """What leaving the less certain documents undecided brings."""

    undecided_below: float
    decided: int
    right: int
    of: int


class BeforeCalibration(TypedDict):
    """Without calibration."""

    log_loss: float
    brier: float


class Evaluated(JudgementJson):
    """What is told of one answer of a sorter."""

    training_accuracy: RateJson
    unknown_labels: dict[str, int]
    by: Annotated[dict[str, RateJson], described("for each value of the column --by")]
    all_words_known: RateJson
    some_words_unknown: RateJson
    without_copies_of_training: RateJson | None
    before_calibration: BeforeCalibration | None
    coverage: list[Covered]
    mistakes: list[Mistake]


class Evaluate(Result, Evaluated):
    """upsort evaluate"""

    written: list[str]


class EvaluateSeveral(Result):
    """upsort evaluate, with several answers"""

    answers: dict[str, Evaluated]
    written: list[str]


class Fold(TypedDict):
    """One fold."""

    fold: int
    accuracy: RateJson
    baseline: RateJson
    training_accuracy: RateJson
    terms: int
    reached: bool


class Copied(TypedDict):
    """The documents that have a copy."""

    copies_apart: RateJson | None
    copies_together: RateJson | None


class CrossValidated(JudgementJson, DuplicatesJson):
    """What folds tell of one answer."""

    folds: list[Fold]
    spread: Annotated[float | None, described("the standard deviation of the folds' accuracies")]
    copies_together: NotRequired[JudgementJson]
    copied_documents: NotRequired[Copied]


class CrossValidate(Result, CrossValidated):
    """upsort cross-validate"""


class CrossValidateSeveral(Result):
    """upsort cross-validate, with several answers"""

    answers: dict[str, CrossValidated]


class CandidateJson(RatesJson):
    """A candidate."""

    baseline: RateJson
    name: str
    only_it: Annotated[Count, described("documents that it alone gets right, beside the most accurate")]
    only_the_best: Count
    p_exact: float
    p_folds: float
    behind_the_best: DifferenceToBest
    standing: str
    on_training_parts: float | None
    seconds: Annotated[float, described("of all its trainings, added up, whichever process did them")]
    bytes: int


class Compare(Result, DuplicatesJson):
    """upsort compare"""

    by: Annotated[str, described("the measure that orders the candidates")]
    candidates: list[CandidateJson]
    counted: Annotated[int, described("how often the text was cleaned and counted")]
    at_the_end: list[RangeEnd]
    nested: RateJson | None


class Finalist(TypedDict):
    """One of the last plans, on the folds."""

    name: str
    accuracy: RateJson
    macro_f1: RateJson


class Brought(TypedDict):
    """A choice, and by how much the plan without it is behind."""

    choice: str
    without_it: DifferenceToBest


class Tried(TypedDict):
    """A plan that was tried."""

    name: str
    documents: Annotated[int, described("on which it was judged last, while plans were sorted out")]
    accuracy: Annotated[float | None, described("there; null where it could not be trained on them")]
    known: Annotated[bool, described("whether an earlier search had found that out, as the ledger tells")]


class Choose(Result, DuplicatesJson):
    """upsort choose"""

    chosen: str
    changes: Annotated[dict[str, Any], described("keys of the plan with the values that were chosen")]
    honest: Annotated[RateJson, described("the accuracy on the documents set aside")]
    baseline: Annotated[RateJson, described("of always answering one label, on the same")]
    on_the_folds: Annotated[RateJson, described("the accuracy on the folds that chose it")]
    as_it_is: Annotated[RateJson, described("the accuracy of the given plan on the documents set aside")]
    gain: Annotated[DifferenceToBest, described("by how much that one is behind")]
    most_accurate: str
    behind_it: Annotated[DifferenceToBest, described("the chosen one, on the folds")]
    finalists: list[Finalist]
    reasons: list[Brought]
    left_out: Annotated[list[Brought], described("choices of the most accurate plan that the chosen one does without")]
    trials: list[Tried]
    set_aside_to_judge: int
    counted: Annotated[int, described("how often the text was cleaned and counted")]
    seconds: float


class Expected(TypedDict):
    """The result that is expected of so many documents."""

    documents: int
    value: float
    low: float
    high: float


class CurveOf(Result, DuplicatesJson):
    """upsort curve"""

    points: list[GrowthPoint]
    growth: PowerLaw | None
    twice_as_many: Expected | None
    written: str | None


class Interval(TypedDict):
    """A number and the ends of its interval."""

    value: float
    low: float
    high: float


class SuspectsJson(Result, DuplicatesJson):
    """upsort suspects"""

    suspects: list[Suspect]
    expected_wrong: Interval
    wrong_share_by_label: dict[str, float]
    judged_by: list[str]
    judged: int


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
    settings: Annotated[str, described("the whole plan, as JSON")]
    measures: dict[str, RateJson]


class Ledger(Result):
    """upsort ledger"""

    evaluations: list[Noted]
