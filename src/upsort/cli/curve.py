"""upsort curve."""

import argparse
from dataclasses import asdict
from pathlib import Path

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.request import (
    LEARNING,
    completed,
    inputs_of,
    plan_of,
    rows_json,
    set_aside_of,
    tell_idle,
    tell_set_aside,
)
from upsort.cli.status import Exit
from upsort.cli.verdicts import restraint
from upsort.cli.wording import kept_json, kept_together, percent

DESCRIPTION = (
    "How the result grows with more labelled documents.\n"
    "Sorters are trained on growing parts and judged on the same held-out documents."
)
EXAMPLE = "upsort curve corpus.csv --text message --label topic -o curve.png"
OPTIONS = (
    options.Group(
        "what to judge",
        (
            options.INPUT,
            *options.FOLDS,
            options.SEED,
            options.WORKERS,
            options.option("-o", "--output", metavar="FILE", help="write the figure (.png or .svg)"),
        ),
    ),
    options.COLUMNS,
    options.READING,
    options.PLAN,
    options.COMMON,
)
RULES: tuple[options.Rule, ...] = options.FOLDS_RULES


def run(request: argparse.Namespace, console: Console) -> Exit:
    """Judge and show."""
    from upsort.jobs.curve import curve, draw_curve

    plan = plan_of(request, console)
    inputs = inputs_of(request, console, plan.source)
    plan = completed(plan, inputs, "needed", console)
    tell_idle([plan], console, LEARNING)
    with set_aside_of(request, None) as aside, console.progress("documents read") as advance:
        found = curve(inputs, plan, aside, advance, request.workers)
    last = found.points[-1]
    written = draw_curve(found, Path(request.output)) if request.output else None
    twice = found.growth.between(2 * last.documents) if found.growth is not None else None
    if console.as_json:
        console.json(
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
                "rows": rows_json(aside, found.labelled),
            }
        )
        return Exit.DONE
    console.table(
        ("documents", "accuracy held out", "lowest fold", "highest fold", "on its training part"),
        [
            (
                f"{point.documents:,}",
                percent(point.held_out),
                percent(point.lowest),
                percent(point.highest),
                percent(point.training),
            )
            for point in found.points
        ],
        numeric=range(5),
    )
    for line in kept_together(found.kept, plan):
        console.say(line)
    if twice is not None:
        console.say(
            f"Trained on twice as many, {2 * last.documents:,} documents of the same kind, it is expected to be right for "
            f"{100 * twice[0]:.1f} to {100 * twice[1]:.1f} % (95 % prediction interval; now {percent(last.held_out)})."
        )
    else:
        console.say("There are too few points for a curve that says what more documents would give.")
    gap = last.training - last.held_out
    if gap > _LARGE_GAP:
        console.say(
            f"On its training documents it gets {percent(last.training)}: the gap of {100 * gap:.1f} points is what more "
            f"documents, {restraint(plan.classifier.kind)}fewer terms can close."
        )
    if written:
        console.say(f"Written: {written}.")
    tell_set_aside(aside, found.labelled, console)
    return Exit.DONE


_LARGE_GAP = 0.03
