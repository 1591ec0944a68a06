"""What upsort next shows."""

from dataclasses import asdict
from pathlib import Path

from upsort.cli import columns as col
from upsort.cli.console import Console
from upsort.cli.request import coming_in, inputs_of, tell_set_aside
from upsort.cli.specs.next import NextOptions
from upsort.cli.status import Exit
from upsort.cli.view import View
from upsort.cli.wording import shortened
from upsort.files.sorter_loading import load_sorter
from upsort.jobs.label_next import label_next


def run(options: NextOptions, console: Console) -> Exit:
    """Choose and show."""
    sorter = load_sorter(Path(options.sorter), options.answer)
    inputs = inputs_of(options, console, options.input)
    output = Path(options.output) if options.output else None
    seed = options.seed if options.seed is not None else sorter.plan.judge.seed
    with coming_in(options, console, sorter, inputs, output) as incoming:
        found, used = label_next(sorter, incoming, options.most, seed, output)
    view = View({"documents": [asdict(one) for one in found], "written": str(output) if output else None})
    view.table(
        (
            col.name("document"),
            col.name("guess"),
            col.number("probability"),
            col.name("or"),
            col.number("bits", 1),
            col.text("text"),
        ),
        [
            (
                one.reference,
                one.guess,
                f"{one.probability:.2f}",
                one.second,
                f"{one.entropy:.2f}",
                shortened(one.text, 110),
            )
            for one in found
        ],
    )
    if output is not None:
        view.say(f"To be filled in: {output}.")
    tell_set_aside(incoming.aside, used, view)
    console.show(view)
    return Exit.DONE
