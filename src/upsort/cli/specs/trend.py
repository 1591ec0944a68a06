"""What upsort trend takes."""

from typing import ClassVar

from upsort.cli.declaring import flag, option
from upsort.cli.options import Command, InputOption, OverwriteOption, RejectsOptions
from upsort.core.records import record


@record(frozen=True, kw_only=True, eq=False, repr=False)
class TrendOptions(InputOption, RejectsOptions, OverwriteOption):
    """upsort trend."""

    HEADING: ClassVar[str] = "what to count"
    label: str = option("the label (default: sorted_label)", default="", metavar="COLUMN")
    by: str = option("what to count by (default: the first with dates)", default="", metavar="COLUMN")
    per: str = option(
        "how long a period is; value: each value of the column (default: month)",
        choices=("day", "week", "month", "year", "value"),
        default="month",
    )
    date_format: str = option(
        "how dates are written, such as %%d/%%m/%%Y (default: found out)", default="", metavar="FORM"
    )
    shares: bool = flag("show and draw shares instead of counts")
    output: str | None = option(
        "write the figure (.png or .svg) or the table (.csv …)",
        "-o",
        "--output",
        default=None,
        metavar="FILE",
        writes="figure",
    )


COMMAND = Command(
    name="trend",
    summary="count labels over time or by another column",
    description="Count the labels of a table over time, or by another column, and name what stands out.\n"
    "A scored table needs no options: the label is sorted_label, and time the first column of\n"
    "dates.",
    example="upsort trend scored.csv --per month -o trend.png",
    options=TrendOptions,
)
