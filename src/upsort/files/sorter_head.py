"""What stands in the head of a sorter file, checked as a whole before anything in it is used: kinds, bounds, and that its numbers
agree with each other. Heads of earlier formats, whose records had fewer fields, fit too."""

from dataclasses import field
from math import isfinite
from typing import Annotated, Any

from annotated_types import Ge, Len
from pydantic import AfterValidator, ConfigDict, Strict, TypeAdapter, ValidationError
from pydantic.dataclasses import dataclass

from upsort.core.learning.sorter import LENGTH_CLASSES

_MOST = 2**53
"""What every count is below: whole numbers up to there are exact in any program that reads JSON."""


def _below(number: int) -> int:
    if number >= _MOST:
        raise ValueError("too large")
    return number


def _finite(number: float) -> float:
    if not isfinite(number) or abs(number) > 1e100:
        raise ValueError("no number that could be")
    return number


def _distinct(names: list[Any]) -> list[Any]:
    if len(set(map(repr, names))) < len(names):
        raise ValueError("one of them twice")
    return names


Text = Annotated[str, Strict()]
Count = Annotated[int, Strict(), Ge(0), AfterValidator(_below)]
Number = Annotated[float, Ge(0), AfterValidator(_finite)]
Names = Annotated[list[Text], AfterValidator(_distinct)]
Category = tuple[Text, Names]
Categories = Annotated[list[Category], AfterValidator(lambda found: [_distinct([name for name, _ in found]), found][1])]

_CONFIG = ConfigDict(extra="ignore", arbitrary_types_allowed=False)


@dataclass(config=_CONFIG, kw_only=True)
class Member:
    """A member of the archive."""

    name: Text
    bytes: Count
    sha256: Annotated[Text, Len(64, 64)]


@dataclass(config=_CONFIG, kw_only=True)
class Folds:
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


@dataclass(config=_CONFIG, kw_only=True)
class Seen:
    """What training saw."""

    documents: Annotated[Count, Ge(1)]
    label_documents: list[Annotated[Count, Ge(1)]]
    right: Count | None
    held_out: Folds | tuple[Count, Count]
    penalty: Number
    iterations: Count
    products: Count
    optimality: Number
    reached: bool
    lengths: Annotated[list[Count], Len(LENGTH_CLASSES, LENGTH_CLASSES)]
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


@dataclass(config=_CONFIG, kw_only=True)
class Space:
    """The columns beside the terms."""

    counted: Count
    numbers: Names
    categories: Categories


@dataclass(config=_CONFIG, kw_only=True)
class Kept:
    """The documents that are kept to extend it."""

    stands_for: list[Count]
    numbers: Names
    categories: Categories


@dataclass(config=_CONFIG, kw_only=True)
class Answer:
    """One answer."""

    name: Text = ""
    labels: Annotated[Names, Len(1)]
    calibration: Text
    trained_on: Seen
    space: Space
    arrays: Names = field(default_factory=list)
    kept: Kept | None = None

    def __post_init__(self) -> None:
        seen, held = self.trained_on, self.trained_on.held_out
        _agree(len(seen.label_documents) == len(self.labels), "documents of other labels")
        _agree(not isinstance(held, Folds) or len(held.labels) in (0, len(self.labels)), "folds of other labels")
        _agree(self.kept is None or len(self.kept.stands_for) == len(self.labels), "kept documents of other labels")


Cost = Annotated[float, AfterValidator(_finite)]


@dataclass(config=_CONFIG, kw_only=True)
class Lists:
    """What stood in the files that the plan names."""

    stop_words: list[Text] | None = None
    lemma_table: dict[Text, Text] = field(default_factory=dict)
    costs: dict[Text, dict[Text, Cost]] | None = None
    full_forms: dict[Text, Text] = field(default_factory=dict)
    replacements: dict[Annotated[Text, Len(1)], Text] = field(default_factory=dict)
    keep: list[Text] = field(default_factory=list)


@dataclass(config=_CONFIG, kw_only=True)
class Head:
    """All of it. The plan is checked where plans are."""

    format: Annotated[int, Strict()]
    plan: dict[Text, Any]
    answers: Annotated[list[Answer], Len(1)]
    members: list[Member]
    resources: Lists = field(default_factory=Lists)

    def __post_init__(self) -> None:
        _distinct([answer.name for answer in self.answers])
        _distinct([member.name for member in self.members])


_HEAD = TypeAdapter(Head)


def fault_of(head: dict[str, Any]) -> str:
    """What is wrong with a head, and where; empty for nothing."""
    try:
        _HEAD.validate_python(head)
    except ValidationError as error:
        first = error.errors()[0]
        return f"{'.'.join(map(str, first['loc']))[:80]}: {first['msg'][:80]}"
    return ""


def _agree(sound: bool, otherwise: str) -> None:
    if not sound:
        raise ValueError(otherwise)
