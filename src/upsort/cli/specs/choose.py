"""What upsort choose takes."""

from typing import ClassVar

from upsort.cli.declaring import minutes, names, option, whole_number
from upsort.cli.options import (
    ColumnOptions,
    Command,
    InputOption,
    MarginOption,
    OverwriteOption,
    RejectsOptions,
    RequirementOptions,
    SeedOption,
    WorkerOptions,
)
from upsort.cli.plan_options import TrainingOptions
from upsort.core.records import record


@record(frozen=True, kw_only=True, eq=False, repr=False)
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
):
    """upsort choose."""

    HEADING: ClassVar[str] = "how far to look"
    trials: int = option("how many plans to try at most", convert=whole_number(2), default=30, metavar="N")
    minutes: float = option(
        "after which no further one is tried (default: no end)", convert=minutes, default=0.0, metavar="M"
    )
    beside: tuple[str, ...] = option(
        "columns that may stand beside the text; name only what is known before a document is sorted",
        convert=names,
        default=(),
        metavar="COLUMN[,COLUMN]",
    )
    output: str | None = option(
        "write the plan that is chosen", "-o", "--output", default=None, metavar="FILE", writes="plan"
    )


COMMAND = Command(
    name="choose",
    summary="look for a good plan, and say honestly what it is worth",
    description="Look for a good plan: cleaning, n-grams, letters, weighting, bounds, classifiers, penalties and\n"
    "what stands beside the text, beginning with the given one. A fifth of the documents is set aside first; what the choice is\n"
    "worth is told on them. The simpler plan is taken where it is surely hardly behind.",
    example="upsort choose corpus.csv --text message --label topic -o upsort.toml",
    rules=(),
    options=ChooseOptions,
)
