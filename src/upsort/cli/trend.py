"""upsort trend."""

import argparse
from dataclasses import asdict
from pathlib import Path

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.request import inputs_of, rows_json, set_aside_of, tell_set_aside
from upsort.cli.status import Exit
from upsort.cli.wording import percent, rate_json
from upsort.core.errors import UsageProblem

DESCRIPTION = (
    "Count the labels of a table over time, or by another column, and name what stands out.\n"
    "A scored table needs no options: the label is sorted_label, and time the first column of dates."
)
EXAMPLE = "upsort trend scored.csv --per month -o trend.png"
OPTIONS = (
    options.Group(
        "what to count",
        (
            options.INPUT,
            options.option("--label", metavar="COLUMN", default="", help="the label (default: sorted_label)"),
            options.option("--by", metavar="COLUMN", default="", help="what to count by (default: the first with dates)"),
            options.option(
                "--per", choices=("day", "week", "month", "year", "value"), default="month",
                help="how long a period is; value: each value of the column (default: month)",
            ),
            options.option("--shares", action="store_true", help="draw shares instead of counts"),
            options.option("-o", "--output", metavar="FILE", help="write the figure (.png or .svg) or the table (.csv …)"),
        ),
    ),
    options.READING,
    options.COMMON,
)  # fmt: skip
_MOST_COLUMNS = 10
_MOST_SENTENCES = 6
RULES: tuple[options.Rule, ...] = (options.Need("--shares", ("--output",)),)


def run(request: argparse.Namespace, console: Console) -> Exit:
    """Count and show."""
    from upsort.draw.canvas import ENDINGS
    from upsort.jobs.trend import draw_trend, trend

    inputs = inputs_of(request, console)
    period = "" if request.per == "value" else request.per
    output = Path(request.output) if request.output else None
    with set_aside_of(request, None) as aside, console.progress("rows counted") as advance:
        result = trend(inputs, request.label, request.by, period, aside, advance)
    found = result.trend
    sizes = found.counts.sum(axis=1)
    if output is not None and output.suffix.lower().removeprefix(".") in ENDINGS:
        draw_trend(result, output, request.shares)
    elif output is not None and request.shares:
        raise UsageProblem(f"--shares is for a figure; {output} is a table, which holds both.", "Leave --shares out.")
    elif output is not None:
        from upsort.files.tables_out import table_file

        with table_file(output, (result.by, "label", "documents", "of", "share", "low", "high")) as writer:
            for row, name in enumerate(found.periods):
                for column, label in enumerate(found.labels):
                    rate = found.rate(row, column)
                    numbers = ["" if end is None else f"{end:.6f}" for end in (rate.value, rate.low, rate.high)]
                    writer.writerow([name, label, str(rate.right), str(rate.of), *numbers])
    if console.as_json:
        console.json(
            {
                "by": result.by,
                "label": result.label,
                "periods": {
                    name: {label: rate_json(found.rate(row, column)) for column, label in enumerate(found.labels)}
                    for row, name in enumerate(found.periods)
                },
                "standing_out": [asdict(one) for one in found.standing_out],
                "written": str(output) if output else None,
                "rows": rows_json(aside, result.documents),
            }
        )
        return Exit.DONE
    shown = list(range(min(len(found.labels), _MOST_COLUMNS)))
    console.table(
        (result.by, "all", *(found.labels[column] for column in shown)),
        [
            (
                name,
                f"{sizes[row]:,}",
                *(
                    f"{found.counts[row, column]} ({percent(found.rate(row, column).value)})" if sizes[row] else "·"
                    for column in shown
                ),
            )
            for row, name in enumerate(found.periods)
        ],
        numeric=range(1, len(shown) + 2),
    )
    if len(found.labels) > len(shown):
        console.say(f"{len(found.labels) - len(shown)} further labels are in the figure and the table.")
    for one in found.standing_out[:_MOST_SENTENCES]:
        more = "more" if one.z > 0 else "less"
        console.say(
            f"{one.period}: {more} {one.label} than otherwise: {percent(one.here)} ({one.documents:,}) against "
            f"{percent(one.elsewhere)}."
        )
    if not found.standing_out:
        console.say("No label stands out anywhere by more than chance explains.")
    if output is not None:
        console.say(f"Written: {output}.")
    tell_set_aside(aside, result.documents, console)
    return Exit.DONE
