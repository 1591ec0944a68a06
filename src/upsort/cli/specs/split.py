"""What upsort split takes."""

from typing import ClassVar

from upsort.cli.declaring import Clash, flag, option, share
from upsort.cli.options import (
    Command,
    IdColumnOption,
    InputOption,
    LabelColumnOption,
    OverwriteOption,
    RejectsOptions,
    SeedOption,
    TextColumnOption,
)
from upsort.cli.plan_options import PlanFileOptions
from upsort.core.records import record


@record(frozen=True, kw_only=True, eq=False, repr=False)
class SplitOptions(
    InputOption,
    SeedOption,
    TextColumnOption,
    LabelColumnOption,
    IdColumnOption,
    RejectsOptions,
    PlanFileOptions,
    OverwriteOption,
):
    """upsort split."""

    HEADING: ClassVar[str] = "what to split"
    hold_out: float = option("default: 0.2", convert=share, default=0.2, metavar="SHARE")
    in_time: bool | None = flag("hold out the latest (needs columns.date)", sets="judge.in_time")
    date_format: str | None = option(
        "how dates are written, such as %%d/%%m/%%Y (default: found out)",
        default=None,
        metavar="FORM",
        sets="columns.date_format",
    )
    allow_copies: bool | None = flag("copies may stand on both sides", sets="judge.allow_copies")
    output: str = option("where train.csv and held-out.csv go", "-o", "--output", metavar="FOLDER", writes="parts")


COMMAND = Command(
    name="split",
    summary="divide a corpus into a training and a held-out part",
    description="Divide a corpus into a training part and a held-out part, each label in the same share\nin both.",
    example="upsort split corpus.csv --label topic --hold-out 0.2 --seed 5 -o parts/",
    rules=(Clash("--in-time", ("--seed",), "the latest rows are held out, whatever the seed"),),
    options=SplitOptions,
)
