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
    share_or_all,
    whole_number,
)


class SorterOption(CommonOptions):
    """A sorter to use."""

    sorter: str = positional("a sorter file, written by upsort train", "SORTER")


class InputOption(CommonOptions):
    """What a command reads."""

    input: list[str] = positional("files, folders, archives, patterns; - for standard input", "SOURCE", Many.SOME)


class OptionalInputOption(CommonOptions):
    """Tables to read, where there are any."""

    input: list[str] = positional("files, folders, archives; - for standard input", "SOURCE", Many.ANY, default=[])


class OverwriteOption(CommonOptions):
    """What commands that write files share."""

    overwrite: bool = flag("replace an existing output", heading="what to write")


class WorkerOptions(CommonOptions, heading="workers"):
    """Who does the work."""

    workers: int = option(
        "number of threads for large inputs (default: number of processors, at most 8)",
        convert=whole_number(1, 256),
        default=0,
        metavar="N",
    )
    cluster: str = option(
        "address of a Dask cluster, or local:N (default: that of --plan, else UPSORT_CLUSTER)", default="", metavar="ADDRESS"
    )


class SeedOption(CommonOptions):
    """Every random choice depends on it."""

    seed: int | None = option("random seed (default: the plan's)", convert=whole_number(0), metavar="N", sets="judge.seed")


class CostOption(CommonOptions):
    """Deciding otherwise."""

    cost: list[str] = repeated("costs: a row for each predicted label, a column for each true label", metavar="[ANSWER=]FILE")


class AnswerOption(CommonOptions):
    """One answer of several."""

    answer: str = option("which answer, if the sorter gives several", default="", metavar="COLUMN")


class RequirementOptions(CommonOptions):
    """What becomes of a result."""

    require: list[str] = repeated("exit with 3 unless it holds: 'accuracy>=0.8', 'f1:pests>=0.7'", metavar="BOUND")
    no_ledger: bool = flag("do not record the result in upsort-ledger.sqlite")


class MeasureOptions(CommonOptions):
    """How much of a judgement is shown."""

    shares: str = option(
        "confusion table in percent of the true label (row) or the predicted one (column)", choices=("row", "column"), default=""
    )


class MarginOption(CommonOptions):
    """What counts as no worse."""

    margin: float = option(
        "difference to the best that counts as no worse, in points (default: 1)", convert=points, default=0.01, metavar="POINTS"
    )


class FoldOptions(CommonOptions):
    """How documents are dealt to folds."""

    folds: int | None = option(
        "number of folds (default: the plan's, 5)", convert=whole_number(2), metavar="N", sets="judge.folds"
    )
    repeats: int | None = option(
        "repeat cross-validation N times (default: 1)", convert=whole_number(1), metavar="N", sets="judge.repeats"
    )
    date_format: str | None = option(
        "format of dates, such as %%d/%%m/%%Y (default: detected)", metavar="FORM", sets="columns.date_format"
    )
    in_time: bool | None = flag("train on earlier documents, evaluate on later ones (needs columns.date)", sets="judge.in_time")
    alone: bool | None = flag("hold out one document at a time (tiny corpora)", sets="judge.alone")
    allow_copies: bool | None = flag("allow duplicates on both sides of a split", sets="judge.allow_copies")


FOLDS_RULES: tuple[Rule, ...] = (
    Clash("--in-time", ("--alone", "--repeats"), "the dates decide how the documents are split"),
    Clash("--alone", ("--folds", "--repeats"), "there are as many folds as documents"),
)


class TextColumnOption(CommonOptions, heading="columns"):
    """The column of texts."""

    text: str | None = option(
        "text column, by name or number; several are joined", metavar="COLUMN[,COLUMN]", sets="columns.text"
    )


class LabelColumnOption(CommonOptions, heading="columns"):
    """The column of labels."""

    label: str | None = option("label column; several give one answer each", metavar="COLUMN[,COLUMN]", sets="columns.label")


class IdColumnOption(CommonOptions, heading="columns"):
    """The column of identifiers."""

    id: str | None = option("ID column", metavar="COLUMN", sets="columns.id")


class VectorOptions(CommonOptions, heading="columns"):
    """Numbers beside a table."""

    document_vectors: str | None = option(".npy file with one vector per row", metavar="FILE", sets="columns.document_vectors")


class ColumnOptions(TextColumnOption, LabelColumnOption, IdColumnOption, VectorOptions, heading="columns"):
    """All of them."""


class ReadingOptions(CommonOptions, heading="reading"):
    """How sources are read, of commands that set nothing aside."""

    kind: str = option("format of the sources: csv, tsv, json, jsonl, xlsx, parquet or text", "--as", default="", metavar="KIND")
    encoding: str = option("encoding of the sources (default: detected)", default="", metavar="NAME")
    delimiter: str = option("cell delimiter (default: detected)", default="", metavar="CHARACTER")
    header: bool | None = option("whether the first row holds the column names", "--header", default=None, either=True)
    header_row: int = option(
        "line of the row with the column names, if titles precede it", convert=whole_number(1), default=0, metavar="N"
    )
    sheet: str = option("sheet of a spreadsheet (default: the first with rows)", default="", metavar="NAME")
    rows: str = option("path of the rows inside a JSON document, such as data.rows (default: found)", default="", metavar="PATH")
    table: str = option("table of a database (default: its only one)", default="", metavar="NAME")
    columns: tuple[str, ...] | bool = option(  # upsort survey lists them instead
        "columns of a database table to read (default: all)", convert=names, default=(), metavar="COLUMN[,COLUMN]"
    )
    query: str = option("query for a database", default="", metavar="SELECT")
    each_line: bool = flag("each line of a text file is a document")
    label_from: str = option("label of a text file: folder, name, or the group of a PATTERN", default="", metavar="HOW")
    unpack_limit: int = option("largest unpacked archive (default: 4GB)", convert=byte_size, default=4 * 10**9, metavar="SIZE")
    largest_cell: int = option("largest cell or row (default: 64MB)", convert=byte_size, default=64 * 10**6, metavar="SIZE")


class RejectsOptions(ReadingOptions, heading="reading"):
    """How sources are read."""

    set_aside: str | None = option(
        "file for rows that cannot be used (default: next to the output)", default=None, metavar="FILE", writes="table"
    )


DEFAULT_NAME = "upsort.toml"
"""The plan that is read where none is named."""


class PlanFileOptions(CommonOptions, heading="plan"):
    """The plan."""

    plan: str | None = option("plan file (default: upsort.toml if it exists)", default=None, metavar="FILE")
    set: list[str] = repeated("set one key of the plan (list of keys: upsort plan --explain)", metavar="SECTION.KEY=VALUE")


class LanguageOption(CommonOptions, heading="plan"):
    """Of the texts."""

    language: str | None = option("language of the texts, two letters", metavar="CODE", sets="clean.language")


class CleaningOptions(LanguageOption, heading="plan"):
    """Keys of [clean] that are changed most."""

    steps: tuple[str, ...] | None = option(
        "cleaning steps, in this order", convert=names, metavar="STEP[,STEP]", sets="clean.steps"
    )


class TermOptions(CommonOptions, heading="plan"):
    """Which terms there are."""

    lengths: tuple[int, ...] | None = option(
        "shortest and longest n-grams, such as 1,2", convert=lengths, metavar="N[,N]", sets="features.lengths"
    )
    in_at_least: int | None = option(
        "minimum number of documents with a term", convert=whole_number(1), metavar="N", sets="features.in_at_least"
    )
    in_at_most: float | None = option(
        "maximum share of documents with a term", convert=share_or_all, metavar="SHARE", sets="features.in_at_most"
    )
    most_terms: int | None = option(
        "maximum number of terms; 0: no limit", convert=whole_number(0), metavar="N", sets="features.most_terms"
    )


class FeatureOptions(TermOptions, heading="plan"):
    """Keys of [features] that are changed most."""

    weighting: str | None = option("weighting of terms", metavar="SCHEME", sets="features.weighting")


class ClassifierOptions(CommonOptions, heading="plan"):
    """Keys of [classifier] that are changed most."""

    classifier: str | None = option(
        "kind of classifier: logistic, svm, naive-bayes … (all: upsort plan --explain classifier.kind)",
        metavar="KIND",
        sets="classifier.kind",
    )
    penalty: float | str | None = option(
        "regularisation of the weights: a number, usual, or auto",
        metavar="PENALTY",
        convert=number_or_name,
        sets="classifier.penalty",
    )


class TrainingOptions(ClassifierOptions, FeatureOptions, CleaningOptions, PlanFileOptions, heading="plan"):
    """The plan of commands that train."""


class DecisionOptions(CommonOptions):
    """How sure a sorter wants to be."""

    decided_accuracy: float | None = option(
        "leave documents undecided until this share of the others is right on the folds",
        convert=share,
        metavar="SHARE",
        sets="decide.decided_accuracy",
    )


USED_BY = {
    "gather": "upsort gather",
    "clean": "upsort clean",
    "features": "upsort features",
    "classifier": "upsort train",
    "judge": "upsort cross-validate",
    "decide": "upsort train",
}
"""A command that uses each section of a plan."""

SURVEY_KEYS = ("judge.seed", "judge.similarity", "gather.similarity")
SPLIT_KEYS = ("judge.in_time", "judge.seed", "judge.similarity", "judge.allow_copies", "clean.language")
"""Single keys of the plan that upsort survey and upsort split use."""


def settings_of(command: str, words: list[str]) -> list[str]:
    """The options of a command that runs several, without each `--set` of a key that this one of them does not use."""
    keys = {"survey": SURVEY_KEYS, "split": SPLIT_KEYS}.get(command)
    kept = list[str]()
    for word in words:
        if keys is not None and kept[-1:] == ["--set"]:
            path = word.partition("=")[0].strip()
            section = path.partition(".")[0]
            if section in USED_BY and path not in keys and (command, section) != ("survey", "clean"):
                kept.pop()
                continue
        kept.append(word)
    return kept
