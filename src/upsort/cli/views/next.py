"""What upsort next shows."""

from dataclasses import asdict
from pathlib import Path

from upsort.cli.commands.reading import NextOptions
from upsort.cli.rendering import columns as col
from upsort.cli.rendering.console import Console
from upsort.cli.rendering.view import View
from upsort.cli.rendering.wording import percent, shortened
from upsort.cli.request import inputs_of, report_rejects, scoring_input
from upsort.cli.status import Exit
from upsort.io.sorter.loading import load_sorter
from upsort.workflows.next_documents import LabellingBenefit, labelling_benefit, suggest_documents


def run(options: NextOptions, console: Console) -> Exit:
    """Choose and show."""
    sorter = load_sorter(Path(options.sorter), options.answer)
    inputs = inputs_of(options, console, options.input)
    output = Path(options.output) if options.output else None
    seed = options.seed if options.seed is not None else sorter.plan.judge.seed
    with scoring_input(options, console, sorter, inputs, output) as incoming:
        documents, used = suggest_documents(sorter, incoming, options.most, seed, output)
    worth = labelling_benefit(sorter, len(documents))
    view = View(
        {
            "documents": [asdict(document) for document in documents],
            "worth": asdict(worth) if worth is not None else None,
            "written": str(output) if output else None,
        }
    )
    view.add_table(
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
                document.reference,
                document.guess,
                f"{document.probability:.2f}",
                document.second,
                f"{document.entropy:.2f}",
                document.why,
                shortened(document.text, 110),
            )
            for document in documents
        ],
    )
    _show_worth(worth, view)
    if output is not None:
        view.add_sentence(f"To be filled in: {output}.")
    report_rejects(incoming.rejects, used, view)
    console.show(view)
    return Exit.DONE


def _show_worth(worth: LabellingBenefit | None, view: View) -> None:
    """How many more are worth labelling."""
    if worth is None:
        view.add_note("How many more are worth labelling tells upsort curve, on the labelled documents.")
        return
    documents, now = worth.now
    more, low, high = worth.more
    twice, low_twice, high_twice = worth.twice
    view.add_sentence(
        f"Of its {documents:,} labelled documents it gets {percent(now)} right by folds; of {more:,} drawn at random it would be "
        f"{100 * low:.1f} to {100 * high:.1f} %, of {twice:,} {100 * low_twice:.1f} to {100 * high_twice:.1f} % (95 % "
        "prediction intervals)."
    )
