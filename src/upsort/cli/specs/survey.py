"""What upsort survey takes."""

from typing import ClassVar

from upsort.cli.declaring import Clash, Many, Need, flag, option, whole_number
from upsort.cli.options import (
    Command,
    IdColumnOption,
    InputOption,
    LabelColumnOption,
    RejectsOptions,
    TextColumnOption,
    WorkerOptions,
)
from upsort.cli.plan_options import LanguageOption, PlanFileOptions
from upsort.core.records import record


@record(frozen=True, kw_only=True, eq=False, repr=False)
class SurveyOptions(
    InputOption,
    WorkerOptions,
    TextColumnOption,
    LabelColumnOption,
    IdColumnOption,
    RejectsOptions,
    LanguageOption,
    PlanFileOptions,
):
    """upsort survey."""

    HEADING: ClassVar[str] = "what to survey"
    columns: bool = flag("only list the columns, with types and examples")
    shortest: int = option("how many to list", convert=whole_number(0), default=5, metavar="N")
    top: int = option("terms a list (default: 8)", convert=whole_number(1), default=8, metavar="N")
    figures: str | None = option("write figures into a folder", default=None, metavar="FOLDER")
    figure_kind: str = option("default: png", choices=("png", "svg"), default="png")
    show: int | None = option(
        "print N random documents whole",
        convert=whole_number(1),
        default=None,
        metavar="N",
        heading="single documents",
    )
    find: str | None = option("the word in its context", default=None, metavar="WORD", heading="single documents")
    as_written: bool = flag("--find in the case in which it is written", heading="single documents")
    where: list[str] = option(
        "only such documents, with --show or --find",
        many=Many.REPEATED,
        default=[],
        metavar="COLUMN=VALUE",
        heading="single documents",
    )
    seed: int | None = option(
        "seed of every random choice (default: the plan's)",
        convert=whole_number(0),
        default=None,
        metavar="N",
        heading="single documents",
        sets="judge.seed",
    )


_WHOLE = ("--shortest", "--top", "--figures", "--set-aside")  # what only a survey of everything shows


COMMAND = Command(
    name="survey",
    summary="show what is in a corpus: labels, lengths, copies, terms, what looks wrong",
    description="Show what is in a corpus before anything is trained on it: labels, lengths, copies, odd\n"
    "documents, commonest terms, other columns, and what is worth a look. --columns is the\n"
    "first thing to type on an unknown file.",
    example="upsort survey corpus.csv --text message --label topic --figures figures",
    rules=(
        Clash(
            "--columns",
            ("--shortest", "--top", "--figures", "--show", "--find", "--where", "--set-aside", "--language"),
            "it only lists the columns",
        ),
        Clash("--find", (*_WHOLE, "--seed"), "it looks for a word alone"),
        Clash("--show", (*_WHOLE, "--language"), "it shows single documents alone"),
        Clash("--where", _WHOLE, "it picks single documents"),
        Need("--figure-kind", ("--figures",)),
        Need("--as-written", ("--find",)),
        Need("--seed", ("--show", "--where")),
    ),
    options=SurveyOptions,
)
