"""What upsort explain takes."""

from typing import ClassVar

from upsort.cli.declaring import Clash, Many, Need, flag, option, positional, whole_number
from upsort.cli.options import (
    AnswerOption,
    Command,
    IdColumnOption,
    OverwriteOption,
    ReadingOptions,
    SorterOption,
    TextColumnOption,
    VectorOptions,
    spellings_of,
)
from upsort.core.records import record


@record(frozen=True, kw_only=True, eq=False, repr=False)
class ExplainOptions(
    SorterOption, AnswerOption, TextColumnOption, IdColumnOption, VectorOptions, ReadingOptions, OverwriteOption
):
    """upsort explain."""

    HEADING: ClassVar[str] = "what to explain"
    text_or_table: str = positional("the text; with --document a table that holds the document", "TEXT")
    document: str | None = option(
        "explain the document of this identifier in the table TEXT", default=None, metavar="ID"
    )
    top: int = option("terms to list (12)", convert=whole_number(1), default=12, metavar="N", heading="what to show")
    arithmetic: bool = flag("naive Bayes: every count and logarithm", heading="what to show")
    among: list[str] | None = option(
        "labelled documents to look for similar ones in",
        many=Many.SOME,
        default=None,
        metavar="TABLE",
        heading="what to show",
    )
    output: str | None = option(
        "write a page (.html)", "-o", "--output", default=None, metavar="FILE", heading="what to show", writes="page"
    )


COMMAND = Command(
    name="explain",
    summary="why a document got its label",
    description="Why a text gets its label. Of a linear sorter and naive Bayes: what every known term adds to\n"
    "the score of the label, beside the next label; what is shown adds up to the score. Of a tree:\n"
    "its questions; of neighbours: the training documents that have a say. Labels that do not\n"
    "exclude each other are explained one by one, against their thresholds.",
    example='upsort explain desk.sorter "the leaves of my quince are curling"',
    rules=(
        *(Need(name, ("--document", "--among")) for name in spellings_of(ReadingOptions)),
        *(Need(name, ("--document",)) for name in spellings_of(TextColumnOption, IdColumnOption, VectorOptions)),
        Clash("--json", ("--top",), "JSON holds every term"),
    ),
    options=ExplainOptions,
)
