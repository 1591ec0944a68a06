"""What upsort extend shows."""

from pathlib import Path
from typing import assert_never

from upsort.cli.commands.training import ExtendOptions
from upsort.cli.rendering.console import Console
from upsort.cli.rendering.view import View
from upsort.cli.rendering.wording import interval, percent, rate_json
from upsort.cli.request import inputs_of, report_rejects, run_context, secondary_inputs
from upsort.cli.status import Exit
from upsort.core.name_lists import listed
from upsort.core.plan import Plan
from upsort.core.training.sorter import TrainedSorter
from upsort.workflows.extend import ExtendedAnswer, Way, extend

_METHOD_SENTENCES = {
    "counts": "Its counts are those of training on all documents",
    "everything": "Trained anew on all documents",
    "kept": "Trained anew on all documents, the earlier ones by what it kept of them, which is all it takes",
    "sample": "Trained anew on the new documents and those that it kept of the earlier ones, which count for all of them",
}


def run(options: ExtendOptions, console: Console) -> Exit:
    """Extend and tell what is new."""
    inputs = inputs_of(options, console, options.input)
    older = secondary_inputs(options, console, options.older) if options.older else None
    output = Path(options.output)
    with run_context(options, console, inputs, Plan(), output) as work:
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
            "answers": [
                {
                    "answer": sorter.answer or None,
                    "unknown_share": added.unknown_share,
                    "new_right_before": rate_json(added.before),
                    "held_out_older": rate_json(added.older) if added.older is not None else None,
                    "held_out_new": rate_json(added.newer) if added.newer is not None else None,
                }
                for sorter, added in zip(result.sorters, result.changes, strict=True)
            ],
        }
    )
    view.add_sentence(
        f"{_METHOD_SENTENCES[result.way]}: {documents:,} documents now, {result.added:,} more than before."
    )
    view.add_sentence(
        f"Terms: {result.new_terms:,} new ones within the bounds, {result.lost_terms:,} no longer within them."
    )
    if result.new_labels:
        view.add_sentence(f"New labels: {listed(result.new_labels)}.")
    if result.sorters[0].plan.features.vectors_file:
        view.add_sentence(
            "Words that the sorter did not have have no vector: it holds those of its own words, and names no file of others."
        )
    for line in _of_probabilities(result.way, result.sorters[0]):
        view.add_sentence(line)
    for sorter, added in zip(result.sorters, result.changes, strict=True):
        _show_added(sorter.answer, added, view)
    view.add_sentence(f"Saved: {output} ({result.size / 1000:,.0f} kB).")
    report_rejects(work.rejects, result.added, view)
    console.show(view)
    return Exit.DONE


def _show_added(answer: str, added: ExtendedAnswer, view: View) -> None:
    """How well the new documents were known, and what is right of either kind now."""
    which = f"{answer}: " if answer else ""
    unknown = (
        f"; {percent(added.unknown_share)} of their words were unknown to it" if added.unknown_share is not None else ""
    )
    view.add_sentence(
        f"{which}Of the new documents it got {percent(added.before.value)} ({interval(added.before)}) right before{unknown}."
    )
    older, newer = added.older, added.newer
    if older is not None and newer is not None and older.of and newer.of:
        view.add_sentence(
            f"{which}By folds it now gets {percent(newer.value)} ({interval(newer)}) of the new ones right, and "
            f"{percent(older.value)} ({interval(older)}) of the older ones."
        )


def _of_probabilities(way: Way, sorter: TrainedSorter) -> list[str]:
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
        case "everything" | "kept":
            return ["It is what training on all of them gives."] if way == "kept" else []
        case "sample":
            return ["Which terms are within the bounds, and how probable labels are, rests on the documents at hand."]
        case _:
            assert_never(way)
