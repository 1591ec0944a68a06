"""What upsort suspects shows."""

from dataclasses import asdict
from pathlib import Path

from upsort.cli import columns as col
from upsort.cli.console import Console
from upsort.cli.request import (
    LEARNING,
    completed,
    inputs_of,
    plan_of,
    tell_idle,
    tell_set_aside,
    working,
)
from upsort.cli.specs.suspects import SuspectsOptions
from upsort.cli.status import Exit
from upsort.cli.verdicts import suspects_told
from upsort.cli.view import View
from upsort.cli.wording import kept_json, kept_together, shortened
from upsort.jobs.suspects import Looking, suspects


def run(options: SuspectsOptions, console: Console) -> Exit:
    """Find and show."""
    plan = plan_of(options, console)
    inputs = inputs_of(options, console, options.input, plan.source)
    plan = completed(plan, inputs, "needed", console)
    tell_idle(options, [plan], console, LEARNING)
    output = Path(options.output) if options.output else None
    with working(options, console, inputs, plan, output) as work:
        found = suspects(work, Looking(options.most, output))
    view = View(
        {
            "suspects": [asdict(one) for one in found.suspects],
            "expected_wrong": dict(zip(("value", "low", "high"), found.expected, strict=True)),
            "wrong_share_by_label": found.noise,
            "judged_by": list(found.kinds),
            "judged": found.judged,
            **kept_json(found.kept),
        }
    )
    for line in suspects_told(found, options.most is not None):
        view.say(line)
    if found.judged < found.documents:
        view.say(
            f"{found.documents - found.judged:,} documents are held out by no split, so that nothing is said of them."
        )
    for line in kept_together(found.kept, plan):
        view.say(line)
    if found.suspects[: options.top]:
        view.say()
        view.table(
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
                    one.reference,
                    one.label,
                    f"{one.own:.3f}",
                    one.rather or "(none)",
                    f"{one.other:.3f}",
                    f"{one.wrong:.3f}",
                    ", ".join(one.pulled_by),
                    shortened(one.text, 110),
                )
                for one in found.suspects[: options.top]
            ],
        )
    if output is not None:
        view.say(f"All of them, with their rows: {output}.")
    tell_set_aside(work.aside, found.documents, view)
    console.show(view)
    return Exit.DONE
