"""What upsort compare takes."""

from typing import ClassVar

from upsort.cli.declaring import Clash, Many, flag, option
from upsort.cli.options import (
    FOLDS_RULES,
    ColumnOptions,
    Command,
    FoldOptions,
    InputOption,
    MarginOption,
    OverwriteOption,
    RejectsOptions,
    RequirementOptions,
    SeedOption,
    WorkerOptions,
)
from upsort.cli.plan_options import DecisionOptions, TrainingOptions
from upsort.core.records import record


@record(frozen=True, kw_only=True, eq=False, repr=False)
class CompareOptions(
    InputOption,
    FoldOptions,
    SeedOption,
    WorkerOptions,
    MarginOption,
    RequirementOptions,
    ColumnOptions,
    RejectsOptions,
    TrainingOptions,
    DecisionOptions,
    OverwriteOption,
):
    """upsort compare."""

    HEADING: ClassVar[str] = "what to compare"
    tries: list[str] = option("what to try", "--try", many=Many.REPEATED, default=[], metavar="KEY=VALUE,VALUE")
    by: str = option("what the best has most of (default: accuracy)", default="accuracy", metavar="MEASURE")
    nested: bool = flag("choose anew in each fold: what choosing the best is worth")
    output: str | None = option(
        "write the winner's plan", "-o", "--output", default=None, metavar="FILE", writes="plan"
    )


COMMAND = Command(
    name="compare",
    summary="judge several plans or classifiers on the same folds, best first",
    description="Judge several plans on the same folds, best first. --try section.key=value,value tries\n"
    "each value; several --try try all combinations. Where a value is a list itself, + joins its\n"
    "parts: --try clean.steps=lower,lower+stem. Tables [try.NAME] of the plan are candidates too.",
    example="upsort compare corpus.csv --label topic --try classifier.kind=logistic,svm",
    rules=(*FOLDS_RULES, Clash("--nested", ("--by",), "it chooses by accuracy")),
    options=CompareOptions,
)
