"""The JSON of commands: rates, rows and judgements, and the results of plan, ledger and choose."""

from collections.abc import Callable, Sequence
from typing import Annotated, Any, TypedDict

import numpy as np
from msgspec import UNSET, Meta, Struct, UnsetType

from upsort.core.arrays import Ints
from upsort.core.errors import listed
from upsort.core.evaluation.decision_costs import CostSummary
from upsort.core.evaluation.duplicates import Duplicates
from upsort.core.evaluation.intervals import DifferenceToBest, Rate
from upsort.core.evaluation.leaks import Leak
from upsort.core.evaluation.measures import PairMissed
from upsort.core.evaluation.novelty import SimilarityRates
from upsort.core.evaluation.probability_measures import Bin, OwnProbability


def described(text: str) -> Any:
    """What a key holds."""
    return Meta(description=text)


Count = int | float
"""A count; a mean of counts where documents are judged several times."""


class RowsJson(TypedDict):
    """What became of the rows that were read."""

    read: int
    used: int
    set_aside: int
    reasons: dict[str, int]
    set_aside_file: str | None


class SplitCounts(Struct, frozen=True, kw_only=True):
    """How what belongs together was kept on one side of every split. copies: documents that resemble an earlier one. largest_set:
    documents in the largest set of similar ones. divided: documents in sets of similar ones that are too large to be kept
    together, or that hold all documents of a label. group_count: groups, where a column names them. taken_out_of_training:
    documents that training parts had to give up for it, over all splits. without_date: documents without a date, in a split in
    time. dates: how dates were read, in a split in time."""

    copies: int = 0
    largest_set: int = 0
    divided: int = 0
    group_count: int | None = None
    taken_out_of_training: int = 0
    without_date: int = 0
    dates: str = ""


class LabelDecisions(Struct, frozen=True, kw_only=True):
    """The decisions about one label. documents: that have it. sorted_as: documents that were sorted as it. right: both. missed:
    have it and were not sorted as it. false: were sorted as it and do not have it."""

    documents: float
    sorted_as: float
    right: float
    missed: float
    false: float
    precision: Rate
    recall: Rate
    f1: Rate
    f_beta: Rate


class CurveAreas(Struct, frozen=True):
    """The areas under a label's curves."""

    roc: Rate
    precision_recall: Rate


class Baseline(Rate, frozen=True, kw_only=True):
    """The accuracy of always giving one label. label: that label; null where it differs from fold to fold."""

    label: str | None


class UndecidedResult(Struct, frozen=True, kw_only=True):
    """Documents that are left undecided, by label, and the decisions about the others."""

    documents: dict[str, float]
    labels: dict[str, LabelDecisions]
    confusion: dict[str, dict[str, float]]


class GivenInstead(Struct, frozen=True):
    """Documents that miss one label and were given another wrongly. of: documents that have the missed label."""

    missed: str
    given: str
    documents: float
    of: float


class LabelSetsResult(Struct, frozen=True, kw_only=True):
    """Which labels go wrong together, where cells hold several."""

    missed_together: Sequence[PairMissed]
    given_instead: Sequence[GivenInstead]


class Rated(Struct, kw_only=True):
    """What has, beside its fields, a rate for each measure of `MEASURES` that is defined."""


class JudgementResult(Rated, kw_only=True):
    """Everything measured of decisions. p_against_baseline: of the exact paired test against the baseline. groups: of documents
    that belong together; null where all stand alone. confusion: documents by true label and by the label they were sorted as;
    empty for sets."""

    baseline: Baseline
    costs: CostSummary | None
    undecided: UndecidedResult | None
    p_against_baseline: float
    repeats: int
    groups: int | None
    labels: dict[str, LabelDecisions]
    confusion: dict[str, dict[str, float]]
    label_sets: LabelSetsResult | None
    areas: dict[str, CurveAreas] | UnsetType = UNSET
    own_probability: dict[str, OwnProbability] | UnsetType = UNSET
    calibration_error: float | UnsetType | None = UNSET
    calibration_error_by_chance: float | UnsetType | None = UNSET
    reliability: Sequence[Bin] | UnsetType = UNSET


class PlanWritten(Struct, frozen=True):
    """upsort plan"""

    written: str
    plan: Annotated[dict[str, Any], described("every key; see docs/plan.md")]


class PlanChecked(Struct, frozen=True):
    """upsort plan --check"""

    sound: bool
    warnings: Annotated[list[str], described("what makes a cleaning step useless")]
    plan: dict[str, Any]


class KeyDescription(Struct, frozen=True, kw_only=True):
    """A key of the plan."""

    key: str
    what_for: str
    may_be: str
    default: Annotated[str, described("as it is written in TOML")]
    now: str | None
    belongs_to: Annotated[list[str], described("kinds or steps; empty where it is for all")]
    idle: Annotated[str | None, described("why it has no effect in the plan in force")]


class PlanExplained(Struct, frozen=True):
    """upsort plan --explain"""

    keys: list[KeyDescription]


class Noted(Struct, frozen=True, kw_only=True):
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
    measures: dict[str, Rate]


class Ledger(Struct, frozen=True):
    """upsort ledger"""

    evaluations: list[Noted]


class Finalist(Struct, frozen=True):
    """One of the last plans, on the folds."""

    name: str
    accuracy: Rate
    macro_f1: Rate


class Brought(Struct, frozen=True):
    """A choice, and by how much the plan without it is behind."""

    choice: str
    without_it: DifferenceToBest


class Tried(Struct, frozen=True):
    """A plan that was tried."""

    name: str
    documents: Annotated[int, described("on which it was judged last, while plans were sorted out")]
    accuracy: Annotated[float | None, described("there; null where it could not be trained on them")]
    known: Annotated[bool, described("whether an earlier search had measured it, as the ledger says")]


class Choose(SplitCounts, frozen=True, kw_only=True):
    """upsort choose"""

    chosen: str
    changes: Annotated[dict[str, Any], described("keys of the plan with the values that were chosen")]
    honest: Annotated[Rate, described("the accuracy on the documents set aside")]
    baseline: Annotated[Rate, described("of always answering one label, on the same")]
    on_the_folds: Annotated[Rate, described("the accuracy on the folds that chose it")]
    by_similarity: Annotated[
        SimilarityRates | None,
        described("the same by similarity to the nearest training document; null where too many to compare"),
    ]
    as_it_is: Annotated[Rate, described("the accuracy of the given plan on the documents set aside")]
    gain: Annotated[DifferenceToBest, described("by how much that one is behind")]
    most_accurate: str
    behind_it: Annotated[DifferenceToBest, described("the chosen one, on the folds")]
    finalists: list[Finalist]
    reasons: list[Brought]
    left_out: Annotated[list[Brought], described("choices of the most accurate plan that the chosen one does without")]
    trials: list[Tried]
    leaks: Annotated[list[Leak], described("what gives away labels by itself")]
    untried: Annotated[int, described("plans that the time limit left no time for")]
    set_aside_to_judge: int
    counted: Annotated[int, described("how often the text was cleaned and counted")]
    seconds: float


_TERMS_NAMED = 3


def leak_sentence(leak: Leak) -> str:
    """What gives away labels, what it achieves alone, and what is achieved without it."""
    name, several = leak.names[0], len(leak.names) > 1
    alone, rest = f"{100 * leak.alone:.1f}%", f"{100 * leak.rest:.1f}%"
    if leak.kind == "terms":
        which = (
            f"terms {listed(map(repr, leak.names), _TERMS_NAMED)} alone predict" if several else f"term {name!r} alone predicts"
        )
        return f"the {which} label {leak.label!r}: F1 {alone} on held-out documents, {rest} without such terms"
    after = f" after {name!r}" if name else ""
    which = f"column {name!r}" if leak.kind == "column" else f"first number{after} in the text"
    other = "text" if leak.kind == "column" else "terms"
    return f"the {which} alone predicts the label of {alone} of held-out documents; the {other}, of {rest}"


class CopyPair(Struct, frozen=True, kw_only=True):
    """A document and the earlier one that it copies."""

    reference: str
    first: str
    label: str
    first_label: str
    similarity: float

    @property
    def in_conflict(self) -> bool:
        """Whether the two are under different labels."""
        return bool(self.label and self.first_label and self.label != self.first_label)


class CopyCounts(Struct, frozen=True, kw_only=True):
    """exact, near: documents that copy an earlier one. similar: documents that every split keeps together with another, copies
    and originals included. largest: documents in the largest set of those. groups: originals that have copies. conflicting:
    copies under another label than their original. examples: conflicting ones first."""

    exact: int
    near: int
    similar: int
    largest: int
    groups: int
    conflicting: int
    examples: list[CopyPair]


def copy_counts(
    duplicates: Duplicates, sizes: Ints, references: Sequence[str], labels_at: Callable[[int], str], examples: int
) -> CopyCounts:
    """Copies as they are shown. sizes: of the sets of documents that splits keep together. references: of all documents;
    labels_at: their labels by their places."""
    first = duplicates.earliest()
    pairs = [
        CopyPair(
            reference=references[place],
            first=references[first[place]],
            label=labels_at(place),
            first_label=labels_at(first[place]),
            similarity=float(duplicates.similarity[place]),
        )
        for place in np.flatnonzero(first >= 0).tolist()
    ]
    conflicting = [pair for pair in pairs if pair.in_conflict]
    return CopyCounts(
        exact=int((duplicates.exact >= 0).sum()),
        near=int((duplicates.near >= 0).sum()),
        similar=int(sizes[sizes > 1].sum()),
        largest=int(sizes.max(initial=0)),
        groups=len({pair.first for pair in pairs}),
        conflicting=len(conflicting),
        examples=sorted(pairs, key=lambda pair: not pair.in_conflict)[:examples],
    )
