"""What upsort train takes."""

from typing import ClassVar

from upsort.cli.declaring import flag, option
from upsort.cli.options import (
    ColumnOptions,
    Command,
    InputOption,
    OverwriteOption,
    RejectsOptions,
    SeedOption,
    WorkerOptions,
)
from upsort.cli.plan_options import DecisionOptions, TrainingOptions
from upsort.core.records import record


@record(frozen=True, kw_only=True, eq=False, repr=False)
class TrainOptions(
    InputOption,
    SeedOption,
    WorkerOptions,
    ColumnOptions,
    RejectsOptions,
    TrainingOptions,
    DecisionOptions,
    OverwriteOption,
):
    """upsort train."""

    HEADING: ClassVar[str] = "what to train"
    no_check: bool = flag("leave out the quick check on held-out documents")
    extendable: bool = flag("keep the counts of the documents' terms, so that upsort extend can add others")
    row_weight: str | None = option(
        "how much each document counts", default=None, metavar="COLUMN", sets="columns.row_weight"
    )
    output: str = option("the sorter file to write", "-o", "--output", metavar="NAME.sorter", writes="sorter")


COMMAND = Command(
    name="train",
    summary="train a sorter on labelled documents",
    description="Train a sorter on labelled documents and save it.",
    example="upsort train parts/train.csv --text message --label topic -o desk.sorter",
    options=TrainOptions,
)
