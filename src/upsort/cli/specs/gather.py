"""What upsort gather takes."""

from typing import ClassVar

from upsort.cli.declaring import Many, flag, option, whole_number
from upsort.cli.options import (
    Command,
    IdColumnOption,
    InputOption,
    LabelColumnOption,
    OverwriteOption,
    RejectsOptions,
    TextColumnOption,
    WorkerOptions,
)
from upsort.cli.plan_options import PlanFileOptions
from upsort.core.records import record


@record(frozen=True, kw_only=True, eq=False, repr=False)
class GatherOptions(
    InputOption,
    WorkerOptions,
    TextColumnOption,
    LabelColumnOption,
    IdColumnOption,
    RejectsOptions,
    PlanFileOptions,
    OverwriteOption,
):
    """upsort gather."""

    HEADING: ClassVar[str] = "what to gather"
    output: str = option(
        "the corpus: .csv, .tsv, .jsonl, .parquet or .xlsx", "-o", "--output", metavar="FILE", writes="table"
    )
    take: str | None = option(
        "keep these columns (default: all)", default=None, metavar="COLUMN[,COLUMN]", sets="gather.take"
    )
    rename: list[str] = option("call columns otherwise", many=Many.REPEATED, default=[], metavar="OLD=NEW[,OLD=NEW]")
    relabel: list[str] = option(
        "rename or merge labels", many=Many.REPEATED, default=[], metavar="OLD=NEW[,OLD=NEW]", heading="labels"
    )
    fold_case: bool | None = flag("labels in lower case", heading="labels", sets="gather.fold_case")
    labels: str | None = option(
        "keep these labels, set the others aside",
        default=None,
        metavar="LABEL[,LABEL]",
        heading="labels",
        sets="gather.labels",
    )
    rare_below: int | None = option(
        "set labels with fewer documents aside …",
        convert=whole_number(1),
        default=None,
        metavar="N",
        heading="labels",
        sets="gather.rare_below",
    )
    rare_into: str | None = option(
        "… or give their documents this label",
        default=None,
        metavar="LABEL",
        heading="labels",
        sets="gather.rare_into",
    )
    lines: str | None = option(
        "keep these lines of each document; -1 leaves off the last",
        default=None,
        metavar="FIRST:LAST",
        heading="documents",
    )
    passages: int | None = option(
        "cut into passages of N units",
        convert=whole_number(1),
        default=None,
        metavar="N",
        heading="documents",
        sets="gather.passages",
    )
    passage_unit: str | None = option(
        "default: words",
        choices=("words", "lines", "paragraphs"),
        default=None,
        heading="documents",
        sets="gather.passage_unit",
    )
    overlap: int | None = option(
        "units that passages share",
        convert=whole_number(0),
        default=None,
        metavar="N",
        heading="documents",
        sets="gather.overlap",
    )
    at_least_words: int | None = option(
        "set shorter ones aside",
        convert=whole_number(1),
        default=None,
        metavar="N",
        heading="setting aside",
        sets="gather.at_least_words",
    )
    junk: list[str] | None = option(
        "set aside what matches",
        many=Many.REPEATED,
        default=None,
        metavar="PATTERN",
        heading="setting aside",
        sets="gather.junk",
    )
    drop: str | None = option(
        "repetitions, copies, near-copies",
        default=None,
        metavar="KIND[,KIND]",
        heading="setting aside",
        sets="gather.drop",
    )
    similarity: float | None = option(
        "of a near copy (default: 0.8)",
        convert=float,
        default=None,
        metavar="SHARE",
        heading="setting aside",
        sets="gather.similarity",
    )
    keep: bool | None = flag(
        "only mark such documents, in a column set_aside", heading="setting aside", sets="gather.keep"
    )


COMMAND = Command(
    name="gather",
    summary="read files, folders and archives into one tidy corpus",
    description="Read files, folders, archives and spreadsheets into one tidy corpus. What is of no\n"
    "use is set aside, with its reason. Columns and labels are given by the names that\n"
    "they will have in the corpus.",
    example="upsort gather letters-*.csv --rename Text=message --drop copies -o corpus.csv",
    options=GatherOptions,
)
