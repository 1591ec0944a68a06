"""What upsort next shows."""

from dataclasses import asdict
from pathlib import Path

from upsort.cli import columns as col
from upsort.cli.console import Console
from upsort.cli.request import coming_in, inputs_of, tell_set_aside
from upsort.cli.specs.next import NextOptions
from upsort.cli.status import Exit
from upsort.cli.view import View
from upsort.cli.wording import percent, shortened
from upsort.files.sorter_loading import load_sorter
from upsort.jobs.label_next import Worth, label_next, worth_of


def run(options: NextOptions, console: Console) -> Exit:
    """Choose and show."""
    sorter = load_sorter(Path(options.sorter), options.answer)
    inputs = inputs_of(options, console, options.input)
    output = Path(options.output) if options.output else None
    seed = options.seed if options.seed is not None else sorter.plan.judge.seed
    with coming_in(options, console, sorter, inputs, output) as incoming:
        found, used = label_next(sorter, incoming, options.most, seed, output)
    worth = worth_of(sorter, len(found))
    view = View(
        {
            "documents": [asdict(one) for one in found],
            "worth": asdict(worth) if worth is not None else None,
            "written": str(output) if output else None,
        }
    )
    view.table(
        (
            col.name("document"),
            col.name("guess"),
            col.number("probability"),
            col.name("or"),
            col.number("bits", 1),
            col.name("why", 2),
            col.text("text"),
        ),
        [
            (
                one.reference,
                one.guess,
                f"{one.probability:.2f}",
                one.second,
                f"{one.entropy:.2f}",
                one.why,
                shortened(one.text, 110),
            )
            for one in found
        ],
    )
    _show_worth(worth, view)
    if output is not None:
        view.say(f"To be filled in: {output}.")
    tell_set_aside(incoming.aside, used, view)
    console.show(view)
    return Exit.DONE


def _show_worth(worth: Worth | None, view: View) -> None:
    """How many more are worth labelling."""
    if worth is None:
        view.note("How many more are worth labelling tells upsort curve, on the labelled documents.")
        return
    documents, now = worth.now
    more, low, high = worth.more
    twice, low_twice, high_twice = worth.twice
    view.say(
        f"Of its {documents:,} labelled documents it gets {percent(now)} right by folds; of {more:,} drawn at random it would be "
        f"{100 * low:.1f} to {100 * high:.1f} %, of {twice:,} {100 * low_twice:.1f} to {100 * high_twice:.1f} % (95 % "
        "prediction intervals)."
    )
