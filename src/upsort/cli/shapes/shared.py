"""What the JSON of several commands holds: rates, rows, judgements."""

from typing import Annotated, Any, NotRequired

from pydantic import ConfigDict, Field, with_config
from typing_extensions import TypedDict

closed = with_config(ConfigDict(extra="forbid"))
opened = with_config(ConfigDict(extra="allow"))


def told(text: str) -> Any:
    """What a key holds."""
    return Field(description=text)


Count = int | float
"""A count; a mean of counts where documents are judged several times."""


@closed
class Rate(TypedDict):
    """A measured value with the ends of its 95 % interval; null where it is not defined, or too little bears on it."""

    value: float | None
    low: float | None
    high: float | None
    right: NotRequired[Annotated[Count | None, told("of the documents, where it is a share of them")]]
    of: NotRequired[Count]
    documents: NotRequired[Annotated[int, told("that it was measured on, where it is no share of them")]]


@closed
class Rows(TypedDict):
    """What became of the rows that were read."""

    read: int
    used: int
    set_aside: int
    reasons: dict[str, int]
    set_aside_file: str | None


@closed
class Result(TypedDict):
    """What every document has."""

    json_version: Annotated[int, told("of this description")]
    rows: NotRequired[Rows]


@closed
class Kept(TypedDict):
    """How copies and groups were kept on one side of every split."""

    copies: int
    group_count: int | None
    taken_out_of_training: int
    without_date: int


@closed
class LabelJudged(TypedDict):
    """The decisions about one label."""

    documents: Annotated[Count, told("documents that have it")]
    sorted_as: Annotated[Count, told("documents that were sorted as it")]
    right: Annotated[Count, told("documents that have it and were sorted as it")]
    missed: Annotated[Count, told("documents that have it and were not sorted as it")]
    false: Annotated[Count, told("documents that were sorted as it and do not have it")]
    precision: Rate
    recall: Rate
    f1: Rate
    f_beta: Rate


@closed
class Areas(TypedDict):
    """The areas under a label's curves."""

    roc: Rate
    precision_recall: Rate


@closed
class OwnProbability(TypedDict):
    """What documents of a label got for it."""

    documents: Count
    mean: float | None
    median: float | None


ReliabilityBin = TypedDict("ReliabilityBin", {"from": float, "to": float, "probability": float | None, "right": Rate})
ReliabilityBin.__doc__ = "Documents whose stated probability is in one tenth."


@closed
class Baseline(Rate):
    """The accuracy of always giving one label."""

    label: Annotated[str | None, told("that label; null where it differs from fold to fold")]


@closed
class Undecided(TypedDict):
    """Documents that are left undecided, and the others."""

    documents: Annotated[dict[str, Count], told("left undecided, by label")]
    labels: Annotated[dict[str, LabelJudged], told("the decisions about the others")]
    confusion: dict[str, dict[str, Count]]


@closed
class Costs(TypedDict):
    """Mean costs of a document, by a table of costs."""

    mean: Annotated[Rate, told("of the decisions")]
    of_most_probable: Annotated[Rate, told("had each been sorted as its most probable label")]
    of_one_label: Annotated[Rate, told("had all been sorted as the label that is then cheapest")]
    one_label: str
    more_than_most_probable: Annotated[Rate, told("below 0 where deciding by costs pays")]


@closed
class MissedTogether(TypedDict):
    """Documents that have two labels and were given neither."""

    labels: Annotated[list[str], told("the two")]
    documents: Count
    of: Annotated[Count, told("documents that have both")]


@closed
class GivenInstead(TypedDict):
    """Documents that miss one label and were given another wrongly."""

    missed: str
    given: str
    documents: Count
    of: Annotated[int, told("documents that have the missed label")]


@closed
class LabelSets(TypedDict):
    """Which labels go wrong together, where cells hold several."""

    missed_together: list[MissedTogether]
    given_instead: list[GivenInstead]


@closed
class Judgement(TypedDict):
    """Everything measured of decisions."""

    accuracy: Rate
    baseline: Baseline
    macro_f1: Rate
    micro_f1: NotRequired[Annotated[Rate, told("of all labels together, where cells hold several")]]
    balanced_accuracy: NotRequired[Rate]
    macro_precision: NotRequired[Rate]
    weighted_f1: NotRequired[Rate]
    macro_f_beta: NotRequired[Rate]
    matthews: NotRequired[Rate]
    kappa: NotRequired[Rate]
    top2_accuracy: NotRequired[Annotated[Rate, told("own label among the two most probable, of more than two")]]
    roc_area: NotRequired[Rate]
    precision_recall_area: NotRequired[Rate]
    log_loss: NotRequired[Rate]
    brier: NotRequired[Rate]
    cost: NotRequired[Annotated[Rate, told("the mean cost, where there is a table of costs")]]
    costs: Costs | None
    decided: NotRequired[Annotated[Rate, told("the share that is, where some are left undecided")]]
    decided_accuracy: NotRequired[Annotated[Rate, told("of the decided ones")]]
    undecided: Undecided | None
    p_against_baseline: Annotated[float, told("of the exact paired test against the baseline")]
    repeats: int
    groups: Annotated[int | None, told("of documents that belong together; null where all stand alone")]
    labels: dict[str, LabelJudged]
    confusion: Annotated[
        dict[str, dict[str, Count]],
        told("documents by true label and by the label they were sorted as; empty for sets"),
    ]
    label_sets: LabelSets | None
    areas: NotRequired[dict[str, Areas]]
    own_probability: NotRequired[dict[str, OwnProbability]]
    calibration_error: NotRequired[float | None]
    calibration_error_by_chance: NotRequired[float | None]
    reliability: NotRequired[list[ReliabilityBin]]
