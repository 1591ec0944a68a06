"""What upsort suspects shows."""

from dataclasses import asdict
from pathlib import Path

from upsort.cli.commands.evaluation import SuspectsOptions
from upsort.cli.rendering import columns as col
from upsort.cli.rendering.console import Console
from upsort.cli.rendering.findings import suspect_sentences
from upsort.cli.rendering.view import View
from upsort.cli.rendering.wording import duplicates_json, duplicates_sentences, shortened
from upsort.cli.request import (
    LEARNING,
    inputs_of,
    note_unused_keys,
    plan_of,
    report_rejects,
    run_context,
    with_guessed_columns,
)
from upsort.cli.status import Exit
from upsort.workflows.suspects import SuspectRequest, suspects


def run(options: SuspectsOptions, console: Console) -> Exit:
    """Find and show."""
    plan = plan_of(options, console)
    inputs = inputs_of(options, console, options.input, plan.source)
    plan = with_guessed_columns(plan, inputs, "needed", console)
    note_unused_keys(options, [plan], console, LEARNING)
    output = Path(options.output) if options.output else None
    with run_context(options, console, inputs, plan, output) as work:
        result = suspects(work, SuspectRequest(options.most, output))
    view = View(
        {
            "suspects": [asdict(suspect) for suspect in result.suspects],
            "expected_wrong": dict(zip(("value", "low", "high"), result.expected, strict=True)),
            "wrong_share_by_label": result.noise,
            "judged_by": list(result.kinds),
            "judged": result.judged,
            **duplicates_json(result.duplicates),
        }
    )
    for line in suspect_sentences(result, options.most is not None):
        view.add_sentence(line)
    if result.judged < result.documents:
        view.add_sentence(
            f"{result.documents - result.judged:,} documents are held out by no split, so that nothing is said of them."
        )
    for line in duplicates_sentences(result.duplicates, plan):
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
