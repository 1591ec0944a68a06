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
    output: str | None = option("write the mistakes to a table", "-o", "--output", default=None, metavar="FILE", writes="table")
    mistakes: int = option("number of mistakes to show", convert=whole_number(0), default=5, metavar="N")
    figures: str | None = option(
        "write figures into a folder",
        default=None,
        metavar="FOLDER",
        writes="*confusion.png *roc.png *precision-recall.png *reliability.png *probabilities.png *coverage.png *similarity.png",
    )
    by: str = option("accuracy for each value of a column", default="", metavar="COLUMN")
    training: list[str] | None = option(
        "training table: compare with its documents, whatever fingerprints the sorter keeps",
        many=Many.SOME,
        default=None,
        metavar="TABLE",
    )
    per_document: str = option(
        "combine the passages of each document", choices=("mean", "median", "trimmed", "product"), default=""
    )
    document_column: str = option(
        "column with the document of a passage (default: document)", default="document", metavar="COLUMN"
    )
    undecided_below: float | None = option(
        "leave documents below this probability undecided", convert=share, default=None, metavar="P"
    )


EVALUATE = Command(
    name="evaluate",
    summary="evaluate a sorter on labelled documents",
    description="Evaluate a sorter on labelled documents that it was not trained on.",
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
        "write the out-of-fold label of each document", "-o", "--output", default=None, metavar="FILE", writes="table"
    )


CROSS_VALIDATE = Command(
    name="cross-validate",
    summary="evaluate a plan by cross-validation",
    description="Evaluate a plan by cross-validation: each document is judged by a sorter trained on the\n"
    "other folds. Vocabulary, document frequencies, penalty and calibration are learned in each\n"
    "training part alone; duplicates stay in the same fold.",
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
    summary="learning curve: accuracy by number of labelled documents",
    description="Learning curve: sorters are trained on growing parts of the corpus and evaluated on the same\n"
    "held-out documents.",
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
    top: int = option("number to show (default: 15)", convert=whole_number(0), default=15, metavar="N")
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
    description="List labelled documents whose label looks wrong to sorters that never saw them, most\n"
    "suspicious first. -o writes their rows with a suggested label: correct the label column there\n"
    "and gather it with the rest.",
    example="upsort suspects corpus.csv --text message --label topic -o suspects.csv",
    rules=(*FOLDS_RULES, Clash("--json", ("--top",), "JSON lists all")),
    options=SuspectsOptions,
)


class LedgerOptions(OverwriteOption, heading="what to list"):
    file: str = positional("the ledger (default: upsort-ledger.sqlite)", "FILE", Many.OPTIONAL, default="")
    sort: str = option("sort by a measure, documents or time (default: time)", default="time", metavar="MEASURE")
    data: str = option("only evaluations on this data", default="", metavar="DIGEST")
    top: int = option("number to list (default: 30)", convert=whole_number(1), default=30, metavar="N")
    differences: bool = flag("show the keys in which the plans differ")
    output: str | None = option(
        "write all evaluations to a table", "-o", "--output", default=None, metavar="FILE", writes="table"
    )


LEDGER = Command(
    name="ledger",
    summary="list the recorded evaluations",
    description="List the evaluations recorded in the working folder.",
    example="upsort ledger --sort accuracy",
    rules=(Clash("--json", ("--top", "--differences"), "JSON lists all, with the plans"),),
    options=LedgerOptions,
)
