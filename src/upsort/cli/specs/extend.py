"""What upsort extend takes."""

from dataclasses import dataclass
from typing import ClassVar

from upsort.cli.declaring import Many, option
from upsort.cli.options import Command, Reading, SorterFile, Sources


@dataclass(frozen=True, kw_only=True, eq=False, repr=False)
class ExtendOptions(SorterFile, Sources, Reading):
    """upsort extend."""

    HEADING: ClassVar[str] = "what to add"
    older: list[str] | None = option(
        "the documents it was trained on", "--with", many=Many.SOME, default=None, metavar="OLDER"
    )
    output: str = option("the sorter file to write", "-o", "--output", metavar="NAME.sorter")


COMMAND = Command(
    name="extend",
    summary="add newly labelled documents to a sorter",
    description="Add newly labelled documents to a sorter. Naive Bayes: exactly as if trained on all of\n"
    "them. Other kinds: with --with OLDER exactly too; without it, linear ones are drawn from their\n"
    "earlier weights towards the new documents, which is not the same as training on all.",
    example="upsort extend desk.sorter labelled-today.csv -o desk-2.sorter",
    options=ExtendOptions,
)
