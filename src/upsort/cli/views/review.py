"""Views of next and suspects."""

from pathlib import Path

from upsort.cli.commands.evaluation import SuspectsOptions
from upsort.cli.commands.reading import NextOptions
from upsort.cli.rendering.console import Console, Exit
from upsort.cli.rendering.findings import suspect_sentences
from upsort.cli.rendering.view import View, col, shortened
from upsort.cli.rendering.wording import percent
from upsort.cli.request import command_line, free_name, inputs_of, planned_context, report_rejects, scoring_context
from upsort.cli.views.evaluate import show_splits
from upsort.io.sorter.loading import load_sorter
from upsort.io.sources.entries import pattern_for
from upsort.workflows.next_documents import LabellingBenefit, suggest_documents
from upsort.workflows.suspects import suspects

_BRIEF = 6  # documents that are shown without --full


def run_next(options: NextOptions, console: Console) -> Exit:
    """Choose and show."""
    sorter = load_sorter(Path(options.sorter), options.answer)
    inputs = inputs_of(options, console, options.input)
    output = Path(options.output) if options.output else None
    seed = options.seed if options.seed is not None else sorter.plan.judge.seed
    with scoring_context(options, console, sorter, inputs, output) as incoming:
        result, used = suggest_documents(sorter, incoming, options.most, seed, output)
    view = View(result)
    view.add_answer(f"{len(result.documents):,} of {used:,} documents to label next, most useful first:")
    view.add_table(
        (
            col.name("document"),
            col.name("guess"),
            col.share("probability"),
            col.name("second guess", 7),
            col.number("entropy, bits", 1, full=True),
            col.name("why"),
            col.quote("text"),
        ),
        [
            (
                document.reference,
                document.guess,
                percent(document.probability),
                document.second,
                f"{document.entropy:.2f}",
                document.why,
                shortened(document.text),
            )
            for document in result.documents
        ],
        brief=(_BRIEF, "documents"),
    )
    _show_worth(result.worth, view)
    if output is not None:
        view.add_sentence(f"Fill in the label column of {output}.")
    report_rejects(incoming.rejects, used, view)
    console.show(view)
    return Exit.DONE


def _show_worth(worth: LabellingBenefit | None, view: View) -> None:
    """How much more labelling helps."""
    if worth is None:
        view.add_sentence("To estimate the benefit of more labels: upsort curve on the labelled documents.")
        return
    documents, now = worth.now
    more, low, high = worth.more
    twice, low_twice, high_twice = worth.twice
    view.add_sentence(
        f"Accuracy on folds with {documents:,} labelled documents: {percent(now)}; with {more:,} drawn at random "
        f"{100 * low:.1f}–{100 * high:.1f}%, with {twice:,} {100 * low_twice:.1f}–{100 * high_twice:.1f}% (95% prediction "
        "intervals)."
    )


def run_suspects(options: SuspectsOptions, console: Console) -> Exit:
    """Find and show."""
    output = Path(options.output) if options.output else None
    with planned_context(options, console, output) as work:
        result = suspects(work, options.most, output)
    view = View(result)
    answer, *remaining = suspect_sentences(result, options.most is not None)
    view.add_answer(answer)
    for line in remaining:
        view.add_sentence(line)
    if result.judged < result.documents:
        view.add_sentence(f"{result.documents - result.judged:,} documents are held out by no split and were not examined.")
    show_splits(result, work.plan, view)
    if result.suspects[: options.top]:
        view.add_sentence()
        view.add_table(
            (
                col.name("document"),
                col.name("label"),
                col.share("its probability", 2, full=True),
                col.name("suggested label"),
                col.share("probability", 2, full=True),
                col.share("chance of error"),
                col.text("terms for it", 1, full=True),
                col.quote("text"),
            ),
            [
                (
                    suspect.reference,
                    suspect.label,
                    percent(suspect.own),
                    suspect.rather or "(none)",
                    percent(suspect.other),
                    percent(suspect.wrong),
                    ", ".join(suspect.pulled_by),
                    shortened(suspect.text),
                )
                for suspect in result.suspects[: options.top]
            ],
            brief=(0 if "--top" in options.given else _BRIEF, "suspects"),
        )
    if output is not None:
        view.add_sentence(f"All {len(result.suspects):,} with their rows: {output}.")
    elif result.suspects:
        view.add_step(
            "Next, to write them to a table:",
            command_line("suspects", options, pattern_for(options.input), "-o", free_name("suspects.csv"), also=["--most"]),
        )
    report_rejects(work.rejects, result.documents, view)
    console.show(view)
    return Exit.DONE
