"""Options of train, extend, choose and compare."""

from upsort.cli.declaring import Clash, Command, Many, flag, minutes, names, option, repeated, whole_number
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
    no_check: bool = flag("leave out the quick check on held-out documents")
    extendable: bool = flag("keep the counts of the documents' terms, so that upsort extend can add others")
    row_weight: str | None = option("how much each document counts", metavar="COLUMN", sets="columns.row_weight")
    output: str = option("the sorter file to write", "-o", "--output", metavar="NAME.sorter", writes="sorter")


TRAIN = Command(
    name="train",
    summary="train a sorter on labelled documents",
    description="Train a sorter on labelled documents and save it.",
    example="upsort train parts/train.csv --text message --label topic -o desk.sorter",
    options=TrainOptions,
)


class ExtendOptions(SorterOption, InputOption, RejectsOptions, OverwriteOption, heading="what to add"):
    older: list[str] | None = option("the documents it was trained on", "--with", many=Many.SOME, default=None, metavar="OLDER")
    output: str = option("the sorter file to write", "-o", "--output", metavar="NAME.sorter", writes="sorter")


EXTEND = Command(
    name="extend",
    summary="add newly labelled documents to a sorter",
    description="Add newly labelled documents to a sorter, with their new terms and labels, as if it had been\n"
    "trained on all of them. Naive Bayes on counts needs nothing more; a sorter made by train\n"
    "--extendable has kept what it takes (a sample, of very many documents); others need the older\n"
    "documents again, --with OLDER.",
    example="upsort extend desk.sorter labelled-today.csv -o desk-2.sorter",
    options=ExtendOptions,
)


class ChooseOptions(
    InputOption,
    SeedOption,
    WorkerOptions,
    MarginOption,
    RequirementOptions,
    ColumnOptions,
    RejectsOptions,
    TrainingOptions,
    OverwriteOption,
    heading="how far to look",
):
    trials: int = option("how many plans to try at most", convert=whole_number(2), default=30, metavar="N")
    minutes: float = option("after which no further one is tried (default: no end)", convert=minutes, default=0.0, metavar="M")
    beside: tuple[str, ...] = option(
        "columns to use next to the text; name only what is known before a document is sorted",
        convert=names,
        default=(),
        metavar="COLUMN[,COLUMN]",
    )
    output: str | None = option("write the plan that is chosen", "-o", "--output", default=None, metavar="FILE", writes="plan")


CHOOSE = Command(
    name="choose",
    summary="look for a good plan, and measure it on documents set aside",
    description="Look for a good plan: cleaning, n-grams, letters, weighting, bounds, classifiers, penalties and\n"
    "other columns, beginning with the given plan. A fifth of the documents is set aside first, to measure the chosen plan.\n"
    "A simpler plan is taken where it is surely no more than the margin behind.",
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
    by: str = option("what the best has most of (default: accuracy)", default="accuracy", metavar="MEASURE")
    nested: bool = flag("choose anew in each fold: the accuracy of choosing the best")
    output: str | None = option("write the winner's plan", "-o", "--output", default=None, metavar="FILE", writes="plan")


COMPARE = Command(
    name="compare",
    summary="judge several plans or classifiers on the same folds, best first",
    description="Judge several plans on the same folds, best first. --try section.key=value,value tries\n"
    "each value; several --try try all combinations. Where a value is a list itself, + joins its\n"
    "parts: --try clean.steps=lower,lower+stem. Tables [try.NAME] of the plan are candidates too.",
    example="upsort compare corpus.csv --label topic --try classifier.kind=logistic,svm",
    rules=(*FOLDS_RULES, Clash("--nested", ("--by",), "it chooses by accuracy")),
    options=CompareOptions,
)
