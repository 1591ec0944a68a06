"""Options of gather, survey and split."""

from upsort.cli.declaring import Clash, Command, Need, flag, option, repeated, share, share_or_all, whole_number
from upsort.cli.options import (
    IdColumnOption,
    InputOption,
    LabelColumnOption,
    LanguageOption,
    OverwriteOption,
    PlanFileOptions,
    RejectsOptions,
    SeedOption,
    TextColumnOption,
    WorkerOptions,
)


class GatherOptions(
    InputOption,
    WorkerOptions,
    TextColumnOption,
    LabelColumnOption,
    IdColumnOption,
    RejectsOptions,
    PlanFileOptions,
    OverwriteOption,
    heading="what to gather",
):
    output: str = option("the corpus: .csv, .tsv, .jsonl, .parquet or .xlsx", "-o", "--output", metavar="FILE", writes="table")
    take: str | None = option("keep these columns (default: all)", metavar="COLUMN[,COLUMN]", sets="gather.take")
    rename: list[str] = repeated("rename columns", metavar="OLD=NEW[,OLD=NEW]")
    relabel: list[str] = repeated("rename or merge labels", metavar="OLD=NEW[,OLD=NEW]", heading="labels")
    fold_case: bool | None = flag("convert labels to lower case", heading="labels", sets="gather.fold_case")
    labels: str | None = option(
        "keep only these labels, set other documents aside", metavar="LABEL[,LABEL]", heading="labels", sets="gather.labels"
    )
    missing_labels: str | None = option(
        "cells that stand for no label, such as -,n/a", metavar="CELL[,CELL]", heading="labels", sets="columns.missing_labels"
    )
    rare_below: int | None = option(
        "set documents of labels with fewer than N aside …",
        convert=whole_number(1),
        metavar="N",
        heading="labels",
        sets="gather.rare_below",
    )
    rare_into: str | None = option("… or give them this label", metavar="LABEL", heading="labels", sets="gather.rare_into")
    lines: str | None = option(
        "keep these lines of each document; -1 omits the last", default=None, metavar="FIRST:LAST", heading="documents"
    )
    passages: int | None = option(
        "cut documents into passages of N units",
        convert=whole_number(1),
        metavar="N",
        heading="documents",
        sets="gather.passages",
    )
    passage_unit: str | None = option(
        "unit of passages (default: words)",
        choices=("words", "lines", "paragraphs"),
        heading="documents",
        sets="gather.passage_unit",
    )
    overlap: int | None = option(
        "units that neighbouring passages share", convert=whole_number(0), metavar="N", heading="documents", sets="gather.overlap"
    )
    at_least_words: int | None = option(
        "set documents with fewer words aside",
        convert=whole_number(1),
        metavar="N",
        heading="setting aside",
        sets="gather.at_least_words",
    )
    junk: list[str] | None = repeated(
        "set documents that match aside", metavar="PATTERN", heading="setting aside", sets="gather.junk"
    )
    drop: str | None = option(
        "kinds to set aside: repetitions, copies, near-copies", metavar="KIND[,KIND]", heading="setting aside", sets="gather.drop"
    )
    similarity: float | None = option(
        "similarity of near copies (default: 0.8)",
        convert=share_or_all,
        metavar="SHARE",
        heading="setting aside",
        sets="gather.similarity",
    )
    keep: bool | None = flag("only mark such documents in a column set_aside", heading="setting aside", sets="gather.keep")


GATHER = Command(
    name="gather",
    summary="read files, folders and archives into one tidy corpus",
    description="Read files, folders, archives and spreadsheets into one tidy corpus. Unusable documents are\n"
    "set aside, each with its reason. Options use the names that columns and labels have in the\n"
    "corpus.",
    example="upsort gather letters-*.csv --rename Text=message --drop copies -o corpus.csv",
    options=GatherOptions,
)


class SurveyOptions(
    InputOption,
    WorkerOptions,
    TextColumnOption,
    LabelColumnOption,
    IdColumnOption,
    RejectsOptions,
    LanguageOption,
    PlanFileOptions,
    OverwriteOption,
    heading="what to survey",
):
    columns: bool = flag("list the columns with types and examples")
    shortest: int = option("number of shortest documents to list", convert=whole_number(0), default=5, metavar="N")
    top: int = option("frequent terms per list (default: 8)", convert=whole_number(1), default=8, metavar="N")
    figures: str | None = option(
        "write figures into a folder",
        default=None,
        metavar="FOLDER",
        writes=" ".join(f"{name}.{{figure_kind}}" for name in ("labels", "lengths", "terms", "all-terms", "words", "months")),
    )
    figure_kind: str = option("format of figures (default: png)", choices=("png", "svg"), default="png")
    show: int | None = option(
        "print N random documents", convert=whole_number(1), default=None, metavar="N", heading="single documents"
    )
    find: str | None = option("show a word in its contexts", default=None, metavar="WORD", heading="single documents")
    as_written: bool = flag("show words before cleaning; make --find case-sensitive")
    where: list[str] = repeated("restrict --show or --find to such documents", metavar="COLUMN=VALUE", heading="single documents")
    seed: int | None = option(
        "random seed (default: the plan's)", convert=whole_number(0), metavar="N", heading="single documents", sets="judge.seed"
    )


_WHOLE = ("--shortest", "--top", "--figures", "--set-aside")  # what only a survey of everything shows


SURVEY = Command(
    name="survey",
    summary="show labels, lengths, duplicates, terms and problems of a corpus",
    description="Show what is in a corpus before training: labels, lengths, duplicates, odd documents,\n"
    "frequent terms, other columns, and problems with the commands that fix them. Start with\n"
    "--columns on an unknown file.",
    example="upsort survey corpus.csv --text message --label topic --figures figures",
    rules=(
        Clash(
            "--columns",
            ("--shortest", "--top", "--figures", "--show", "--find", "--where", "--set-aside", "--language", "--as-written"),
            "it only lists the columns",
        ),
        Clash("--find", (*_WHOLE, "--seed"), "it looks for a word alone"),
        Clash("--show", (*_WHOLE, "--language", "--as-written"), "it shows single documents alone"),
        Clash("--where", _WHOLE, "it picks single documents"),
        Need("--figure-kind", ("--figures",)),
        Need("--seed", ("--show", "--where")),
    ),
    options=SurveyOptions,
)


class SplitOptions(
    InputOption,
    SeedOption,
    TextColumnOption,
    LabelColumnOption,
    IdColumnOption,
    RejectsOptions,
    PlanFileOptions,
    OverwriteOption,
    heading="what to split",
):
    hold_out: float = option("share to hold out (default: 0.2)", convert=share, default=0.2, metavar="SHARE")
    in_time: bool | None = flag("hold out the latest rows (needs columns.date)", sets="judge.in_time")
    date_format: str | None = option(
        "format of dates, such as %%d/%%m/%%Y (default: detected)", metavar="FORM", sets="columns.date_format"
    )
    allow_copies: bool | None = flag("allow duplicates on both sides", sets="judge.allow_copies")
    output: str = option(
        "folder for train.csv and held-out.csv", "-o", "--output", metavar="FOLDER", writes="train.csv held-out.csv"
    )


SPLIT = Command(
    name="split",
    summary="divide a corpus into a training and a held-out part",
    description="Divide a corpus into a training part and a held-out part, stratified by label.",
    example="upsort split corpus.csv --label topic --hold-out 0.2 --seed 5 -o parts/",
    rules=(Clash("--in-time", ("--seed",), "the latest rows are held out, whatever the seed"),),
    options=SplitOptions,
)
