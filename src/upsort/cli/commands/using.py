"""Options of score, ask, export, report and demo."""

from upsort.cli.declaring import (
    Clash,
    Command,
    CommonOptions,
    Many,
    Need,
    flag,
    option,
    positional,
    share,
    spellings_of,
    whole_number,
)
from upsort.cli.options import (
    AnswerOption,
    ColumnOptions,
    CostOption,
    IdColumnOption,
    InputOption,
    OverwriteOption,
    RejectsOptions,
    SorterOption,
    TextColumnOption,
    VectorOptions,
    WorkerOptions,
)


class ScoreOptions(
    SorterOption,
    InputOption,
    WorkerOptions,
    CostOption,
    TextColumnOption,
    IdColumnOption,
    VectorOptions,
    RejectsOptions,
    heading="what to score",
):
    output: str | None = option(
        "a table, by its ending, or a database's address; with * one for each part of the input (default: standard output)",
        "-o",
        "--output",
        default=None,
        metavar="FILE",
        writes="table",
    )
    into: str = option("the table, where the output is the address of a database", default="", metavar="NAME")
    overwrite: bool = flag("replace an output that exists")
    resume: bool = flag("resume an interrupted run")
    undecided_below: float | None = option("give no label below this probability", convert=share, default=None, metavar="P")
    all_probabilities: bool = flag("a column for each label", heading="what to write")
    thin: bool = flag("only the identifier and the decision", heading="what to write")
    per_document: str = option(
        "one row a document, its passages added up",
        choices=("mean", "median", "trimmed", "product"),
        default="",
        heading="what to write",
    )
    document_column: str = option("names a passage's document", default="document", metavar="COLUMN", heading="what to write")
    spreadsheet_safe: bool = flag("guard cells that begin like a formula", heading="what to write")
    lines: bool = flag("JSON Lines on standard output", heading="what to write")
    flush: bool = flag("answer each line of JSON Lines at once, as a filter", heading="what to write")


SCORE = Command(
    name="score",
    summary="label new documents in bulk",
    description="Label new documents in bulk. Every column is kept; added are sorted_label,\n"
    "sorted_probability, sorted_second_label, sorted_margin, sorted_unknown_share and sorted_remark\n"
    "(with the answer's name where there are several).",
    example="upsort score desk.sorter new.csv -o scored.csv",
    rules=(
        Clash(
            "--flush",
            (
                "--output",
                "--workers",
                "--per-document",
                "--lines",
                "--json",
                "--spreadsheet-safe",
                "--document-vectors",
                *spellings_of(RejectsOptions),
            ),
            "it answers standard input line by line",
        ),
        Clash("--per-document", ("--thin", "--resume"), "a row is a document, made of many"),
        Clash("--lines", ("--output", "--json"), "JSON Lines go to standard output"),
        Need("--document-column", ("--per-document",)),
        Need("--into", ("--output",)),
        Need("--resume", ("--output",)),
        Need("--overwrite", ("--output",)),
    ),
    options=ScoreOptions,
)


class AskOptions(SorterOption, heading="what to ask"):
    words: int = option("deciding words (5)", convert=whole_number(0), default=5, metavar="N")


ASK = Command(
    name="ask",
    summary="label what is typed, one message at a time",
    description="Type a message and see its label, how probable it is, and the words that decided; an\nempty line ends it.",
    example="upsort ask desk.sorter",
    options=AskOptions,
)


class ExportOptions(SorterOption, AnswerOption, heading="what to write"):
    output: str = option("the file, .onnx or .json", "-o", "--output", metavar="FILE", writes="exported")
    overwrite: bool = flag("replace files that exist")


EXPORT = Command(
    name="export",
    summary="write a sorter in an open format",
    description="Write a sorter in an open format, for programs that are not this one: ONNX, from the tokens\n"
    "of texts to labels and probabilities, or plain JSON. NAME.tokens.json next to it has a hundred\n"
    "texts with their tokens and answers, by which another program can be checked.",
    example="upsort export desk.sorter -o desk.onnx",
    rules=(),
    options=ExportOptions,
)


class ReportOptions(
    SorterOption, InputOption, AnswerOption, ColumnOptions, RejectsOptions, OverwriteOption, heading="what to report on"
):
    training: list[str] | None = option(
        "what it was trained on: to look for suspects in", many=Many.SOME, default=None, metavar="TABLE"
    )
    output: str = option("the page to write (.html)", "-o", "--output", metavar="FILE", writes="page")


REPORT = Command(
    name="report",
    summary="one page of all of it",
    description="One page about a sorter, complete in itself: what it was made of, how good it is on\n"
    "labelled documents it has not seen, what it uses, what looks mislabelled, and how to make\n"
    "it again.",
    example="upsort report desk.sorter parts/held-out.csv -o report.html",
    options=ReportOptions,
)


class DemoOptions(CommonOptions, heading="where"):
    folder: str = positional("default: fernhollow", "FOLDER", Many.OPTIONAL, default="fernhollow")
    overwrite: bool = flag("replace the demo's files in a folder that exists")
    files_only: bool = flag("lay out the files and run nothing")
    cluster: str = option(
        "let a Dask cluster share the steps; local:N starts one of N workers for the demo", default="", metavar="ADDRESS"
    )


DEMO = Command(
    name="demo",
    summary="lay the demo corpus into a folder and run the whole example on it",
    description="Lay the demo corpus, the letters of an invented garden's enquiry desk, into a folder\n"
    "and run the whole example on it. Each command is shown before its output, so that it\n"
    "can be typed again.",
    example="upsort demo fernhollow",
    rules=(Clash("--json", ("--files-only",), "it runs nothing, and lists the files"),),
    options=DemoOptions,
)
