"""What upsort clean takes."""

from typing import ClassVar

from upsort.cli.declaring import Clash, Many, Need, flag, option, whole_number
from upsort.cli.options import (
    ColumnOptions,
    Command,
    IdColumnOption,
    LabelColumnOption,
    MarginOption,
    OptionalInputOption,
    OverwriteOption,
    RejectsOptions,
    SeedOption,
    TextColumnOption,
    spellings_of,
)
from upsort.cli.plan_options import ClassifierOptions, FeatureOptions, TrainingOptions
from upsort.core.records import record


@record(frozen=True, kw_only=True, eq=False, repr=False)
class CleanOptions(
    OptionalInputOption,
    MarginOption,
    SeedOption,
    TextColumnOption,
    LabelColumnOption,
    IdColumnOption,
    RejectsOptions,
    TrainingOptions,
    OverwriteOption,
):
    """upsort clean."""

    HEADING: ClassVar[str] = "what to clean"
    output: str | None = option(
        "write the corpus with a column 'cleaned'", "-o", "--output", default=None, metavar="FILE", writes="table"
    )
    in_place: bool = flag("with -o: put the cleaned text in place of the text")
    steps_help: bool = flag("list all steps, each with an example", heading="what to show")
    show: int = option(
        "documents (default: 2)", convert=whole_number(0), default=2, metavar="N", heading="what to show"
    )
    document: list[str] = option("this document", many=Many.REPEATED, default=[], metavar="ID", heading="what to show")
    most_changed_by: str = option(
        "the documents that a step changes most", default="", metavar="STEP", heading="what to show"
    )
    word: list[str] = option(
        "a single word's way through the steps",
        many=Many.REPEATED,
        default=[],
        metavar="WORD",
        heading="what to show",
    )
    groups: int | None = option(
        "which words fall together (default: the 20 largest groups)",
        convert=whole_number(1),
        many=Many.OPTIONAL,
        value=20,
        default=None,
        metavar="N",
        heading="what to show",
    )
    compare_steps: list[str] | None = option(
        "lists of steps, each with commas: vocabulary and cross-validated accuracy",
        many=Many.SOME,
        default=None,
        metavar="STEPS",
        heading="what to show",
    )


_SHOWN = ("--show", "--document", "--most-changed-by")
_TRAINING = (*spellings_of(ClassifierOptions), *spellings_of(FeatureOptions))


COMMAND = Command(
    name="clean",
    summary="show what each cleaning step does; write the cleaned corpus",
    description="Show what each cleaning step does: to single documents, to single words, to the corpus\n"
    "as a whole. Every step can hurt. The steps and their order are the plan's (clean.steps);\n"
    "--steps tries others.",
    example="upsort clean corpus.csv --text message --steps lower,links,stop_words,stem",
    rules=(
        Clash(
            "--steps-help",
            (
                "--output",
                "--steps",
                "--language",
                "--word",
                "--groups",
                "--compare-steps",
                *_SHOWN,
                *spellings_of(RejectsOptions),
                *spellings_of(ColumnOptions),
            ),
            "it lists the steps that there are",
        ),
        Clash("--word", ("--output", "--compare-steps", *_SHOWN), "it follows single words"),
        Clash("--groups", ("--output", "--in-place", "--compare-steps", *_SHOWN), "it shows words that fall together"),
        Need("--margin", ("--compare-steps",)),
        *(Need(name, ("--compare-steps",)) for name in _TRAINING),
        Clash("--compare-steps", ("--output", "--in-place", "--steps", *_SHOWN), "it tries lists of steps"),
        Clash("--document", ("--show", "--most-changed-by", "--seed"), "it shows this document"),
        Need("--in-place", ("--output",)),
    ),
    options=CleanOptions,
)
