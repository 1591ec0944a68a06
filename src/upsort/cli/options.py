"""Options that several commands share, as records, and the options that set the most frequently changed keys of the plan.

Only light modules are imported, so that `--help` is quick."""

from typing import ClassVar

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
    share,
    whole_number,
)
from upsort.core.lazy import record


@record(frozen=True, kw_only=True, eq=False, repr=False)
class SorterOption(CommonOptions):
    """A sorter to use."""

    sorter: str = positional("a .sorter file made by upsort train", "SORTER")


@record(frozen=True, kw_only=True, eq=False, repr=False)
class InputOption(CommonOptions):
    """What a command reads."""

    input: list[str] = positional("files, folders, archives, patterns; - for standard input", "SOURCE", Many.SOME)


@record(frozen=True, kw_only=True, eq=False, repr=False)
class OptionalInputOption(CommonOptions):
    """Tables to read, where there are any."""

    input: list[str] = positional("files, folders, archives; - for standard input", "SOURCE", Many.ANY, default=[])


@record(frozen=True, kw_only=True, eq=False, repr=False)
class OverwriteOption(CommonOptions):
    """What commands that write files share."""

    overwrite: bool = flag("replace an output that exists", heading="what to write")


@record(frozen=True, kw_only=True, eq=False, repr=False)
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


@record(frozen=True, kw_only=True, eq=False, repr=False)
class SeedOption(CommonOptions):
    """Every random choice depends on it."""

    seed: int | None = option(
        "seed of every random choice (default: the plan's)", convert=whole_number(0), default=None, metavar="N", sets="judge.seed"
    )


@record(frozen=True, kw_only=True, eq=False, repr=False)
class CostOption(CommonOptions):
    """Deciding otherwise."""

    cost: list[str] = option(
        "decide by a table of costs: labels sorted as by true labels", many=Many.REPEATED, default=[], metavar="[ANSWER=]FILE"
    )


@record(frozen=True, kw_only=True, eq=False, repr=False)
class AnswerOption(CommonOptions):
    """One answer of several."""

    answer: str = option("which answer, where the sorter gives several", default="", metavar="COLUMN")


@record(frozen=True, kw_only=True, eq=False, repr=False)
class RequirementOptions(CommonOptions):
    """What becomes of a result."""

    require: list[str] = option(
        "end with 3 unless it holds: 'accuracy>=0.8', 'f1:pests>=0.7'", many=Many.REPEATED, default=[], metavar="BOUND"
    )
    no_ledger: bool = flag("do not note the result in upsort-ledger.sqlite")


@record(frozen=True, kw_only=True, eq=False, repr=False)
class MeasureOptions(CommonOptions):
    """How much of a judgement is shown."""

    shares: str = option(
        "confusions as shares of the true label (row), or of the label sorted as (column)", choices=("row", "column"), default=""
    )
    measures: bool = flag("all measures, as a table")


@record(frozen=True, kw_only=True, eq=False, repr=False)
class MarginOption(CommonOptions):
    """What counts as no worse."""

    margin: float = option(
        "how far behind the best still counts as no worse (1 point)", convert=points, default=0.01, metavar="POINTS"
    )


@record(frozen=True, kw_only=True, eq=False, repr=False)
class FoldOptions(CommonOptions):
    """How documents are dealt to folds."""

    folds: int | None = option("default: the plan's, 5", convert=whole_number(2), default=None, metavar="N", sets="judge.folds")
    repeats: int | None = option(
        "deal the folds so often anew (default: once)", convert=whole_number(1), default=None, metavar="N", sets="judge.repeats"
    )
    date_format: str | None = option(
        "how dates are written, such as %%d/%%m/%%Y (default: found out)",
        default=None,
        metavar="FORM",
        sets="columns.date_format",
    )
    in_time: bool | None = flag("judge documents by earlier ones (needs columns.date)", sets="judge.in_time")
    alone: bool | None = flag("each document is a fold of its own (tiny corpora)", sets="judge.alone")
    allow_copies: bool | None = flag("copies may stand on both sides of a split", sets="judge.allow_copies")


FOLDS_RULES: tuple[Rule, ...] = (
    Clash("--in-time", ("--alone", "--repeats"), "stretches of time are there once"),
    Clash("--alone", ("--folds", "--repeats"), "there are as many folds as documents"),
)


@record(frozen=True, kw_only=True, eq=False, repr=False)
class TextColumnOption(CommonOptions):
    """The column of texts."""

    HEADING: ClassVar[str] = "columns"
    text: str | None = option(
        "the text, by name or number; several are joined", default=None, metavar="COLUMN[,COLUMN]", sets="columns.text"
    )


@record(frozen=True, kw_only=True, eq=False, repr=False)
class LabelColumnOption(CommonOptions):
    """The column of labels."""

    HEADING: ClassVar[str] = "columns"
    label: str | None = option(
        "the label; several give an answer each", default=None, metavar="COLUMN[,COLUMN]", sets="columns.label"
    )


@record(frozen=True, kw_only=True, eq=False, repr=False)
class IdColumnOption(CommonOptions):
    """The column of identifiers."""

    HEADING: ClassVar[str] = "columns"
    id: str | None = option("what to call a document by", default=None, metavar="COLUMN", sets="columns.id")


@record(frozen=True, kw_only=True, eq=False, repr=False)
class VectorOptions(CommonOptions):
    """Numbers beside a table."""

    HEADING: ClassVar[str] = "columns"
    document_vectors: str | None = option(
        ".npy file with numbers for each row of the table", default=None, metavar="FILE", sets="columns.document_vectors"
    )


@record(frozen=True, kw_only=True, eq=False, repr=False)
class ColumnOptions(TextColumnOption, LabelColumnOption, IdColumnOption, VectorOptions):
    """All of them."""

    HEADING: ClassVar[str] = "columns"


@record(frozen=True, kw_only=True, eq=False, repr=False)
class ReadingOptions(CommonOptions):
    """How sources are read, of commands that set nothing aside."""

    HEADING: ClassVar[str] = "reading"
    kind: str = option("read as csv, tsv, json, jsonl, xlsx, parquet or text", "--as", default="", metavar="KIND")
    encoding: str = option("encoding of the sources (default: found out)", default="", metavar="NAME")
    delimiter: str = option("what separates cells (default: found out)", default="", metavar="CHARACTER")
    header: bool | None = option("the first row names the columns, or does not", "--header", default=None, either=True)
    header_row: int = option(
        "the line of the row that names the columns, where titles stand above", convert=whole_number(1), default=0, metavar="N"
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


@record(frozen=True, kw_only=True, eq=False, repr=False)
class RejectsOptions(ReadingOptions):
    """How sources are read."""

    HEADING: ClassVar[str] = "reading"
    set_aside: str | None = option(
        "where rows that cannot be used go (default: beside the output)", default=None, metavar="FILE", writes="table"
    )


@record(frozen=True, kw_only=True, eq=False, repr=False)
class PlanFileOptions(CommonOptions):
    """The plan."""

    HEADING: ClassVar[str] = "plan"
    plan: str | None = option("the plan (default: upsort.toml, where there is one)", default=None, metavar="FILE")
    set: list[str] = option(
        "change one key of the plan (what keys there are: upsort plan --explain)",
        many=Many.REPEATED,
        default=[],
        metavar="SECTION.KEY=VALUE",
    )


@record(frozen=True, kw_only=True, eq=False, repr=False)
class LanguageOption(CommonOptions):
    """Of the texts."""

    HEADING: ClassVar[str] = "plan"
    language: str | None = option("of the texts, two letters", default=None, metavar="CODE", sets="clean.language")


@record(frozen=True, kw_only=True, eq=False, repr=False)
class CleaningOptions(LanguageOption):
    """Keys of [clean] that are changed most."""

    HEADING: ClassVar[str] = "plan"
    steps: tuple[str, ...] | None = option(
        "the cleaning steps, in this order", convert=names, default=None, metavar="STEP[,STEP]", sets="clean.steps"
    )


@record(frozen=True, kw_only=True, eq=False, repr=False)
class TermOptions(CommonOptions):
    """Which terms there are."""

    HEADING: ClassVar[str] = "plan"
    lengths: tuple[int, ...] | None = option(
        "shortest and longest n-grams, such as 1,2", convert=lengths, default=None, metavar="N[,N]", sets="features.lengths"
    )
    in_at_least: int | None = option(
        "documents that a term must be in", convert=whole_number(1), default=None, metavar="N", sets="features.in_at_least"
    )
    in_at_most: str | None = option(
        "share of the documents that a term may be in", default=None, metavar="SHARE", sets="features.in_at_most"
    )
    most_terms: int | None = option(
        "how many terms at most; 0: no bound", convert=whole_number(0), default=None, metavar="N", sets="features.most_terms"
    )


@record(frozen=True, kw_only=True, eq=False, repr=False)
class FeatureOptions(TermOptions):
    """Keys of [features] that are changed most."""

    HEADING: ClassVar[str] = "plan"
    weighting: str | None = option("of terms in documents", default=None, metavar="SCHEME", sets="features.weighting")


@record(frozen=True, kw_only=True, eq=False, repr=False)
class ClassifierOptions(CommonOptions):
    """Keys of [classifier] that are changed most."""

    HEADING: ClassVar[str] = "plan"
    classifier: str | None = option(
        "logistic, svm, naive-bayes … (all: upsort plan --explain classifier.kind)",
        default=None,
        metavar="KIND",
        sets="classifier.kind",
    )
    penalty: float | str | None = option(
        "on the weights: a number, usual, or auto",
        default=None,
        metavar="PENALTY",
        convert=number_or_name,
        sets="classifier.penalty",
    )


@record(frozen=True, kw_only=True, eq=False, repr=False)
class TrainingOptions(ClassifierOptions, FeatureOptions, CleaningOptions, PlanFileOptions):
    """The plan of commands that train."""

    HEADING: ClassVar[str] = "plan"


@record(frozen=True, kw_only=True, eq=False, repr=False)
class DecisionOptions(CommonOptions):
    """How sure a sorter wants to be."""

    decided_accuracy: float | None = option(
        "leave so many undecided that of the others this share is right, as folds tell",
        convert=share,
        default=None,
        metavar="SHARE",
        sets="decide.decided_accuracy",
    )
