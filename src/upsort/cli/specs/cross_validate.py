"""What upsort cross-validate takes."""

from typing import ClassVar

from upsort.cli.declaring import Clash, option
from upsort.cli.options import (
    FOLDS_RULES,
    ColumnOptions,
    Command,
    FoldOptions,
    InputOption,
    MeasureOptions,
    OverwriteOption,
    RejectsOptions,
    RequirementOptions,
    SeedOption,
    WorkerOptions,
)
from upsort.cli.plan_options import DecisionOptions, TrainingOptions
from upsort.core.records import record


@record(frozen=True, kw_only=True, eq=False, repr=False)
class CrossValidateOptions(
    InputOption,
    FoldOptions,
    SeedOption,
    WorkerOptions,
    MeasureOptions,
    RequirementOptions,
    ColumnOptions,
    RejectsOptions,
    TrainingOptions,
    DecisionOptions,
    OverwriteOption,
):
    """upsort cross-validate."""

    HEADING: ClassVar[str] = "what to judge"
    output: str | None = option(
        "write what each document was sorted as, out of fold",
        "-o",
        "--output",
        default=None,
        metavar="FILE",
        writes="table",
    )


COMMAND = Command(
    name="cross-validate",
    summary="judge a plan by folds",
    description="Judge a plan by folds: each document is judged by a sorter trained on the other folds.\n"
    "Vocabulary, bounds, document frequencies, penalty and calibration are learned inside each\n"
    "fold's training part; copies of a document stay on one side.",
    example="upsort cross-validate corpus.csv --text message --label topic --folds 5",
    rules=(
        *FOLDS_RULES,
        Clash("--json", ("--shares", "--measures"), "JSON holds all counts and measures"),
    ),
    options=CrossValidateOptions,
)
