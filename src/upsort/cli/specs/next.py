"""What upsort next takes."""

from typing import ClassVar

from upsort.cli.declaring import option, whole_number
from upsort.cli.options import (
    AnswerOption,
    Command,
    IdColumnOption,
    InputOption,
    OverwriteOption,
    RejectsOptions,
    SeedOption,
    SorterOption,
    TextColumnOption,
    VectorOptions,
)
from upsort.core.records import record


@record(frozen=True, kw_only=True, eq=False, repr=False)
class NextOptions(
    SorterOption,
    InputOption,
    AnswerOption,
    SeedOption,
    TextColumnOption,
    IdColumnOption,
    VectorOptions,
    RejectsOptions,
    OverwriteOption,
):
    """upsort next."""

    HEADING: ClassVar[str] = "what to choose from"
    most: int = option("how many (default: 20)", convert=whole_number(1), default=20, metavar="N")
    output: str | None = option(
        "write their rows to a table", "-o", "--output", default=None, metavar="FILE", writes="table"
    )


COMMAND = Command(
    name="next",
    summary="which unlabelled documents to label next",
    description="Which unlabelled documents to label next: other contents while little is labelled, then more\n"
    "and more those that the sorter is unsure about, and some at random. -o writes their rows with\n"
    "an empty label column; fill it in and give the table to upsort extend or train.",
    example="upsort next desk.sorter letters-2026.csv --most 30 -o to-label.csv",
    options=NextOptions,
)
