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
    AnswerOption,
    ColumnOptions,
    RejectsOptions,
    TermOptions,
    CleaningOptions,
    PlanFileOptions,
    OverwriteOption,
    heading="what to list",
):
    input: list[str] = positional("a .sorter file, or labelled tables", "SORTER|SOURCE", Many.SOME)
    way: str = option(
        "ranking of terms (default: weight for a sorter, log-odds for a corpus)",
        choices=("weight", "log-odds", "chi-square", "mutual-information", "likelihood"),
        default="",
    )
    ratios: bool = flag("show how many times as often each term is in documents of its label as in others")
    top: int = option("terms per label (default: 10)", convert=whole_number(1), default=10, metavar="N")
    only: str = option("only this label", default="", metavar="LABEL")
    pair: str = option("compare two labels with each other", default="", metavar="LABEL,LABEL")
    against: bool = flag("also list the terms against each label")
    stable: bool = flag("corpus only: mark terms with the same sign in every fold")
    contexts: int | None = option("corpus only: number of contexts per label", convert=whole_number(1), default=None, metavar="N")
    figures: str | None = option(
        "write figures of the largest labels into a folder",
        default=None,
        metavar="FOLDER",
        writes="terms-*.png frequency-*.png tree.png",
    )
    figures_all: bool = flag("with --figures: of all labels")


OF_A_CORPUS = (
    "--stable",
    "--contexts",
    *spellings_of(ColumnOptions, RejectsOptions, TermOptions, CleaningOptions, PlanFileOptions),
)
"""Options that have no meaning for a sorter's terms."""


TERMS = Command(
    name="terms",
    summary="list the informative terms of each label",
    description="List the terms that speak most for each label (and, with --against, against it): of a sorter\n"
    "by its weights, of a labelled corpus by counts. --full adds the number of documents with each\n"
    "term.",
    example="upsort terms desk.sorter --top 10",
    rules=(
        Clash("--json", ("--against", "--contexts"), "JSON holds both sides, and no examples"),
        Need("--figures-all", ("--figures",)),
        Clash("--ratios", ("--way", "--against", "--stable"), "it ranks terms by the ratios"),
    ),
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
    text_or_table: str = positional("the text, or with --document the table with the document", "TEXT")
    document: str | None = option("explain the document with this ID in the table TEXT", default=None, metavar="ID")
    top: int = option(
        "number of terms to list (default: 12)", convert=whole_number(1), default=12, metavar="N", heading="what to show"
    )
    arithmetic: bool = flag("naive Bayes: show every count and logarithm", heading="what to show")
    among: list[str] | None = option(
        "labelled documents among which to find similar ones",
        many=Many.SOME,
        default=None,
        metavar="TABLE",
        heading="what to show",
    )
    output: str | None = option(
        "write a page (.html)", "-o", "--output", default=None, metavar="FILE", heading="what to show", writes="page"
    )


EXPLAIN = Command(
    name="explain",
    summary="explain why a document got its label",
    description="Explain why a text gets its label. Linear sorters and naive Bayes: the contribution of each known\n"
    "term to the scores of the label and of the next label, which add up exactly. Trees: the\n"
    "questions. Neighbours: the training documents that vote. In multi-label sorters each label is\n"
    "explained against its own threshold.",
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
    most: int = option("number of documents (default: 20)", convert=whole_number(1), default=20, metavar="N")
    output: str | None = option("write their rows to a table", "-o", "--output", default=None, metavar="FILE", writes="table")


NEXT = Command(
    name="next",
    summary="suggest which documents to label next",
    description="Suggest which documents to label next: new contents while few are labelled, then those that\n"
    "the sorter is unsure about, and some at random. -o writes their rows with an empty label\n"
    "column; fill it in and use the table with upsort extend or train.",
    example="upsort next desk.sorter letters-2026.csv --most 30 -o to-label.csv",
    options=NextOptions,
)


class TrendOptions(InputOption, RejectsOptions, OverwriteOption, heading="what to count"):
    label: str = option("label column (default: sorted_label)", default="", metavar="COLUMN")
    by: str = option("column to count by (default: the first with dates)", default="", metavar="COLUMN")
    per: str = option(
        "period, or each value of the column (default: month)", choices=("day", "week", "month", "year", "value"), default="month"
    )
    date_format: str = option("format of dates, such as %%d/%%m/%%Y (default: detected)", default="", metavar="FORM")
    shares: bool = flag("show and draw shares instead of counts")
    output: str | None = option(
        "write the figure (.png or .svg) or the table (.csv …)", "-o", "--output", default=None, metavar="FILE", writes="figure"
    )


TREND = Command(
    name="trend",
    summary="count labels over time or by another column",
    description="Count labels over time, or by another column, and report differences beyond chance.\n"
    "A scored table needs no options: the label is sorted_label, and time the first column of\n"
    "dates.",
    example="upsort trend scored.csv --per month -o trend.png",
    options=TrendOptions,
)
