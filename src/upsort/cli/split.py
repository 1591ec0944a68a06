"""upsort split."""

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.request import completed, inputs_of, plan_of, rows_json, tell_set_aside
from upsort.cli.status import Exit
from upsort.cli.wording import percent

if TYPE_CHECKING:
    from upsort.core.plan import Plan
    from upsort.jobs.split import SplitResult

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
    options.columns("text", "label", "id"),
    options.READING,
    options.PLAN,
    options.COMMON,
)
RULES: tuple[options.Rule, ...] = (
    options.Clash("--in-time", ("--seed",), "the latest rows are held out, whatever the seed"),
)


def run(request: argparse.Namespace, console: Console) -> Exit:
    """Split and tell how many went where."""
    from upsort.files.set_aside import SetAside
    from upsort.files.writing import make_folder
    from upsort.jobs.split import split

    plan = plan_of(request, console)
    inputs = inputs_of(request, console, plan.source)
    plan = completed(plan, inputs, "needed", console)
    folder = Path(request.output)
    make_folder(folder)
    aside_file = Path(request.set_aside) if request.set_aside else folder / "set-aside.csv"
    with SetAside(aside_file) as aside:
        result = split(inputs, plan, request.hold_out, folder, aside)
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
                "groups": result.groups,
                "taken_out_of_training": result.taken_out,
                "without_date": result.undated,
                "off_the_share": {label or "all": share for label, share in result.far.items()},
                "seed": None if plan.judge.in_time else plan.judge.seed,
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
    _tell(result, plan, request.hold_out, console)
    seed = "" if plan.judge.in_time else f" (seed {plan.judge.seed})"
    console.say(f"Written: {result.training} and {result.held_out}{seed}.")
    tell_set_aside(aside, used, console)
    return Exit.DONE


def _tell(result: "SplitResult", plan: "Plan", share: float, console: Console) -> None:
    """How copies and groups were kept on one side, and how near the shares came."""
    if result.copies and not plan.judge.allow_copies:
        console.say(f"{result.copies:,} rows copy another one; copies are on one side.")
    if result.groups is not None:
        console.say(f"Rows with the same {plan.columns.group!r} are on one side; there are {result.groups:,} groups.")
    if result.taken_out:
        console.say(
            f"{result.taken_out:,} earlier rows belong together with a held-out one (the same group, or a copy); "
            "they are in neither "
            "part, but set aside."
        )
    if result.undated:
        console.say(f"{result.undated:,} rows have no date; they are in neither part, but set aside.")
    if result.far:
        told = ", ".join(f"{label or 'all rows'} {percent(held)}" for label, held in result.far.items())
        console.warn(
            f"held out are not {percent(share)} of each label: {told}. Rows that belong together cannot be divided."
        )
