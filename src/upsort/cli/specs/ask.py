"""What upsort ask takes."""

from typing import ClassVar

from upsort.cli.declaring import option, whole_number
from upsort.cli.options import Command, SorterOption
from upsort.core.records import record


@record(frozen=True, kw_only=True, eq=False, repr=False)
class AskOptions(SorterOption):
    """upsort ask."""

    HEADING: ClassVar[str] = "what to ask"
    words: int = option("deciding words (5)", convert=whole_number(0), default=5, metavar="N")


COMMAND = Command(
    name="ask",
    summary="label what is typed, one message at a time",
    description="Type a message and see its label, how probable it is, and the words that decided; an\n"
    "empty line ends it.",
    example="upsort ask desk.sorter",
    options=AskOptions,
)
