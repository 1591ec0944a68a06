"""What upsort curve shows."""

from dataclasses import asdict
from pathlib import Path

from upsort.cli import columns as col
from upsort.cli.console import Console
from upsort.cli.request import (
    LEARNING,
    completed,
    inputs_of,
    plan_of,
    tell_idle,
    tell_set_aside,
    working,
)
from upsort.cli.specs.curve import CurveOptions
from upsort.cli.status import Exit
from upsort.cli.verdicts import restraint
from upsort.cli.view import View
from upsort.cli.wording import kept_json, kept_together, percent
from upsort.jobs.curve import curve, draw_curve


def run(options: CurveOptions, console: Console) -> Exit:
    """Judge and show."""
    plan = plan_of(options, console)
    inputs = inputs_of(options, console, options.input, plan.source)
    plan = completed(plan, inputs, "needed", console)
    tell_idle(options, [plan], console, LEARNING)
    with working(options, console, inputs, plan) as work:
        found = curve(work)
    last = found.points[-1]
    written = draw_curve(found, Path(options.output)) if options.output else None
    twice = found.growth.between(2 * last.documents) if found.growth is not None else None
    view = View(
        {
            "points": [asdict(point) for point in found.points],
            **kept_json(found.kept),
            "growth": asdict(found.growth.curve) if found.growth is not None else None,
            "twice_as_many": None
            if twice is None or found.growth is None
            else {
                "documents": 2 * last.documents,
                "value": found.growth.at(2 * last.documents),
                "low": twice[0],
                "high": twice[1],
            },
            "written": str(written) if written else None,
        }
    )
    view.table(
        (
            col.count("documents"),
            col.share("accuracy held out"),
            col.share("lowest fold", 1),
            col.share("highest fold", 1),
            col.share("on its training part"),
        ),
        [
            (point.documents, *map(percent, (point.held_out, point.lowest, point.highest, point.training)))
            for point in found.points
        ],
    )
    for line in kept_together(found.kept, plan):
        view.say(line)
    if twice is not None:
        view.say(
            f"Trained on twice as many, {2 * last.documents:,} documents of the same kind, it is expected to be right for "
            f"{100 * twice[0]:.1f} to {100 * twice[1]:.1f} % (95 % prediction interval; now {percent(last.held_out)})."
        )
    else:
        view.say("There are too few points for a curve that says what more documents would give.")
    gap = last.training - last.held_out
    if gap > _LARGE_GAP:
        view.say(
            f"On its training documents it gets {percent(last.training)}: the gap of {100 * gap:.1f} points is what more "
            f"documents, {restraint(plan.classifier)}fewer terms can close."
        )
    if written:
        view.say(f"Written: {written}.")
    tell_set_aside(work.aside, found.labelled, view)
    console.show(view)
    return Exit.DONE


_LARGE_GAP = 0.03
