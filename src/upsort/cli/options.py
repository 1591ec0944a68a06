"""Options that several commands share, as records, and the options that set the most frequently changed keys of the plan.

Only light modules are imported, so that `--help` is quick."""

from upsort.cli.declaring import (
    Clash,
    CommonOptions,
    Many,
    Rule,
    byte_size,
    flag,
    lengths,
    names,
    number_or_name,
    option,
    points,
    positional,
    repeated,
    share,
    whole_number,
)


class SorterOption(CommonOptions):
    """A sorter to use."""

    sorter: str = positional("a .sorter file made by upsort train", "SORTER")


class InputOption(CommonOptions):
    """What a command reads."""

    input: list[str] = positional("files, folders, archives, patterns; - for standard input", "SOURCE", Many.SOME)


class OptionalInputOption(CommonOptions):
    """Tables to read, where there are any."""

    input: list[str] = positional("files, folders, archives; - for standard input", "SOURCE", Many.ANY, default=[])


class OverwriteOption(CommonOptions):
    """What commands that write files share."""

    overwrite: bool = flag("replace an output that exists", heading="what to write")


class WorkerOptions(CommonOptions):
    """Processes."""

    workers: int = option(
        "processes that share the work, where there is much of it (default: the processors there are, 8 at most)",
        convert=whole_number(1, 256),
        default=0,
        metavar="N",
    )
    cluster: str = option(
        "address of a Dask cluster that shares the work, local:N to try it (default: the one in --plan, else UPSORT_CLUSTER)",
        default="",
        metavar="ADDRESS",
    )


class SeedOption(CommonOptions):
    """Every random choice depends on it."""

    seed: int | None = option(
        "seed of every random choice (default: the plan's)", convert=whole_number(0), metavar="N", sets="judge.seed"
    )


class CostOption(CommonOptions):
    """Deciding otherwise."""

    cost: list[str] = repeated("decide by a table of costs: labels sorted as by true labels", metavar="[ANSWER=]FILE")


class AnswerOption(CommonOptions):
    """One answer of several."""

    answer: str = option("which answer, where the sorter gives several", default="", metavar="COLUMN")


class RequirementOptions(CommonOptions):
    """What becomes of a result."""

    require: list[str] = repeated("end with 3 unless it holds: 'accuracy>=0.8', 'f1:pests>=0.7'", metavar="BOUND")
    no_ledger: bool = flag("do not note the result in upsort-ledger.sqlite")


class MeasureOptions(CommonOptions):
    """How much of a judgement is shown."""

    shares: str = option(
        "confusions as shares of the true label (row), or of the label sorted as (column)", choices=("row", "column"), default=""
    )


class MarginOption(CommonOptions):
    """What counts as no worse."""

    margin: float = option(
        "how far behind the best still counts as no worse (1 point)", convert=points, default=0.01, metavar="POINTS"
    )


class FoldOptions(CommonOptions):
    """How documents are dealt to folds."""

    folds: int | None = option("default: the plan's, 5", convert=whole_number(2), metavar="N", sets="judge.folds")
    repeats: int | None = option(
        "deal the folds so often anew (default: once)", convert=whole_number(1), metavar="N", sets="judge.repeats"
    )
    date_format: str | None = option(
        "how dates are written, such as %%d/%%m/%%Y (default: found out)", metavar="FORM", sets="columns.date_format"
    )
    in_time: bool | None = flag("judge documents by earlier ones (needs columns.date)", sets="judge.in_time")
    alone: bool | None = flag("each document is a fold of its own (tiny corpora)", sets="judge.alone")
    allow_copies: bool | None = flag("copies may be on both sides of a split", sets="judge.allow_copies")


FOLDS_RULES: tuple[Rule, ...] = (
    Clash("--in-time", ("--alone", "--repeats"), "stretches of time are there once"),
    Clash("--alone", ("--folds", "--repeats"), "there are as many folds as documents"),
)


class TextColumnOption(CommonOptions, heading="columns"):
    """The column of texts."""

    text: str | None = option("the text, by name or number; several are joined", metavar="COLUMN[,COLUMN]", sets="columns.text")


class LabelColumnOption(CommonOptions, heading="columns"):
    """The column of labels."""

    label: str | None = option("the label; several give an answer each", metavar="COLUMN[,COLUMN]", sets="columns.label")


class IdColumnOption(CommonOptions, heading="columns"):
    """The column of identifiers."""

    id: str | None = option("what to call a document by", metavar="COLUMN", sets="columns.id")


class VectorOptions(CommonOptions, heading="columns"):
    """Numbers beside a table."""

    document_vectors: str | None = option(
        ".npy file with numbers for each row of the table", metavar="FILE", sets="columns.document_vectors"
    )


class ColumnOptions(TextColumnOption, LabelColumnOption, IdColumnOption, VectorOptions, heading="columns"):
    """All of them."""


class ReadingOptions(CommonOptions, heading="reading"):
    """How sources are read, of commands that set nothing aside."""

    kind: str = option("read as csv, tsv, json, jsonl, xlsx, parquet or text", "--as", default="", metavar="KIND")
    encoding: str = option("encoding of the sources (default: found out)", default="", metavar="NAME")
    delimiter: str = option("what separates cells (default: found out)", default="", metavar="CHARACTER")
    header: bool | None = option("the first row names the columns, or does not", "--header", default=None, either=True)
    header_row: int = option(
        "the line of the row that names the columns, where titles come first", convert=whole_number(1), default=0, metavar="N"
    )
    sheet: str = option("sheet of a spreadsheet (default: the first with rows)", default="", metavar="NAME")
    table: str = option("table of a database (default: its only one)", default="", metavar="NAME")
    query: str = option("what to select from a database", default="", metavar="SELECT")
    each_line: bool = flag("each line of a text file is a document")
    label_from: str = option("label of a text file: its folder, its name, or a PATTERN's group", default="", metavar="HOW")
    unpack_limit: int = option("of an archive (default: 4GB)", convert=byte_size, default=4 * 10**9, metavar="SIZE")
    largest_cell: int = option(
        "of one cell, or of one row (default: 64MB)", convert=byte_size, default=64 * 10**6, metavar="SIZE"
    )


class RejectsOptions(ReadingOptions, heading="reading"):
    """How sources are read."""

    set_aside: str | None = option(
        "where rows that cannot be used go (default: next to the output)", default=None, metavar="FILE", writes="table"
    )


class PlanFileOptions(CommonOptions, heading="plan"):
    """The plan."""

    plan: str | None = option("the plan (default: upsort.toml, where there is one)", default=None, metavar="FILE")
    set: list[str] = repeated(
        "change one key of the plan (what keys there are: upsort plan --explain)", metavar="SECTION.KEY=VALUE"
    )


class LanguageOption(CommonOptions, heading="plan"):
    """Of the texts."""

    language: str | None = option("of the texts, two letters", metavar="CODE", sets="clean.language")


class CleaningOptions(LanguageOption, heading="plan"):
    """Keys of [clean] that are changed most."""

    steps: tuple[str, ...] | None = option(
        "the cleaning steps, in this order", convert=names, metavar="STEP[,STEP]", sets="clean.steps"
    )


class TermOptions(CommonOptions, heading="plan"):
    """Which terms there are."""

    lengths: tuple[int, ...] | None = option(
        "shortest and longest n-grams, such as 1,2", convert=lengths, metavar="N[,N]", sets="features.lengths"
    )
    in_at_least: int | None = option(
        "documents that a term must be in", convert=whole_number(1), metavar="N", sets="features.in_at_least"
    )
    in_at_most: str | None = option("share of the documents that a term may be in", metavar="SHARE", sets="features.in_at_most")
    most_terms: int | None = option(
        "how many terms at most; 0: no bound", convert=whole_number(0), metavar="N", sets="features.most_terms"
    )


class FeatureOptions(TermOptions, heading="plan"):
    """Keys of [features] that are changed most."""

    weighting: str | None = option("of terms in documents", metavar="SCHEME", sets="features.weighting")


class ClassifierOptions(CommonOptions, heading="plan"):
    """Keys of [classifier] that are changed most."""

    classifier: str | None = option(
        "logistic, svm, naive-bayes … (all: upsort plan --explain classifier.kind)", metavar="KIND", sets="classifier.kind"
    )
    penalty: float | str | None = option(
        "on the weights: a number, usual, or auto", metavar="PENALTY", convert=number_or_name, sets="classifier.penalty"
    )


class TrainingOptions(ClassifierOptions, FeatureOptions, CleaningOptions, PlanFileOptions, heading="plan"):
    """The plan of commands that train."""


class DecisionOptions(CommonOptions):
    """How sure a sorter wants to be."""

    decided_accuracy: float | None = option(
        "leave so many undecided that of the others this share is right, measured on folds",
        convert=share,
        metavar="SHARE",
        sets="decide.decided_accuracy",
    )
