"""What upsort plan takes."""

from typing import ClassVar

from upsort.cli.declaring import Clash, Many, flag, option
from upsort.cli.options import ColumnOptions, Command, OptionalInputOption, ReadingOptions, spellings_of
from upsort.cli.plan_options import TrainingOptions
from upsort.core.records import record


@record(frozen=True, kw_only=True, eq=False, repr=False)
class PlanOptions(OptionalInputOption, ColumnOptions, ReadingOptions, TrainingOptions):
    """upsort plan."""

    HEADING: ClassVar[str] = "what to plan"
    output: str = option("default: upsort.toml", "-o", "--output", default="upsort.toml", metavar="FILE")
    overwrite: bool = flag("replace a plan that exists")
    check: bool = flag("check the plan (upsort.toml, or --plan FILE)")
    explain: str | None = option(
        "what a key is for; also of a section, or of how keys begin; all keys, where none is named",
        many=Many.OPTIONAL,
        value="",
        default=None,
        metavar="KEY",
    )


_DATA = (*spellings_of(ReadingOptions), *spellings_of(ColumnOptions))


COMMAND = Command(
    name="plan",
    summary="write a starter plan from the data; check and explain plans",
    description="Write a starter plan: the columns guessed from the data, every other key with its\n"
    "default and a comment. With --check, read an existing plan and show it whole, or say\n"
    "what is wrong with it; with --explain, say what keys are for.",
    example="upsort plan corpus.csv --label topic",
    rules=(
        Clash("--explain", ("--check", "--output", "--overwrite", *_DATA), "it reads no data"),
        Clash(
            "--check", ("--output", "--overwrite", *spellings_of(ReadingOptions)), "it reads a plan and writes nothing"
        ),
    ),
    options=PlanOptions,
)
