"""What upsort extend shows."""

from pathlib import Path
from typing import assert_never

from upsort.cli.console import Console
from upsort.cli.request import inputs_of, others_of, tell_set_aside, working
from upsort.cli.specs.extend import ExtendOptions
from upsort.cli.status import Exit
from upsort.cli.view import View
from upsort.core.learning.sorter import Sorter
from upsort.core.names import listed
from upsort.core.plan import Plan
from upsort.jobs.extend import Way, extend

_TOLD = {
    "counts": "Its counts are those of training on all documents",
    "everything": "Trained anew on all documents",
    "anchor": "Drawn from the earlier weights towards the new documents; training on all is another thing (--with OLDER)",
}


def run(options: ExtendOptions, console: Console) -> Exit:
    """Extend and tell what is new."""
    inputs = inputs_of(options, console, options.input)
    older = others_of(options, console, options.older) if options.older else None
    output = Path(options.output)
    with working(options, console, inputs, Plan(), output) as work:
        result = extend(Path(options.sorter), work, older, output)
    documents = result.sorters[0].trained.documents
    view = View(
        {
            "sorter": str(output),
            "bytes": result.size,
            "way": result.way,
            "documents": documents,
            "added": result.added,
            "new_terms": result.new_terms,
            "lost_terms": result.lost_terms,
            "new_labels": list(result.new_labels),
        }
    )
    view.say(f"{_TOLD[result.way]}: {documents:,} documents now, {result.added:,} more than before.")
    view.say(
        f"Terms: {result.new_terms:,} new ones within the bounds, {result.lost_terms:,} no longer within them."
        if result.way != "anchor"
        else "Terms and labels are as they were."
    )
    if result.new_labels:
        view.say(f"New labels: {listed(result.new_labels)}.")
    for line in _of_probabilities(result.way, result.sorters[0]):
        view.say(line)
    view.say(f"Saved: {output} ({result.size / 1000:,.0f} kB).")
    tell_set_aside(work.aside, result.added, view)
    console.show(view)
    return Exit.DONE


def _of_probabilities(way: Way, sorter: Sorter) -> list[str]:
    """What is the same as after training on all documents, and what is not."""
    calibrated = sorter.calibration.kind != "none"
    decide = sorter.plan.decide
    by_scores = sorter.decision is None and decide.rank_by == "scores" and not decide.undecided_below
    match way:
        case "counts" if calibrated and by_scores:
            return [
                "So are its labels; its probabilities are calibrated as before. Train on everything to calibrate them anew."
            ]
        case "counts" if calibrated:
            return [
                "Its labels go by probabilities, which are calibrated as before. Train on everything to calibrate them anew."
            ]
        case "counts":
            return ["So are its labels and probabilities."]
        case "anchor" if calibrated:
            return ["Its probabilities are calibrated as before."]
        case "anchor" | "everything":
            return []
        case _:
            assert_never(way)
