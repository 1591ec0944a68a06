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
    inputs = inputs_of(options, console, options.input)
    period = "" if options.per == "value" else options.per
    output = Path(options.output) if options.output else None
    with working(options, console, inputs, Plan(), what="rows counted") as work:
        result = trend(work, options.label, options.by, period)
    if output is not None:
        _write(result, output, options.shares)
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
    _show(result, view)
    if output is not None:
        view.say(f"Written: {output}.")
    tell_set_aside(work.aside, result.documents, view)
    console.show(view)
    return Exit.DONE


def _write(result: TrendResult, output: Path, shares: bool) -> None:
    """The figure or the table, by its ending."""
    found = result.trend
    if output.suffix.lower().removeprefix(".") in ENDINGS:
        draw_trend(result, output, shares)
        return
    if shares:
        raise UsageProblem(f"--shares is for a figure; {output} is a table, which holds both.", "Leave --shares out.")
    with table_file(output, (result.by, "label", "documents", "of", "share", "low", "high")) as writer:
        for row, name in enumerate(found.periods):
            for column, label in enumerate(found.labels):
                rate = found.rate(row, column)
                numbers = ["" if end is None else f"{end:.6f}" for end in (rate.value, rate.low, rate.high)]
                writer.writerow([name, label, str(rate.right), str(rate.of), *numbers])


def _show(result: TrendResult, view: View) -> None:
    found = result.trend
    sizes = found.counts.sum(axis=1)
    shown = list(range(min(len(found.labels), _MOST_COLUMNS)))
    columns = [col.name(result.by), col.count("all")]
    for column in shown:  # of little room the commonest labels get most
        columns += [col.count(found.labels[column], max(0, column - 1)), col.interval(f"{found.labels[column]}, share")]
    rows = []
    for row, name in enumerate(found.periods):
        cells = [str(found.counts[row, column]) if sizes[row] else "·" for column in shown]
        shares = [percent(found.rate(row, column).value) if sizes[row] else "" for column in shown]
        both = [cell for pair in zip(cells, shares, strict=True) for cell in pair]
        rows.append((name, int(sizes[row]), *both))
    view.table(columns, rows)
    if len(found.labels) > len(shown):
        view.say(f"{len(found.labels) - len(shown)} further labels are in the figure and the table.")
    for one in found.standing_out[:_MOST_SENTENCES]:
        more = "more" if one.z > 0 else "less"
        view.say(
            f"{one.period}: {more} {one.label} than otherwise: {percent(one.here)} ({one.documents:,}) against "
            f"{percent(one.elsewhere)}."
        )
    if not found.standing_out:
        view.say("No label stands out anywhere by more than chance explains.")
