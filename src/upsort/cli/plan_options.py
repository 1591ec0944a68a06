"""The options that set keys of the plan, those that are changed most; all others are set with --set.

Only light modules are imported: `--help` reads nothing else.
"""

from typing import ClassVar

from upsort.cli.declaring import Many, lengths, names, number_or_name, option, share, whole_number
from upsort.cli.options import CommonOptions
from upsort.core.lazy import record


@record(frozen=True, kw_only=True, eq=False, repr=False)
class PlanFileOptions(CommonOptions):
    """The plan."""

    HEADING: ClassVar[str] = "plan"
    plan: str | None = option("the plan (default: upsort.toml, where there is one)", default=None, metavar="FILE")
    set: list[str] = option(
        "change one key of the plan (what keys there are: upsort plan --explain)",
        many=Many.REPEATED,
        default=[],
        metavar="SECTION.KEY=VALUE",
    )


@record(frozen=True, kw_only=True, eq=False, repr=False)
class LanguageOption(CommonOptions):
    """Of the texts."""

    HEADING: ClassVar[str] = "plan"
    language: str | None = option("of the texts, two letters", default=None, metavar="CODE", sets="clean.language")


@record(frozen=True, kw_only=True, eq=False, repr=False)
class CleaningOptions(LanguageOption):
    """Keys of [clean] that are changed most."""

    HEADING: ClassVar[str] = "plan"
    steps: tuple[str, ...] | None = option(
        "the cleaning steps, in this order", convert=names, default=None, metavar="STEP[,STEP]", sets="clean.steps"
    )


@record(frozen=True, kw_only=True, eq=False, repr=False)
class TermOptions(CommonOptions):
    """Which terms there are."""

    HEADING: ClassVar[str] = "plan"
    lengths: tuple[int, ...] | None = option(
        "shortest and longest n-grams, such as 1,2",
        convert=lengths,
        default=None,
        metavar="N[,N]",
        sets="features.lengths",
    )
    in_at_least: int | None = option(
        "documents that a term must be in",
        convert=whole_number(1),
        default=None,
        metavar="N",
        sets="features.in_at_least",
    )
    in_at_most: str | None = option(
        "share of the documents that a term may be in", default=None, metavar="SHARE", sets="features.in_at_most"
    )
    most_terms: int | None = option(
        "how many terms at most; 0: no bound",
        convert=whole_number(0),
        default=None,
        metavar="N",
        sets="features.most_terms",
    )


@record(frozen=True, kw_only=True, eq=False, repr=False)
class FeatureOptions(TermOptions):
    """Keys of [features] that are changed most."""

    HEADING: ClassVar[str] = "plan"
    weighting: str | None = option("of terms in documents", default=None, metavar="SCHEME", sets="features.weighting")


@record(frozen=True, kw_only=True, eq=False, repr=False)
class ClassifierOptions(CommonOptions):
    """Keys of [classifier] that are changed most."""

    HEADING: ClassVar[str] = "plan"
    classifier: str | None = option(
        "logistic, svm, naive-bayes … (all: upsort plan --explain classifier.kind)",
        default=None,
        metavar="KIND",
        sets="classifier.kind",
    )
    penalty: float | str | None = option(
        "on the weights: a number, usual, or auto",
        default=None,
        metavar="PENALTY",
        convert=number_or_name,
        sets="classifier.penalty",
    )


@record(frozen=True, kw_only=True, eq=False, repr=False)
class TrainingOptions(ClassifierOptions, FeatureOptions, CleaningOptions, PlanFileOptions):
    """The plan of commands that train."""

    HEADING: ClassVar[str] = "plan"


@record(frozen=True, kw_only=True, eq=False, repr=False)
class DecisionOptions(CommonOptions):
    """How sure a sorter wants to be."""

    decided_accuracy: float | None = option(
        "leave so many undecided that of the others this share is right, as folds tell",
        convert=share,
        default=None,
        metavar="SHARE",
        sets="decide.decided_accuracy",
    )
