"""What upsort report takes."""

from typing import ClassVar

from upsort.cli.declaring import Many, option
from upsort.cli.options import (
    AnswerOption,
    ColumnOptions,
    Command,
    InputOption,
    OverwriteOption,
    RejectsOptions,
    SorterOption,
)
from upsort.core.records import record


@record(frozen=True, kw_only=True, eq=False, repr=False)
class ReportOptions(SorterOption, InputOption, AnswerOption, ColumnOptions, RejectsOptions, OverwriteOption):
    """upsort report."""

    HEADING: ClassVar[str] = "what to report on"
    training: list[str] | None = option(
        "what it was trained on: to look for suspects in", many=Many.SOME, default=None, metavar="TABLE"
    )
    output: str = option("the page to write (.html)", "-o", "--output", metavar="FILE", writes="page")


COMMAND = Command(
    name="report",
    summary="one page of all of it",
    description="One page about a sorter, complete in itself: what it was made of, how good it is on\n"
    "labelled documents it has not seen, what it goes by, what looks mislabelled, and how to make\n"
    "it again.",
    example="upsort report desk.sorter parts/held-out.csv -o report.html",
    options=ReportOptions,
)
