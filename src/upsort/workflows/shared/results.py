"""What the JSON of commands holds: rates, rows and judgements, and the results of plan and ledger."""

from typing import Annotated, Any, NotRequired, TypedDict

from msgspec import Meta


def described(text: str) -> Any:
    """What a key holds."""
    return Meta(description=text)


Count = int | float
"""A count; a mean of counts where documents are judged several times."""


class RateJson(TypedDict):
    """A measured value with the ends of its 95 % interval; null where it is not defined, or too little bears on it."""

    value: float | None
    low: float | None
    high: float | None
    right: NotRequired[Annotated[Count | None, described("of the documents, where it is a share of them")]]
    of: NotRequired[Count]
    documents: NotRequired[Annotated[int, described("that it was measured on, where it is no share of them")]]


class RowsJson(TypedDict):
    """What became of the rows that were read."""

    read: int
    used: int
    set_aside: int
    reasons: dict[str, int]
    set_aside_file: str | None


class Result(TypedDict):
    """What every document has."""

    json_version: Annotated[int, described("of this description")]
    rows: NotRequired[RowsJson]


class DuplicatesJson(TypedDict):
    """How copies and groups were kept on one side of every split."""

    copies: int
    group_count: int | None
    taken_out_of_training: int
    without_date: int


class LabelJudged(TypedDict):
    """The decisions about one label."""

    documents: Annotated[Count, described("documents that have it")]
    sorted_as: Annotated[Count, described("documents that were sorted as it")]
    right: Annotated[Count, described("documents that have it and were sorted as it")]
    missed: Annotated[Count, described("documents that have it and were not sorted as it")]
    false: Annotated[Count, described("documents that were sorted as it and do not have it")]
    precision: RateJson
    recall: RateJson
    f1: RateJson
    f_beta: RateJson


class AreasJson(TypedDict):
    """The areas under a label's curves."""

    roc: RateJson
    precision_recall: RateJson


class OwnProbabilityJson(TypedDict):
    """What documents of a label got for it."""

    documents: Count
    mean: float | None
    median: float | None


ReliabilityBin = TypedDict("ReliabilityBin", {"from": float, "to": float, "probability": float | None, "right": RateJson})
ReliabilityBin.__doc__ = "Documents whose stated probability is in one tenth."


class Baseline(RateJson):
    """The accuracy of always giving one label."""

    label: Annotated[str | None, described("that label; null where it differs from fold to fold")]


class UndecidedJson(TypedDict):
    """Documents that are left undecided, and the others."""

    documents: Annotated[dict[str, Count], described("left undecided, by label")]
    labels: Annotated[dict[str, LabelJudged], described("the decisions about the others")]
    confusion: dict[str, dict[str, Count]]


class CostsJson(TypedDict):
    """Mean costs of a document, by a table of costs."""

    mean: Annotated[RateJson, described("of the decisions")]
    of_most_probable: Annotated[RateJson, described("had each been sorted as its most probable label")]
    of_one_label: Annotated[RateJson, described("had all been sorted as the label that is then cheapest")]
    one_label: str
    more_than_most_probable: Annotated[RateJson, described("below 0 where deciding by costs pays")]


class PairMissedJson(TypedDict):
    """Documents that have two labels and were given neither."""

    labels: Annotated[list[str], described("the two")]
    documents: Count
    of: Annotated[Count, described("documents that have both")]


class GivenInstead(TypedDict):
    """Documents that miss one label and were given another wrongly."""

    missed: str
    given: str
    documents: Count
    of: Annotated[int, described("documents that have the missed label")]


class LabelSetsJson(TypedDict):
    """Which labels go wrong together, where cells hold several."""

    missed_together: list[PairMissedJson]
    given_instead: list[GivenInstead]


class RatesJson(TypedDict):
    """A rate for each measure that is defined; see docs/measures.md."""

    accuracy: NotRequired[RateJson]
    macro_f1: NotRequired[RateJson]
    micro_f1: NotRequired[Annotated[RateJson, described("of all labels together, where cells hold several")]]
    balanced_accuracy: NotRequired[RateJson]
    macro_precision: NotRequired[RateJson]
    weighted_f1: NotRequired[RateJson]
    macro_f_beta: NotRequired[RateJson]
    matthews: NotRequired[RateJson]
    kappa: NotRequired[RateJson]
    top2_accuracy: NotRequired[Annotated[RateJson, described("own label among the two most probable, of more than two")]]
    roc_area: NotRequired[RateJson]
    precision_recall_area: NotRequired[RateJson]
    log_loss: NotRequired[RateJson]
    brier: NotRequired[RateJson]
    cost: NotRequired[Annotated[RateJson, described("the mean cost, where there is a table of costs")]]
    decided: NotRequired[Annotated[RateJson, described("the share that is, where some are left undecided")]]
    decided_accuracy: NotRequired[Annotated[RateJson, described("of the decided ones")]]


class JudgementJson(RatesJson):
    """Everything measured of decisions."""

    baseline: Baseline
    costs: CostsJson | None
    undecided: UndecidedJson | None
    p_against_baseline: Annotated[float, described("of the exact paired test against the baseline")]
    repeats: int
    groups: Annotated[int | None, described("of documents that belong together; null where all stand alone")]
    labels: dict[str, LabelJudged]
    confusion: Annotated[
        dict[str, dict[str, Count]], described("documents by true label and by the label they were sorted as; empty for sets")
    ]
    label_sets: LabelSetsJson | None
    areas: NotRequired[dict[str, AreasJson]]
    own_probability: NotRequired[dict[str, OwnProbabilityJson]]
    calibration_error: NotRequired[float | None]
    calibration_error_by_chance: NotRequired[float | None]
    reliability: NotRequired[list[ReliabilityBin]]


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
