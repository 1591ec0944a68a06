"""What upsort trend shows."""

from dataclasses import asdict
from pathlib import Path

from upsort.cli import columns as col
from upsort.cli.console import Console
from upsort.cli.request import inputs_of, tell_set_aside, working
from upsort.cli.specs.trend import TrendOptions
from upsort.cli.status import Exit
from upsort.cli.view import View
from upsort.cli.wording import percent, rate_json
from upsort.core.errors import UsageProblem
from upsort.core.plan import Plan
from upsort.draw.canvas import ENDINGS
from upsort.files.tables_out import table_file
from upsort.jobs.trend import TrendResult, draw_trend, trend

_MOST_COLUMNS = 10
_MOST_SENTENCES = 6


def run(options: TrendOptions, console: Console) -> Exit:
    """Count and show."""
    output = Path(options.output) if options.output else None
    drawn = output is not None and output.suffix.lower().removeprefix(".") in ENDINGS
    if options.shares and console.as_json and not drawn:
        raise UsageProblem("--shares is for what is shown and drawn; JSON holds shares anyway.", "Leave --shares out.")
    inputs = inputs_of(options, console, options.input)
    if options.date_format and options.per == "value":
        raise UsageProblem("--date-format has no meaning beside --per value.", "Leave one of them out.")
    period = "" if options.per == "value" else options.per
    with working(options, console, inputs, Plan(), what="rows counted") as work:
        result = trend(work, options.label, options.by, period, options.date_format)
    if output is not None:
        draw_trend(result, output, options.shares) if drawn else _write(result, output)
    found = result.trend
    view = View(
        {
            "by": result.by,
            "label": result.label,
            "periods": {
                name: {label: rate_json(found.rate(row, column)) for column, label in enumerate(found.labels)}
                for row, name in enumerate(found.periods)
            },
            "standing_out": [asdict(one) for one in found.standing_out],
            "written": str(output) if output else None,
        }
    )
    if period and not result.period:
        view.note(f"{result.by!r} holds no dates; counted by its values (--per value).")
    if result.dates:
        view.note(result.dates)
    _show(result, options.shares, view)
    if output is not None:
        view.say(f"Written: {output}.")
    tell_set_aside(work.aside, result.documents, view)
    console.show(view)
    return Exit.DONE


def _write(result: TrendResult, output: Path) -> None:
    """The table, which holds counts and shares."""
    found = result.trend
    with table_file(output, (result.by, "label", "documents", "of", "share", "low", "high")) as writer:
        for row, name in enumerate(found.periods):
            for column, label in enumerate(found.labels):
                rate = found.rate(row, column)
                numbers = ["" if end is None else f"{end:.6f}" for end in (rate.value, rate.low, rate.high)]
                writer.writerow([name, label, str(rate.right), str(rate.of), *numbers])


def _show(result: TrendResult, shares: bool, view: View) -> None:
    found = result.trend
    sizes = found.counts.sum(axis=1)
    shown = list(range(min(len(found.labels), _MOST_COLUMNS)))
    kind = col.share if shares else col.count  # of little room the commonest labels get most
    columns = [
        col.name(result.by),
        col.count("all"),
        *(kind(found.labels[place], max(0, place - 1)) for place in shown),
    ]
    rows = []
    for row, name in enumerate(found.periods):
        cells = [percent(found.rate(row, place).value) if shares else int(found.counts[row, place]) for place in shown]
        rows.append((name, int(sizes[row]), *cells))
    view.table(columns, rows)
    if len(found.labels) > len(shown):
        view.say(f"{len(found.labels) - len(shown)} further labels are in the table that -o writes.")
    for one in found.standing_out[:_MOST_SENTENCES]:
        more = "more" if one.z > 0 else "less"
        view.say(
            f"{one.period}: {more} {one.label} than otherwise: {percent(one.here)} ({one.documents:,}) against "
            f"{percent(one.elsewhere)}."
        )
    if not found.standing_out:
        view.say("No label stands out anywhere by more than chance explains.")
