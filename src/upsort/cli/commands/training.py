"""Options of train, extend, choose and compare."""

from upsort.cli.declaring import Clash, Command, Many, flag, minutes, names, option, points, repeated, whole_number
from upsort.cli.options import (
    FOLDS_RULES,
    ColumnOptions,
    DecisionOptions,
    FoldOptions,
    InputOption,
    MarginOption,
    OverwriteOption,
    RejectsOptions,
    RequirementOptions,
    SeedOption,
    SorterOption,
    TrainingOptions,
    WorkerOptions,
)


class TrainOptions(
    InputOption,
    SeedOption,
    WorkerOptions,
    ColumnOptions,
    RejectsOptions,
    TrainingOptions,
    DecisionOptions,
    OverwriteOption,
    heading="what to train",
):
    no_check: bool = flag("skip the quick check on held-out documents")
    extendable: bool = flag("keep the term counts of the documents for upsort extend")
    no_fingerprints: bool = flag("keep nothing by which evaluate recognises training documents")
    row_weight: str | None = option("column with the weight of each document", metavar="COLUMN", sets="columns.row_weight")
    output: str = option("the sorter file to write", "-o", "--output", metavar="NAME.sorter", writes="sorter")


TRAIN = Command(
    name="train",
    summary="train a sorter on labelled documents",
    description="Train a sorter on labelled documents and save it.",
    example="upsort train parts/train.csv --text message --label topic -o desk.sorter",
    options=TrainOptions,
)


class ExtendOptions(SorterOption, InputOption, RejectsOptions, OverwriteOption, heading="what to add"):
    older: list[str] | None = option(
        "the documents that it was trained on", "--with", many=Many.SOME, default=None, metavar="OLDER"
    )
    output: str = option("the sorter file to write", "-o", "--output", metavar="NAME.sorter", writes="sorter")


EXTEND = Command(
    name="extend",
    summary="add newly labelled documents to a sorter",
    description="Add newly labelled documents, with their new terms and labels, as if the sorter had been\n"
    "trained on all of them. Naive Bayes on counts needs nothing more; sorters made by train\n"
    "--extendable hold what is needed (of very many documents, a sample); others need the earlier\n"
    "documents: --with OLDER.",
    example="upsort extend desk.sorter labelled-today.csv -o desk-2.sorter",
    options=ExtendOptions,
)


class ChooseOptions(
    InputOption,
    SeedOption,
    WorkerOptions,
    RequirementOptions,
    ColumnOptions,
    RejectsOptions,
    TrainingOptions,
    OverwriteOption,
    heading="how far to look",
):
    trials: int = option("maximum number of plans to try", convert=whole_number(2), default=40, metavar="N")
    minutes: float = option("time limit, final evaluation included (default: none)", convert=minutes, default=0.0, metavar="M")
    margin: float = option(
        "points that a simpler plan may be behind the best (default: 0.1)", convert=points, default=0.001, metavar="POINTS"
    )
    beside: tuple[str, ...] = option(
        "extra columns to try; only what is known before a document is sorted",
        convert=names,
        default=(),
        metavar="COLUMN[,COLUMN]",
    )
    output: str | None = option("write the chosen plan", "-o", "--output", default=None, metavar="FILE", writes="plan")


CHOOSE = Command(
    name="choose",
    summary="search for a good plan and measure it on documents set aside",
    description="Search for a good plan: cleaning, n-grams, letters, weighting, bounds, classifiers, penalties and\n"
    "extra columns, starting from the given plan. A fifth of the documents is set aside first to\n"
    "measure the chosen plan. A simpler plan is chosen if it is within the margin.",
    example="upsort choose corpus.csv --text message --label topic -o upsort.toml",
    rules=(),
    options=ChooseOptions,
)


class CompareOptions(
    InputOption,
    FoldOptions,
    SeedOption,
    WorkerOptions,
    MarginOption,
    RequirementOptions,
    ColumnOptions,
    RejectsOptions,
    TrainingOptions,
    DecisionOptions,
    OverwriteOption,
    heading="what to compare",
):
    tries: list[str] = repeated("what to try", "--try", metavar="KEY=VALUE,VALUE")
    by: str = option("ranking measure (default: accuracy)", default="accuracy", metavar="MEASURE")
    nested: bool = flag("nested cross-validation: the accuracy of choosing the best")
    output: str | None = option("write the best plan", "-o", "--output", default=None, metavar="FILE", writes="plan")


COMPARE = Command(
    name="compare",
    summary="compare plans or classifiers on the same folds",
    description="Compare plans on the same folds, best first. --try section.key=value,value tries each value;\n"
    "several --try try all combinations. If a value is a list, + joins its\n"
    "parts: --try clean.steps=lower,lower+stem. Tables [try.NAME] of the plan are candidates too.",
    example="upsort compare corpus.csv --label topic --try classifier.kind=logistic,svm",
    rules=(*FOLDS_RULES, Clash("--nested", ("--by",), "it chooses by accuracy")),
    options=CompareOptions,
)
