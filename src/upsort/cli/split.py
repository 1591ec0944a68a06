"""upsort split."""

import argparse
from pathlib import Path

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.request import inputs_of, plan_of, rows_json, tell_set_aside
from upsort.cli.status import Exit

DESCRIPTION = "Divide a corpus into a training part and a held-out part, each label in the same share in both."
EXAMPLE = "upsort split corpus.csv --label topic --hold-out 0.2 --seed 5 -o parts/"
OPTIONS = (
    options.Group(
        "what to split",
        (
            options.INPUT,
            options.option("--hold-out", type=options.share, default=0.2, metavar="SHARE", help="default: 0.2"),
            options.SEED,
            options.option(
                "--in-time", action="store_const", const=True, help="hold out the latest (needs columns.date)"
            ),
            options.option("--allow-copies", action="store_const", const=True, help="copies may stand on both sides"),
            options.option(
                "-o", "--output", required=True, metavar="FOLDER", help="where train.csv and held-out.csv go"
            ),
        ),
    ),
    options.COLUMNS,
    options.READING,
    options.PLAN,
    options.COMMON,
)


def run(request: argparse.Namespace, console: Console) -> Exit:
    """Split and tell how many went where."""
    from dataclasses import replace

    from upsort.files.documents import complete_columns
    from upsort.files.set_aside import SetAside
    from upsort.files.writing import make_folder
    from upsort.jobs.split import split

    plan = plan_of(request, console)
    inputs = inputs_of(request, console, plan.source)
    columns = plan.columns
    if not columns.label or not columns.text:
        guessed, notes = complete_columns(inputs, columns, "needed")
        columns = replace(columns, text=guessed.text, label=guessed.label)
        for note in notes:
            console.note(note)
    folder = Path(request.output)
    make_folder(folder)
    aside_file = Path(request.set_aside) if request.set_aside else folder / "set-aside.csv"
    with SetAside(aside_file) as aside:
        result = split(
            inputs,
            columns,
            request.hold_out,
            plan.judge.seed,
            folder,
            aside,
            plan.judge.allow_copies,
            plan.judge.in_time,
        )
    used = result.training_labels.total() + result.held_out_labels.total()
    if console.as_json:
        console.json(
            {
                "training": {"file": str(result.training), "documents": result.training_labels.total()},
                "held_out": {"file": str(result.held_out), "documents": result.held_out_labels.total()},
                "labels": {
                    label: {"training": result.training_labels[label], "held_out": result.held_out_labels[label]}
                    for label in result.labels
                },
                "copies": result.copies,
                "seed": plan.judge.seed,
                "rows": rows_json(aside, used),
            }
        )
        return Exit.DONE
    console.table(
        ("label", "training", "held out"),
        [
            *((label, result.training_labels[label], result.held_out_labels[label]) for label in result.labels),
            ("all", result.training_labels.total(), result.held_out_labels.total()),
        ],
        numeric=(1, 2),
    )
    if result.copies:
        console.say(f"{result.copies:,} rows copy another one; copies are on one side.")
    console.say(f"Written: {result.training} and {result.held_out} (seed {plan.judge.seed}).")
    tell_set_aside(aside, used, console)
    return Exit.DONE
