"""What upsort suspects takes."""

from typing import ClassVar

from upsort.cli.declaring import Clash, option, whole_number
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
class SuspectsOptions(
    InputOption,
    FoldOptions,
    SeedOption,
    WorkerOptions,
    ColumnOptions,
    RejectsOptions,
    TrainingOptions,
    OverwriteOption,
):
    """upsort suspects."""

    HEADING: ClassVar[str] = "what to look through"
    top: int = option("how many to show (15)", convert=whole_number(0), default=15, metavar="N")
    most: int | None = option(
        "list the N most suspicious (default: those more likely wrong than right)",
        convert=whole_number(1),
        default=None,
        metavar="N",
    )
    output: str | None = option(
        "write the suspicious rows to a table", "-o", "--output", default=None, metavar="FILE", writes="table"
    )


COMMAND = Command(
    name="suspects",
    summary="list labelled documents that look mislabelled",
    description="List labelled documents whose own label looks wrong to sorters that never saw them, most\n"
    "suspicious first. -o writes their rows with the label they rather have: correct the label column\n"
    "there and gather it with the rest.",
    example="upsort suspects corpus.csv --text message --label topic -o suspects.csv",
    rules=(*FOLDS_RULES, Clash("--json", ("--top",), "JSON lists all")),
    options=SuspectsOptions,
)
