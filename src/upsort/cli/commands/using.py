"""Options of score, ask, export, report and demo."""

from upsort.cli.declaring import (
    Clash,
    Command,
    CommonOptions,
    Many,
    Need,
    duration,
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
    LabelColumnOption,
    OverwriteOption,
    RejectsOptions,
    SeedOption,
    SorterOption,
    TextColumnOption,
    TrainingOptions,
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
        "a table or the address of a database; with *, one per part of the input (default: standard output)",
        "-o",
        "--output",
        default=None,
        metavar="FILE",
        writes="table",
    )
    into: str = option("the table, if the output is a database", default="", metavar="NAME")
    overwrite: bool = flag("replace an existing output")
    resume: bool = flag("resume an interrupted run")
    undecided_below: float | None = option(
        "leave documents below this probability undecided", convert=share, default=None, metavar="P"
    )
    all_probabilities: bool = flag("add the probability of each label", heading="what to write")
    similarity: bool = flag(
        "add sorted_similarity, the share of word pairs in common with the nearest training document", heading="what to write"
    )
    thin: bool = flag("only the ID and the decision columns", heading="what to write")
    keep_rejected: bool = flag(
        "also write the rows that cannot be scored, with the reason as sorted_remark", heading="what to write"
    )
    per_document: str = option(
        "one row per document, its passages combined",
        choices=("mean", "median", "trimmed", "product"),
        default="",
        heading="what to write",
    )
    document_column: str = option(
        "column with the document of a passage (default: document)", default="document", metavar="COLUMN", heading="what to write"
    )
    spreadsheet_safe: bool = flag("escape cells that begin like a formula", heading="what to write")
    lines: bool = flag("write JSON Lines to standard output", heading="what to write")
    flush: bool = flag("line filter: answer each line of JSON Lines at once", heading="what to write")
    window: float = option(
        "with --flush: wait so long for more lines, to answer them together (default: 0ms)",
        convert=duration,
        default=0.0,
        metavar="TIME",
        heading="what to write",
    )


SCORE = Command(
    name="score",
    summary="label new documents in bulk",
    description="Label new documents in bulk. All columns are kept; added are sorted_label,\n"
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
                "--keep-rejected",
                "--similarity",
                "--lines",
                "--json",
                "--spreadsheet-safe",
                "--document-vectors",
                *spellings_of(RejectsOptions),
            ),
            "it answers standard input line by line",
        ),
        Clash("--per-document", ("--thin", "--resume", "--keep-rejected", "--similarity"), "a row is a document, made of many"),
        Clash("--lines", ("--output", "--json"), "JSON Lines go to standard output"),
        Need("--document-column", ("--per-document",)),
        Need("--window", ("--flush",)),
        Need("--into", ("--output",)),
        Need("--resume", ("--output",)),
        Need("--overwrite", ("--output",)),
    ),
    options=ScoreOptions,
)


class AskOptions(SorterOption, heading="what to ask"):
    words: int = option("number of deciding words (default: 5)", convert=whole_number(0), default=5, metavar="N")


ASK = Command(
    name="ask",
    summary="label typed messages",
    description="Type a message to see its label, its probability and the deciding words. An empty line ends.",
    example="upsort ask desk.sorter",
    options=AskOptions,
)


class ExportOptions(SorterOption, AnswerOption, heading="what to write"):
    output: str = option("the file, .onnx or .json", "-o", "--output", metavar="FILE", writes="exported")
    overwrite: bool = flag("replace existing files")


EXPORT = Command(
    name="export",
    summary="write a sorter in an open format",
    description="Write a sorter in an open format for other programs: ONNX, from tokens to labels and\n"
    "probabilities, or plain JSON; how texts become tokens is written as data. NAME.tokens.json next to\n"
    "it holds a hundred texts with tokens and answers, to test another program with. Of a sorter with\n"
    "several answers each has files of its own, unless --answer names one.",
    example="upsort export desk.sorter -o desk.onnx",
    rules=(),
    options=ExportOptions,
)


class ReportOptions(
    SorterOption, InputOption, AnswerOption, ColumnOptions, RejectsOptions, OverwriteOption, heading="what to report on"
):
    training: list[str] | None = option("training table: also list its suspects", many=Many.SOME, default=None, metavar="TABLE")
    output: str = option("the page (.html)", "-o", "--output", metavar="FILE", writes="page")


REPORT = Command(
    name="report",
    summary="write a report page about a sorter",
    description="Write a self-contained page about a sorter: its training data, its accuracy on labelled\n"
    "documents that it has not seen, its terms, suspects, and how to reproduce it.",
    example="upsort report desk.sorter parts/held-out.csv -o report.html",
    options=ReportOptions,
)


class DemoOptions(CommonOptions, heading="where"):
    folder: str = positional("the folder (default: fernhollow)", "FOLDER", Many.OPTIONAL, default="fernhollow")
    overwrite: bool = flag("replace the demo's files in an existing folder")
    files_only: bool = flag("write the files and run nothing")
    cluster: str = option("run the steps on a Dask cluster; local:N starts one with N workers", default="", metavar="ADDRESS")


DEMO = Command(
    name="demo",
    summary="write the demo corpus into a folder and run the whole example on it",
    description="Write the demo corpus, the letters of an invented garden's enquiry desk, into a folder and\n"
    "run the whole example on it. Each command is shown before its output.",
    example="upsort demo fernhollow",
    rules=(
        Clash("--json", ("--files-only",), "it runs nothing, and lists the files"),
        Clash("--files-only", ("--cluster",), "it runs nothing"),
    ),
    options=DemoOptions,
)


class RunOptions(
    InputOption,
    SeedOption,
    WorkerOptions,
    TextColumnOption,
    LabelColumnOption,
    IdColumnOption,
    RejectsOptions,
    TrainingOptions,
    OverwriteOption,
    heading="what to run",
):
    output: str = option(
        "folder for desk.sorter, report.html and what they come from",
        "-o",
        "--output",
        metavar="FOLDER",
        writes="train.csv held-out.csv set-aside.csv desk.sorter desk.set-aside.csv mistakes.csv mistakes.set-aside.csv "
        "report*.html",
    )
    hold_out: float = option("share to hold out (default: 0.2)", convert=share, default=0.2, metavar="SHARE")


RUN = Command(
    name="run",
    summary="survey, split, train, evaluate and report in one go",
    description="From a labelled table to a sorter and its report: survey, split, train, evaluate and report, with\n"
    "the same columns and plan. The folder then holds desk.sorter, report.html, mistakes.csv, train.csv\n"
    "and held-out.csv.",
    example="upsort run corpus.csv --text message --label topic -o desk/",
    options=RunOptions,
)
