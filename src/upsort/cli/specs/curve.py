"""What upsort curve takes."""

from typing import ClassVar

from upsort.cli.declaring import option
from upsort.cli.options import (
    FOLDS_RULES,
    ColumnOptions,
    Command,
    FoldOptions,
    InputOption,
    OverwriteOption,
    RejectsOptions,
    SeedOption,
    WorkerOptions,
)
from upsort.cli.plan_options import TrainingOptions
from upsort.core.records import record


@record(frozen=True, kw_only=True, eq=False, repr=False)
class CurveOptions(
    InputOption,
    FoldOptions,
    SeedOption,
    WorkerOptions,
    ColumnOptions,
    RejectsOptions,
    TrainingOptions,
    OverwriteOption,
):
    """upsort curve."""

    HEADING: ClassVar[str] = "what to judge"
    output: str | None = option(
        "write the figure (.png or .svg)", "-o", "--output", default=None, metavar="FILE", writes="figure"
    )


COMMAND = Command(
    name="curve",
    summary="how the result grows with more labelled documents",
    description="How the result grows with more labelled documents. Sorters are trained on growing parts\n"
    "and judged on the same held-out documents.",
    example="upsort curve corpus.csv --text message --label topic -o curve.png",
    rules=FOLDS_RULES,
    options=CurveOptions,
)
