"""What upsort ledger takes."""

from typing import ClassVar

from upsort.cli.declaring import Clash, Many, flag, option, positional, whole_number
from upsort.cli.options import Command, OverwriteOption
from upsort.core.records import record


@record(frozen=True, kw_only=True, eq=False, repr=False)
class LedgerOptions(OverwriteOption):
    """upsort ledger."""

    HEADING: ClassVar[str] = "what to list"
    file: str = positional("default: upsort-ledger.sqlite", "FILE", Many.OPTIONAL, default="")
    sort: str = option("best first: a measure, documents, or time (default)", default="time", metavar="MEASURE")
    data: str = option("only evaluations on this data", default="", metavar="DIGEST")
    top: int = option("how many (default: 30)", convert=whole_number(1), default=30, metavar="N")
    differences: bool = flag("show in which keys the plans differ")
    output: str | None = option(
        "write all of them to a table", "-o", "--output", default=None, metavar="FILE", writes="table"
    )


COMMAND = Command(
    name="ledger",
    summary="list the evaluations so far, sorted",
    description="The evaluations noted in the working folder, sorted.",
    example="upsort ledger --sort accuracy",
    rules=(Clash("--json", ("--top", "--differences"), "JSON lists all, with the plans"),),
    options=LedgerOptions,
)
