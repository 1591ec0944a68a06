"""Views of next and suspects."""

from pathlib import Path

from upsort.cli.commands.evaluation import SuspectsOptions
from upsort.cli.commands.reading import NextOptions
from upsort.cli.rendering import columns as col
from upsort.cli.rendering.console import Console, Exit
from upsort.cli.rendering.findings import suspect_sentences
from upsort.cli.rendering.view import View
from upsort.cli.rendering.wording import duplicates_sentences, percent, shortened
from upsort.cli.request import inputs_of, planned_context, report_rejects, scoring_context
from upsort.io.sorter.loading import load_sorter
from upsort.workflows.next_documents import LabellingBenefit, suggest_documents
from upsort.workflows.suspects import suspects


def run_next(options: NextOptions, console: Console) -> Exit:
    """Choose and show."""
    sorter = load_sorter(Path(options.sorter), options.answer)
    inputs = inputs_of(options, console, options.input)
    output = Path(options.output) if options.output else None
    seed = options.seed if options.seed is not None else sorter.plan.judge.seed
    with scoring_context(options, console, sorter, inputs, output) as incoming:
        result, used = suggest_documents(sorter, incoming, options.most, seed, output)
    view = View(result)
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
            for document in result.documents
        ],
    )
    _show_worth(result.worth, view)
    if output is not None:
        view.add_sentence(f"To be filled in: {output}.")
    report_rejects(incoming.rejects, used, view)
    console.show(view)
    return Exit.DONE


def _show_worth(worth: LabellingBenefit | None, view: View) -> None:
    """How much more labelling helps."""
    if worth is None:
        view.add_note("To see how much more labelling helps, run upsort curve on the labelled documents.")
        return
    documents, now = worth.now
    more, low, high = worth.more
    twice, low_twice, high_twice = worth.twice
    view.add_sentence(
        f"Of its {documents:,} labelled documents it gets {percent(now)} right by folds; of {more:,} drawn at random it would be "
        f"{100 * low:.1f} to {100 * high:.1f} %, of {twice:,} {100 * low_twice:.1f} to {100 * high_twice:.1f} % (95 % "
        "prediction intervals)."
    )


def run_suspects(options: SuspectsOptions, console: Console) -> Exit:
    """Find and show."""
    output = Path(options.output) if options.output else None
    with planned_context(options, console, output) as work:
        result = suspects(work, options.most, output)
    view = View(result)
    for line in suspect_sentences(result, options.most is not None):
        view.add_sentence(line)
    if result.judged < result.documents:
        view.add_sentence(
            f"{result.documents - result.judged:,} documents are held out by no split, so that nothing is said of them."
        )
    for line in duplicates_sentences(result, work.plan):
        view.add_sentence(line)
    if result.suspects[: options.top]:
        view.add_sentence()
        view.add_table(
            (
                col.name("document"),
                col.name("label"),
                col.number("its probability", 2),
                col.name("rather"),
                col.number("its probability", 2),
                col.number("wrong"),
                col.text("because of", 1),
                col.text("text"),
            ),
            [
                (
                    suspect.reference,
                    suspect.label,
                    f"{suspect.own:.3f}",
                    suspect.rather or "(none)",
                    f"{suspect.other:.3f}",
                    f"{suspect.wrong:.3f}",
                    ", ".join(suspect.pulled_by),
                    shortened(suspect.text, 110),
                )
                for suspect in result.suspects[: options.top]
            ],
        )
    if output is not None:
        view.add_sentence(f"All of them, with their rows: {output}.")
    report_rejects(work.rejects, result.documents, view)
    console.show(view)
    return Exit.DONE
