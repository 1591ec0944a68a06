"""Options of evaluate, cross-validate, curve, suspects and ledger."""

from upsort.cli.declaring import Clash, Command, Many, Need, flag, option, positional, share, whole_number
from upsort.cli.options import (
    FOLDS_RULES,
    ColumnOptions,
    CostOption,
    DecisionOptions,
    FoldOptions,
    InputOption,
    MeasureOptions,
    OverwriteOption,
    RejectsOptions,
    RequirementOptions,
    SeedOption,
    SorterOption,
    TrainingOptions,
    WorkerOptions,
)


class EvaluateOptions(
    SorterOption,
    InputOption,
    WorkerOptions,
    CostOption,
    MeasureOptions,
    RequirementOptions,
    ColumnOptions,
    RejectsOptions,
    OverwriteOption,
    heading="what to judge",
):
    output: str | None = option(
        "write the documents it got wrong to a table", "-o", "--output", default=None, metavar="FILE", writes="table"
    )
    mistakes: int = option("how many mistakes to show", convert=whole_number(0), default=5, metavar="N")
    figures: str | None = option("write figures into a folder", default=None, metavar="FOLDER")
    by: str = option("the results for each value of a column", default="", metavar="COLUMN")
    training: list[str] | None = option(
        "what it was trained on: its near copies are left out, and told", many=Many.SOME, default=None, metavar="TABLE"
    )
    per_document: str = option(
        "add up the passages of each document", choices=("mean", "median", "trimmed", "product"), default=""
    )
    document_column: str = option("names a passage's document", default="document", metavar="COLUMN")
    undecided_below: float | None = option("leave less probable ones undecided", convert=share, default=None, metavar="P")


EVALUATE = Command(
    name="evaluate",
    summary="judge a sorter on labelled documents",
    description="Judge a sorter on labelled documents that it was not trained on.",
    example="upsort evaluate desk.sorter parts/held-out.csv -o mistakes.csv",
    rules=(Need("--document-column", ("--per-document",)), Clash("--json", ("--shares",), "JSON holds all counts")),
    options=EvaluateOptions,
)


class CrossValidateOptions(
    InputOption,
    FoldOptions,
    SeedOption,
    WorkerOptions,
    MeasureOptions,
    RequirementOptions,
    ColumnOptions,
    RejectsOptions,
    TrainingOptions,
    DecisionOptions,
    OverwriteOption,
    heading="what to judge",
):
    output: str | None = option(
        "write what each document was sorted as, out of fold", "-o", "--output", default=None, metavar="FILE", writes="table"
    )


CROSS_VALIDATE = Command(
    name="cross-validate",
    summary="judge a plan by folds",
    description="Judge a plan by folds: each document is judged by a sorter trained on the other folds.\n"
    "Vocabulary, bounds, document frequencies, penalty and calibration are learned inside each\n"
    "fold's training part; copies of a document stay on one side.",
    example="upsort cross-validate corpus.csv --text message --label topic --folds 5",
    rules=(*FOLDS_RULES, Clash("--json", ("--shares",), "JSON holds all counts")),
    options=CrossValidateOptions,
)


class CurveOptions(
    InputOption,
    FoldOptions,
    SeedOption,
    WorkerOptions,
    ColumnOptions,
    RejectsOptions,
    TrainingOptions,
    OverwriteOption,
    heading="what to judge",
):
    output: str | None = option(
        "write the figure (.png or .svg)", "-o", "--output", default=None, metavar="FILE", writes="figure"
    )


CURVE = Command(
    name="curve",
    summary="how the result grows with more labelled documents",
    description="How the result grows with more labelled documents. Sorters are trained on growing parts\n"
    "and judged on the same held-out documents.",
    example="upsort curve corpus.csv --text message --label topic -o curve.png",
    rules=FOLDS_RULES,
    options=CurveOptions,
)


class SuspectsOptions(
    InputOption,
    FoldOptions,
    SeedOption,
    WorkerOptions,
    ColumnOptions,
    RejectsOptions,
    TrainingOptions,
    OverwriteOption,
    heading="what to look through",
):
    top: int = option("how many to show (15)", convert=whole_number(0), default=15, metavar="N")
    most: int | None = option(
        "list the N most suspicious (default: those more likely wrong than right)",
        convert=whole_number(1),
        default=None,
        metavar="N",
    )
    output: str | None = option(
        "write the suspicious rows to a table", "-o", "--output", default=None, metavar="FILE", writes="table"
    )


SUSPECTS = Command(
    name="suspects",
    summary="list labelled documents that look mislabelled",
    description="List labelled documents whose own label looks wrong to sorters that never saw them, most\n"
    "suspicious first. -o writes their rows with a suggested label: correct the label column\n"
    "there and gather it with the rest.",
    example="upsort suspects corpus.csv --text message --label topic -o suspects.csv",
    rules=(*FOLDS_RULES, Clash("--json", ("--top",), "JSON lists all")),
    options=SuspectsOptions,
)


class LedgerOptions(OverwriteOption, heading="what to list"):
    file: str = positional("default: upsort-ledger.sqlite", "FILE", Many.OPTIONAL, default="")
    sort: str = option("best first: a measure, documents, or time (default)", default="time", metavar="MEASURE")
    data: str = option("only evaluations on this data", default="", metavar="DIGEST")
    top: int = option("how many (default: 30)", convert=whole_number(1), default=30, metavar="N")
    differences: bool = flag("show in which keys the plans differ")
    output: str | None = option("write all of them to a table", "-o", "--output", default=None, metavar="FILE", writes="table")


LEDGER = Command(
    name="ledger",
    summary="list the evaluations so far, sorted",
    description="The evaluations noted in the working folder, sorted.",
    example="upsort ledger --sort accuracy",
    rules=(Clash("--json", ("--top", "--differences"), "JSON lists all, with the plans"),),
    options=LedgerOptions,
)
