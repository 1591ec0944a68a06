"""What upsort extend takes."""

from typing import ClassVar

from upsort.cli.declaring import Many, option
from upsort.cli.options import Command, InputOption, OverwriteOption, RejectsOptions, SorterOption
from upsort.core.records import record


@record(frozen=True, kw_only=True, eq=False, repr=False)
class ExtendOptions(SorterOption, InputOption, RejectsOptions, OverwriteOption):
    """upsort extend."""

    HEADING: ClassVar[str] = "what to add"
    older: list[str] | None = option(
        "the documents it was trained on", "--with", many=Many.SOME, default=None, metavar="OLDER"
    )
    output: str = option("the sorter file to write", "-o", "--output", metavar="NAME.sorter", writes="sorter")


COMMAND = Command(
    name="extend",
    summary="add newly labelled documents to a sorter",
    description="Add newly labelled documents to a sorter, with their new terms and labels, as if it had been\n"
    "trained on all of them. Naive Bayes on counts needs nothing more; a sorter made by train\n"
    "--extendable has kept what it takes (a sample, of very many documents); others need the older\n"
    "documents again, --with OLDER.",
    example="upsort extend desk.sorter labelled-today.csv -o desk-2.sorter",
    options=ExtendOptions,
)
