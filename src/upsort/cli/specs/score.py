"""What upsort score takes."""

from typing import ClassVar

from upsort.cli.declaring import Clash, Need, flag, option, share
from upsort.cli.options import (
    Command,
    CostOption,
    IdColumnOption,
    InputOption,
    RejectsOptions,
    SorterOption,
    TextColumnOption,
    VectorOptions,
    WorkerOptions,
    spellings_of,
)
from upsort.core.records import record


@record(frozen=True, kw_only=True, eq=False, repr=False)
class ScoreOptions(
    SorterOption,
    InputOption,
    WorkerOptions,
    CostOption,
    TextColumnOption,
    IdColumnOption,
    VectorOptions,
    RejectsOptions,
):
    """upsort score."""

    HEADING: ClassVar[str] = "what to score"
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
    resume: bool = flag("go on with an interrupted run")
    undecided_below: float | None = option(
        "give no label below this probability", convert=share, default=None, metavar="P"
    )
    all_probabilities: bool = flag("a column for each label", heading="what to write")
    thin: bool = flag("only the identifier and the decision", heading="what to write")
    per_document: str = option(
        "one row a document, its passages added up",
        choices=("mean", "median", "trimmed", "product"),
        default="",
        heading="what to write",
    )
    document_column: str = option(
        "names a passage's document", default="document", metavar="COLUMN", heading="what to write"
    )
    spreadsheet_safe: bool = flag("guard cells that begin like a formula", heading="what to write")
    lines: bool = flag("JSON Lines on standard output", heading="what to write")
    flush: bool = flag("answer each line of JSON Lines at once, as a filter", heading="what to write")


COMMAND = Command(
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
