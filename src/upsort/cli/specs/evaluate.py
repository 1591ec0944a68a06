"""What upsort evaluate takes."""

from typing import ClassVar

from upsort.cli.declaring import Clash, Many, Need, option, share, whole_number
from upsort.cli.options import (
    ColumnOptions,
    Command,
    CostOption,
    InputOption,
    MeasureOptions,
    OverwriteOption,
    RejectsOptions,
    RequirementOptions,
    SorterOption,
    WorkerOptions,
)
from upsort.core.records import record


@record(frozen=True, kw_only=True, eq=False, repr=False)
class EvaluateOptions(
    SorterOption,
    InputOption,
    WorkerOptions,
    CostOption,
    MeasureOptions,
    RequirementOptions,
    ColumnOptions,
    RejectsOptions,
    OverwriteOption,
):
    """upsort evaluate."""

    HEADING: ClassVar[str] = "what to judge"
    output: str | None = option(
        "write the documents it got wrong to a table", "-o", "--output", default=None, metavar="FILE", writes="table"
    )
    mistakes: int = option("how many mistakes to show", convert=whole_number(0), default=5, metavar="N")
    figures: str | None = option("write figures into a folder", default=None, metavar="FOLDER")
    by: str = option("the results for each value of a column", default="", metavar="COLUMN")
    training: list[str] | None = option(
        "what it was trained on: its near copies are left out, and told",
        many=Many.SOME,
        default=None,
        metavar="TABLE",
    )
    per_document: str = option(
        "add up the passages of each document", choices=("mean", "median", "trimmed", "product"), default=""
    )
    document_column: str = option("names a passage's document", default="document", metavar="COLUMN")
    undecided_below: float | None = option(
        "leave less probable ones undecided", convert=share, default=None, metavar="P"
    )


COMMAND = Command(
    name="evaluate",
    summary="judge a sorter on labelled documents",
    description="Judge a sorter on labelled documents that it was not trained on.",
    example="upsort evaluate desk.sorter parts/held-out.csv -o mistakes.csv",
    rules=(
        Need("--document-column", ("--per-document",)),
        Clash("--json", ("--shares", "--measures"), "JSON holds all counts and measures"),
    ),
    options=EvaluateOptions,
)
