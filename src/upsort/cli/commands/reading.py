"""Options of terms, explain, next and trend."""

from upsort.cli.declaring import Clash, Command, Many, Need, flag, option, positional, spellings_of, whole_number
from upsort.cli.options import (
    AnswerOption,
    CleaningOptions,
    ColumnOptions,
    IdColumnOption,
    InputOption,
    OverwriteOption,
    PlanFileOptions,
    ReadingOptions,
    RejectsOptions,
    SeedOption,
    SorterOption,
    TermOptions,
    TextColumnOption,
    VectorOptions,
)


class TermsOptions(
    AnswerOption, ColumnOptions, RejectsOptions, TermOptions, CleaningOptions, PlanFileOptions, heading="what to list"
):
    input: list[str] = positional("a .sorter file, or labelled tables", "SORTER|SOURCE", Many.SOME)
    way: str = option(
        "how terms are ranked (default: weight for a sorter, log-odds for a corpus)",
        choices=("weight", "log-odds", "chi-square", "mutual-information", "likelihood"),
        default="",
    )
    top: int = option("terms a label (default: 10)", convert=whole_number(1), default=10, metavar="N")
    only: str = option("this label alone", default="", metavar="LABEL")
    pair: str = option("each of two labels against the other alone", default="", metavar="LABEL,LABEL")
    against: bool = flag("the terms against each label too")
    stable: bool = flag("of a corpus: mark terms that lean the same way in every fold")
    contexts: int | None = option("of a corpus: so many examples each", convert=whole_number(1), default=None, metavar="N")
    figures: str | None = option("write figures into a folder", default=None, metavar="FOLDER")


OF_A_CORPUS = (
    "--stable",
    "--contexts",
    *spellings_of(ColumnOptions, RejectsOptions, TermOptions, CleaningOptions, PlanFileOptions),
)
"""Options that have no meaning for a sorter's terms."""


TERMS = Command(
    name="terms",
    summary="list the informative terms of each label",
    description="For each label, the terms that speak most for it (and, with --against, against it): of a\n"
    "sorter by its weights, of a labelled corpus by counts. Each comes with its documents, so\n"
    "that a fluke is seen.",
    example="upsort terms desk.sorter --top 10",
    rules=(Clash("--json", ("--against", "--contexts"), "JSON holds both sides, and no examples"),),
    options=TermsOptions,
)


class ExplainOptions(
    SorterOption,
    AnswerOption,
    TextColumnOption,
    IdColumnOption,
    VectorOptions,
    ReadingOptions,
    OverwriteOption,
    heading="what to explain",
):
    text_or_table: str = positional("the text; with --document a table that holds the document", "TEXT")
    document: str | None = option("explain the document of this identifier in the table TEXT", default=None, metavar="ID")
    top: int = option("terms to list (12)", convert=whole_number(1), default=12, metavar="N", heading="what to show")
    arithmetic: bool = flag("naive Bayes: every count and logarithm", heading="what to show")
    among: list[str] | None = option(
        "labelled documents to look for similar ones in", many=Many.SOME, default=None, metavar="TABLE", heading="what to show"
    )
    output: str | None = option(
        "write a page (.html)", "-o", "--output", default=None, metavar="FILE", heading="what to show", writes="page"
    )


EXPLAIN = Command(
    name="explain",
    summary="why a document got its label",
    description="Why a text gets its label. Of a linear sorter and naive Bayes: what every known term adds to\n"
    "the score of the label and of the next label; what is shown adds up to the score. Of a tree:\n"
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
    heading="what to choose from",
):
    most: int = option("how many (default: 20)", convert=whole_number(1), default=20, metavar="N")
    output: str | None = option("write their rows to a table", "-o", "--output", default=None, metavar="FILE", writes="table")


NEXT = Command(
    name="next",
    summary="which unlabelled documents to label next",
    description="Which unlabelled documents to label next: other contents while little is labelled, then more\n"
    "and more those that the sorter is unsure about, and some at random. -o writes their rows with\n"
    "an empty label column; fill it in and give the table to upsort extend or train.",
    example="upsort next desk.sorter letters-2026.csv --most 30 -o to-label.csv",
    options=NextOptions,
)


class TrendOptions(InputOption, RejectsOptions, OverwriteOption, heading="what to count"):
    label: str = option("the label (default: sorted_label)", default="", metavar="COLUMN")
    by: str = option("what to count by (default: the first with dates)", default="", metavar="COLUMN")
    per: str = option(
        "how long a period is; value: each value of the column (default: month)",
        choices=("day", "week", "month", "year", "value"),
        default="month",
    )
    date_format: str = option("how dates are written, such as %%d/%%m/%%Y (default: found out)", default="", metavar="FORM")
    shares: bool = flag("show and draw shares instead of counts")
    output: str | None = option(
        "write the figure (.png or .svg) or the table (.csv …)", "-o", "--output", default=None, metavar="FILE", writes="figure"
    )


TREND = Command(
    name="trend",
    summary="count labels over time or by another column",
    description="Count the labels of a table over time, or by another column, and name what stands out.\n"
    "A scored table needs no options: the label is sorted_label, and time the first column of\n"
    "dates.",
    example="upsort trend scored.csv --per month -o trend.png",
    options=TrendOptions,
)
