"""What upsort split shows."""

from pathlib import Path

from upsort.cli import columns as col
from upsort.cli.console import Console
from upsort.cli.request import completed, inputs_of, plan_of, tell_idle, tell_set_aside
from upsort.cli.specs.split import SplitOptions
from upsort.cli.status import Exit
from upsort.cli.view import View
from upsort.cli.wording import percent
from upsort.core.plan import Plan
from upsort.files.set_aside import SetAside
from upsort.files.writing import make_folder
from upsort.jobs.split import SplitResult, split
from upsort.jobs.work import Work


def run(options: SplitOptions, console: Console) -> Exit:
    """Split and tell how many went where."""
    plan = plan_of(options, console)
    inputs = inputs_of(options, console, options.input, plan.source)
    plan = completed(plan, inputs, "needed", console)
    tell_idle(options, [plan], console, ())
    folder = Path(options.output)
    make_folder(folder)
    aside_file = Path(options.set_aside) if options.set_aside else folder / "set-aside.csv"
    with SetAside(aside_file) as aside:
        result = split(Work(inputs=inputs, plan=plan, aside=aside), options.hold_out, folder)
    training, held_out = result.training_rows, result.held_out_rows
    view = View(
        {
            "training": {"file": str(result.training), "documents": training},
            "held_out": {"file": str(result.held_out), "documents": held_out},
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
        }
    )
    view.table(
        (col.name("label"), col.count("training"), col.count("held out")),
        [
            *((label, result.training_labels[label], result.held_out_labels[label]) for label in result.labels),
            ("all", training, held_out),
        ],
    )
    _tell(result, plan, options.hold_out, view)
    seed = "" if plan.judge.in_time else f" (seed {plan.judge.seed})"
    view.say(f"Written: {result.training} and {result.held_out}{seed}.")
    tell_set_aside(aside, training + held_out, view)
    console.show(view)
    return Exit.DONE


def _tell(result: SplitResult, plan: Plan, share: float, view: View) -> None:
    """How copies and groups were kept on one side, and how near the shares came."""
    if result.copies and not plan.judge.allow_copies:
        view.say(f"{result.copies:,} rows copy another one; copies are on one side.")
    if result.groups is not None:
        view.say(f"Rows with the same {plan.columns.group!r} are on one side; there are {result.groups:,} groups.")
    if result.taken_out:
        view.say(
            f"{result.taken_out:,} earlier rows belong together with a held-out one (the same group, or a copy); "
            "they are in neither "
            "part, but set aside."
        )
    if result.dates:
        view.say(result.dates)
    if result.undated:
        view.say(f"{result.undated:,} rows have no date; they are in neither part, but set aside.")
    if result.far:
        why = "Rows that belong together cannot be divided"
        if plan.columns.label_separator:
            why = "A row goes to one part with all of its labels, copies and groups as well"
        told = ", ".join(f"{label or 'all rows'} {percent(held)}" for label, held in result.far.items())
        view.warn(f"held out are not {percent(share)} of each label: {told}. {why}.")
