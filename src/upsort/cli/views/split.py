"""What upsort split shows."""

from pathlib import Path

from upsort.cli.commands.corpus import SplitOptions
from upsort.cli.rendering import columns as col
from upsort.cli.rendering.console import Console
from upsort.cli.rendering.view import View
from upsort.cli.rendering.wording import percent
from upsort.cli.request import inputs_of, note_unused_keys, plan_of, report_rejects, with_guessed_columns
from upsort.cli.status import Exit
from upsort.core.plan import Plan
from upsort.io.outputs.atomic import make_folder
from upsort.io.outputs.rejects import RejectedRows
from upsort.workflows.context import RunContext
from upsort.workflows.split import SplitResult, split


def run(options: SplitOptions, console: Console) -> Exit:
    """Split and tell how many went where."""
    plan = plan_of(options, console)
    inputs = inputs_of(options, console, options.input, plan.source)
    plan = with_guessed_columns(plan, inputs, "needed", console)
    note_unused_keys(options, [plan], console, ())
    folder = Path(options.output)
    make_folder(folder)
    rejects_file = Path(options.set_aside) if options.set_aside else folder / "set-aside.csv"
    with RejectedRows(rejects_file) as rejects:
        result = split(RunContext(inputs=inputs, plan=plan, rejects=rejects), options.hold_out, folder)
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
            "taken_out_of_training": result.excluded,
            "without_date": result.undated,
            "off_the_share": {label or "all": share for label, share in result.far.items()},
            "seed": None if plan.judge.in_time else plan.judge.seed,
        }
    )
    view.add_table(
        (col.name("label"), col.count("training"), col.count("held out")),
        [
            *((label, result.training_labels[label], result.held_out_labels[label]) for label in result.labels),
            ("all", training, held_out),
        ],
    )
    _report(result, plan, options.hold_out, view)
    seed = "" if plan.judge.in_time else f" (seed {plan.judge.seed})"
    view.add_sentence(f"Written: {result.training} and {result.held_out}{seed}.")
    report_rejects(rejects, training + held_out, view)
    console.show(view)
    return Exit.DONE


def _report(result: SplitResult, plan: Plan, share: float, view: View) -> None:
    """How copies and groups were kept on one side, and how near the shares came."""
    if result.copies and not plan.judge.allow_copies:
        view.add_sentence(f"{result.copies:,} rows copy another one; copies are on one side.")
    if result.groups is not None:
        view.add_sentence(
            f"Rows with the same {plan.columns.group!r} are on one side; there are {result.groups:,} groups."
        )
    if result.excluded:
        view.add_sentence(
            f"{result.excluded:,} earlier rows belong together with a held-out one (the same group, or a copy); "
            "they are in neither "
            "part, but set aside."
        )
    if result.dates:
        view.add_sentence(result.dates)
    if result.undated:
        view.add_sentence(f"{result.undated:,} rows have no date; they are in neither part, but set aside.")
    if result.far:
        why = "Rows that belong together cannot be divided"
        if plan.columns.label_separator:
            why = "A row goes to one part with all of its labels, copies and groups as well"
        shares = ", ".join(f"{label or 'all rows'} {percent(held_out)}" for label, held_out in result.far.items())
        view.add_warning(f"held out are not {percent(share)} of each label: {shares}. {why}.")
