"""What stands in the head of a sorter file, checked as a whole before anything in it is used: kinds, bounds, and that its numbers
agree with each other. Heads of earlier formats, whose records had fewer fields, fit too."""

from collections.abc import Iterable
from typing import Annotated, Any

from msgspec import Meta, Struct, ValidationError, convert

from upsort.core.learning.sorter import LENGTH_CLASSES

Count = Annotated[int, Meta(ge=0, le=2**53 - 1)]
"""Whole numbers up to there are exact in any program that reads JSON."""

AtLeastOne = Annotated[int, Meta(ge=1, le=2**53 - 1)]
Number = Annotated[float, Meta(ge=0, le=1e100)]
Cost = Annotated[float, Meta(ge=-1e100, le=1e100)]
Category = tuple[str, list[str]]


class MemberHead(Struct, frozen=True, kw_only=True):
    """A member of the archive."""

    name: str
    bytes: Count
    sha256: Annotated[str, Meta(min_length=64, max_length=64)]


class FoldsHead(Struct, frozen=True, kw_only=True):
    """What folds told."""

    documents: Count
    groups: Count
    words: Count
    unknown: Count
    right: Count | None
    labels: list[Count]
    decided: Count | None = None
    decided_right: Count | None = None

    def __post_init__(self) -> None:
        _agree(self.groups <= self.documents, "more groups than documents held out")
        _agree(self.right is None or self.right <= self.documents, "more right than documents held out")
        _agree(self.unknown <= self.words, "more unknown words than words")
        _agree(sum(self.labels) in (0, self.documents), "other labels given than documents held out")
        _agree((self.decided or 0) <= self.documents, "more decided than documents held out")
        _agree((self.decided_right or 0) <= (self.decided or 0), "more decided right than decided")


class TrainingHead(Struct, frozen=True, kw_only=True):
    """What training saw."""

    documents: AtLeastOne
    label_documents: list[AtLeastOne]
    right: Count | None
    held_out: FoldsHead | tuple[Count, Count]
    penalty: Number
    iterations: Count
    products: Count
    optimality: Number
    reached: bool
    lengths: Annotated[list[Count], Meta(min_length=LENGTH_CLASSES, max_length=LENGTH_CLASSES)]
    words: Count
    known_words: Count
    passes: Count = 0
    mean_length: Number = 0.0
    blank: Count | None = None

    def __post_init__(self) -> None:
        _agree(max(self.label_documents) <= self.documents, "more documents of a label than documents")
        _agree(sum(self.label_documents) >= self.documents, "documents without a label")
        _agree(self.right is None or self.right <= self.documents, "more right than documents")
        _agree(self.known_words <= self.words, "more known words than words")
        _agree(sum(self.lengths) <= self.documents, "lengths of more documents")


class ExtraColumnsHead(Struct, frozen=True, kw_only=True):
    """The columns beside the text."""

    numbers: list[str]
    categories: list[Category]

    def __post_init__(self) -> None:
        _distinct(self.numbers)
        _distinct(name for name, _ in self.categories)
        for _, values in self.categories:
            _distinct(values)


class FeatureSpaceHead(ExtraColumnsHead, frozen=True, kw_only=True):
    """The columns beside the terms."""

    counted: Count


class StoredHead(ExtraColumnsHead, frozen=True, kw_only=True):
    """The documents that are kept to extend it."""

    stands_for: list[Count]


class AnswerHead(Struct, frozen=True, kw_only=True):
    """One answer."""

    name: str = ""
    labels: Annotated[list[str], Meta(min_length=1)]
    calibration: str
    trained_on: TrainingHead
    space: FeatureSpaceHead
    arrays: list[str] = []
    kept: StoredHead | None = None

    def __post_init__(self) -> None:
        seen, held_out = self.trained_on, self.trained_on.held_out
        _distinct(self.labels)
        _distinct(self.arrays)
        _agree(len(seen.label_documents) == len(self.labels), "documents of other labels")
        _agree(
            not isinstance(held_out, FoldsHead) or len(held_out.labels) in (0, len(self.labels)),
            "folds of other labels",
        )
        _agree(self.kept is None or len(self.kept.stands_for) == len(self.labels), "kept documents of other labels")


class ResourcesHead(Struct, frozen=True, kw_only=True):
    """What stood in the files that the plan names."""

    stop_words: list[str] | None = None
    lemma_table: dict[str, str] = {}
    costs: dict[str, dict[str, Cost]] | None = None
    full_forms: dict[str, str] = {}
    replacements: dict[Annotated[str, Meta(min_length=1)], str] = {}
    keep: list[str] = []


class SorterHead(Struct, frozen=True, kw_only=True):
    """All of it. The plan is checked where plans are."""

    format: int
    plan: dict[str, Any]
    answers: Annotated[list[AnswerHead], Meta(min_length=1)]
    members: list[MemberHead]
    resources: ResourcesHead = ResourcesHead()

    def __post_init__(self) -> None:
        _distinct(answer.name for answer in self.answers)
        _distinct(member.name for member in self.members)


def fault_of(head: dict[str, Any]) -> str:
    """What is wrong with a head, and where; empty for nothing."""
    try:
        convert(head, SorterHead)
    except ValidationError as error:
        what, _, place = str(error).partition(" - at ")
        return f"{place[3:-1][:80] or 'all of it'}: {what[:80]}"
    return ""


def _agree(sound: bool, otherwise: str) -> None:
    if not sound:
        raise ValueError(otherwise)


def _distinct(names: Iterable[str]) -> None:
    names = list(names)
    _agree(len(set(names)) == len(names), "one of them twice")
