"""upsort extend."""

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, assert_never

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.request import inputs_of, rows_json, set_aside_of, tell_set_aside
from upsort.cli.status import Exit
from upsort.core.names import listed

if TYPE_CHECKING:
    from upsort.core.learning.sorter import Sorter
    from upsort.jobs.extend import Way

DESCRIPTION = (
    "Add newly labelled documents to a sorter.\n"
    "Naive Bayes: exactly as if trained on all of them. Other kinds: with --with OLDER exactly too; without it, linear ones are\n"
    "drawn from their earlier weights towards the new documents, which is not the same as training on all."
)
EXAMPLE = "upsort extend desk.sorter labelled-today.csv -o desk-2.sorter"
OPTIONS = (
    options.Group(
        "what to add",
        (
            options.SORTER,
            options.INPUT,
            options.option("--with", dest="older", nargs="+", metavar="OLDER", help="the documents it was trained on"),
            options.option("-o", "--output", required=True, metavar="NAME.sorter", help="the sorter file to write"),
        ),
    ),
    options.READING,
    options.COMMON,
)

_TOLD = {
    "counts": "Its counts are those of training on all documents",
    "everything": "Trained anew on all documents",
    "anchor": "Drawn from the earlier weights towards the new documents; training on all is another thing (--with OLDER)",
}
RULES: tuple[options.Rule, ...] = ()


def run(request: argparse.Namespace, console: Console) -> Exit:
    """Extend and tell what is new."""
    from upsort.jobs.extend import extend

    inputs = inputs_of(request, console)
    older = None
    if request.older:
        older = inputs_of(request, console, names=request.older)
    output = Path(request.output)
    with set_aside_of(request, output) as aside, console.progress("documents read") as advance:
        result = extend(Path(request.sorter), inputs, older, output, aside, advance)
    documents = result.sorters[0].trained.documents
    if console.as_json:
        console.json(
            {
                "sorter": str(output),
                "bytes": result.size,
                "way": result.way,
                "documents": documents,
                "added": result.added,
                "new_terms": result.new_terms,
                "lost_terms": result.lost_terms,
                "new_labels": list(result.new_labels),
                "rows": rows_json(aside, result.added),
            }
        )
        return Exit.DONE
    console.say(f"{_TOLD[result.way]}: {documents:,} documents now, {result.added:,} more than before.")
    console.say(
        f"Terms: {result.new_terms:,} new ones within the bounds, {result.lost_terms:,} no longer within them."
        if result.way != "anchor"
        else "Terms and labels are as they were."
    )
    if result.new_labels:
        console.say(f"New labels: {listed(result.new_labels)}.")
    for line in _of_probabilities(result.way, result.sorters[0]):
        console.say(line)
    console.say(f"Saved: {output} ({result.size / 1000:,.0f} kB).")
    tell_set_aside(aside, result.added, console)
    return Exit.DONE


def _of_probabilities(way: "Way", sorter: "Sorter") -> list[str]:
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
