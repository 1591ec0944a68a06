"""The plan: every choice that, with the data and the seed, reproduces a sorter.

Plain dataclasses with the defaults; reading and checking the TOML file is the work of `files.plan`.
"""

from dataclasses import dataclass, field, replace
from typing import Annotated, Any, ClassVar, Literal

from annotated_types import Ge, Gt, Le

_STRICT: dict[str, Any] = {"extra": "forbid"}

Kind = Literal["multinomial-nb", "logistic"]
Weighting = Literal["auto", "count", "presence", "tfidf"]
NAIVE_BAYES_KINDS = frozenset({"multinomial-nb"})


@dataclass(frozen=True)
class Columns:
    """Which columns of the table are what; an empty name means there is none."""

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT
    text: tuple[str, ...] = ()
    label: str = ""
    id: str = ""


@dataclass(frozen=True)
class Clean:
    """How text becomes tokens."""

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT
    language: str = "en"
    steps: tuple[Literal["lower"], ...] = ("lower",)


@dataclass(frozen=True)
class Features:
    """Which terms are kept and how they are weighted.

    weighting: `auto` is `count` for naive Bayes, whose model is of counts, and `tfidf` for the others.
    in_at_least: documents a term must be in. in_at_most: share of the documents a term may be in.
    most_terms: how many terms are kept at most, the most frequent first; 0 for no bound.
    """

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT
    weighting: Weighting = "auto"
    in_at_least: Annotated[int, Ge(1)] = 2
    in_at_most: Annotated[float, Gt(0), Le(1)] = 0.6
    most_terms: Annotated[int, Ge(0)] = 50_000


@dataclass(frozen=True)
class Classifier:
    """Which classifier, and how it is trained.

    smoothing: added to each count (naive Bayes).
    penalty: inverse variance of the normal prior of each weight (logistic); more of it means smaller weights.
    tolerance: training stops when the gradient's norm is this share of its norm at the start.
    most_iterations: training stops there in any case, and says so.
    """

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT
    kind: Kind = "logistic"
    smoothing: Annotated[float, Gt(0)] = 1.0
    penalty: Annotated[float, Ge(0)] = 1.0
    tolerance: Annotated[float, Gt(0), Le(1)] = 1e-4
    most_iterations: Annotated[int, Ge(1)] = 100


@dataclass(frozen=True)
class Judge:
    """How results are measured."""

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT
    folds: Annotated[int, Ge(2)] = 5
    seed: Annotated[int, Ge(0)] = 11


@dataclass(frozen=True)
class Plan:
    """All of it, a section each."""

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT
    columns: Columns = field(default_factory=Columns)
    clean: Clean = field(default_factory=Clean)
    features: Features = field(default_factory=Features)
    classifier: Classifier = field(default_factory=Classifier)
    judge: Judge = field(default_factory=Judge)

    def settled(self) -> "Plan":
        """The same plan with `auto` replaced by what it stands for."""
        if self.features.weighting != "auto":
            return self
        weighting: Weighting = "count" if self.classifier.kind in NAIVE_BAYES_KINDS else "tfidf"
        return replace(self, features=replace(self.features, weighting=weighting))
