"""upsort evaluate."""

import argparse
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.request import inputs_of, named_columns, rows_json, set_aside_of, tell_set_aside
from upsort.cli.status import Exit
from upsort.cli.wording import (
    LABEL_COLUMNS,
    confusion_rows,
    headline,
    interval,
    judgement_json,
    label_rows,
    percent,
    rate_json,
    shortened,
)

if TYPE_CHECKING:
    from upsort.core.judging.measures import Judgement
    from upsort.jobs.evaluate import EvaluateResult

DESCRIPTION = "Judge a sorter on labelled documents that it was not trained on."
EXAMPLE = "upsort evaluate desk.sorter parts/held-out.csv -o mistakes.csv"
OPTIONS = (
    options.Group(
        "what to judge",
        (
            options.SORTER,
            options.INPUT,
            options.option("-o", "--output", metavar="FILE", help="write the documents it got wrong to a table"),
            options.option(
                "--mistakes", type=options.whole_number(0), default=5, metavar="N", help="how many mistakes to show"
            ),
        ),
    ),
    options.COLUMNS,
    options.READING,
    options.COMMON,
)


def run(request: argparse.Namespace, console: Console) -> Exit:
    """Judge and show."""
    from upsort.files.sorter_file import load_sorter
    from upsort.jobs.evaluate import evaluate
    from upsort.jobs.score import columns_for

    sorter = load_sorter(Path(request.sorter))
    inputs = inputs_of(request, console)
    output = Path(request.output) if request.output else None
    columns = columns_for(sorter, named_columns(request), inputs)
    with set_aside_of(request, output) as aside, console.progress("documents judged") as advance:
        result = evaluate(sorter, inputs, columns, aside, output, advance)
    used = result.judgement.accuracy.of or 0
    if console.as_json:
        console.json(
            judgement_json(result.judgement)
            | {
                "training_accuracy": rate_json(result.training_accuracy),
                "unknown_labels": result.unknown_labels,
                "mistakes": [asdict(mistake) for mistake in result.mistakes[: request.mistakes]],
                "rows": rows_json(aside, used),
            }
        )
        return Exit.DONE
    _show(result, request.mistakes, console)
    if output is not None:
        console.say(f"All {len(result.mistakes):,} mistaken rows: {output}.")
    tell_set_aside(aside, used, console)
    return Exit.DONE


def _show(result: "EvaluateResult", mistakes: int, console: Console) -> None:
    judgement = result.judgement
    for line in headline(judgement):
        console.say(line)
    console.say(f"On its own training documents it gets {percent(result.training_accuracy.value)}.")
    for label, count in result.unknown_labels.items():
        console.warn(
            f"{count:,} documents have the label {label!r}, which the sorter does not know; they count as wrong."
        )
    console.say()
    show_labels(judgement, console)
    if result.mistakes[:mistakes]:
        console.say()
        console.say("Wrong, and most sure of it:")
        console.table(
            ("document", "true label", "given label", "probability", "text"),
            [
                (mistake.reference, mistake.true, mistake.given, f"{mistake.probability:.3f}", shortened(mistake.text))
                for mistake in result.mistakes[:mistakes]
            ],
            numeric=(3,),
        )


def show_labels(judgement: "Judgement", console: Console) -> None:
    """The table by label, the confusion matrix, and the largest confusions in words."""
    console.table(LABEL_COLUMNS, label_rows(judgement), numeric=range(1, len(LABEL_COLUMNS)))
    console.say(f"Macro F1 {percent(judgement.macro_f1.value)} (95 % interval {interval(judgement.macro_f1)}).")
    console.say()
    console.say("True labels in rows, given labels in columns:")
    console.table(
        ("true \\ given", *judgement.labels), confusion_rows(judgement), numeric=range(1, len(judgement.labels) + 1)
    )
    for confusion in judgement.largest_confusions():
        console.say(
            f"{confusion.documents} of {confusion.of} {confusion.true!r} documents were taken for {confusion.given!r}."
        )
