"""What upsort curve shows."""

from dataclasses import asdict
from pathlib import Path

from upsort.cli.commands.evaluation import CurveOptions
from upsort.cli.rendering import columns as col
from upsort.cli.rendering.console import Console
from upsort.cli.rendering.findings import restraint_sentence
from upsort.cli.rendering.view import View
from upsort.cli.rendering.wording import duplicates_json, duplicates_sentences, percent
from upsort.cli.request import (
    LEARNING,
    inputs_of,
    note_unused_keys,
    plan_of,
    report_rejects,
    run_context,
    with_guessed_columns,
)
from upsort.cli.status import Exit
from upsort.workflows.curve import curve, draw_curve


def run(options: CurveOptions, console: Console) -> Exit:
    """Judge and show."""
    plan = plan_of(options, console)
    inputs = inputs_of(options, console, options.input, plan.source)
    plan = with_guessed_columns(plan, inputs, "needed", console)
    note_unused_keys(options, [plan], console, LEARNING)
    with run_context(options, console, inputs, plan) as work:
        result = curve(work)
    last = result.points[-1]
    written = draw_curve(result, Path(options.output)) if options.output else None
    twice = result.growth.between(2 * last.documents) if result.growth is not None else None
    view = View(
        {
            "points": [asdict(point) for point in result.points],
            **duplicates_json(result.duplicates),
            "growth": asdict(result.growth.curve) if result.growth is not None else None,
            "twice_as_many": None
            if twice is None or result.growth is None
            else {
                "documents": 2 * last.documents,
                "value": result.growth.at(2 * last.documents),
                "low": twice[0],
                "high": twice[1],
            },
            "written": str(written) if written else None,
        }
    )
    view.add_table(
        (
            col.count("documents"),
            col.share("accuracy held out"),
            col.share("lowest fold", 1),
            col.share("highest fold", 1),
            col.share("on its training part"),
        ),
        [
            (point.documents, *map(percent, (point.held_out, point.lowest, point.highest, point.training)))
            for point in result.points
        ],
    )
    for line in duplicates_sentences(result.duplicates, plan):
        view.add_sentence(line)
    if twice is not None:
        view.add_sentence(
            f"Trained on twice as many, {2 * last.documents:,} documents of the same kind, it is expected to be right for "
            f"{100 * twice[0]:.1f} to {100 * twice[1]:.1f} % (95 % prediction interval; now {percent(last.held_out)})."
        )
    else:
        view.add_sentence("There are too few points for a curve that says what more documents would give.")
    gap = last.training - last.held_out
    if gap > _LARGE_GAP:
        view.add_sentence(
            f"On its training documents it gets {percent(last.training)}: the gap of {100 * gap:.1f} points is what more "
            f"documents, {restraint_sentence(plan.classifier)}fewer terms can close."
        )
    if written:
        view.add_sentence(f"Written: {written}.")
    report_rejects(work.rejects, result.labelled, view)
    console.show(view)
    return Exit.DONE


_LARGE_GAP = 0.03
