"""upsort suspects."""

import argparse
from dataclasses import asdict
from pathlib import Path

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.request import (
    LEARNING,
    completed,
    inputs_of,
    plan_of,
    rows_json,
    set_aside_of,
    tell_idle,
    tell_set_aside,
)
from upsort.cli.status import Exit
from upsort.cli.verdicts import suspects_told
from upsort.cli.wording import kept_json, kept_together, shortened

DESCRIPTION = (
    "List labelled documents whose own label looks wrong to sorters that never saw them, most suspicious first.\n"
    "-o writes their rows with the suggested label: correct the label column there and gather it with the rest."
)
EXAMPLE = "upsort suspects corpus.csv --text message --label topic -o suspects.csv"
OPTIONS = (
    options.Group(
        "what to look through",
        (
            options.INPUT,
            *options.FOLDS,
            options.SEED,
            options.WORKERS,
            options.option(
                "--top", type=options.whole_number(0), default=15, metavar="N", help="how many to show (15)"
            ),
            options.option(
                "--most",
                type=options.whole_number(1),
                metavar="N",
                help="list the N most suspicious (default: those more likely wrong than right)",
            ),
            options.option("-o", "--output", metavar="FILE", help="write the suspicious rows to a table"),
        ),
    ),
    options.COLUMNS,
    options.READING,
    options.PLAN,
    options.COMMON,
)
RULES: tuple[options.Rule, ...] = (
    *options.FOLDS_RULES,
    options.Clash("--json", ("--top",), "JSON lists all"),
)


def run(request: argparse.Namespace, console: Console) -> Exit:
    """Find and show."""
    from upsort.jobs.suspects import Looking, suspects

    plan = plan_of(request, console)
    inputs = inputs_of(request, console, plan.source)
    plan = completed(plan, inputs, "needed", console)
    tell_idle([plan], console, LEARNING)
    output = Path(request.output) if request.output else None
    with set_aside_of(request, output) as aside, console.progress("documents read") as advance:
        found = suspects(inputs, plan, aside, advance, Looking(request.workers, request.most, output))
    if console.as_json:
        console.json(
            {
                "suspects": [asdict(one) for one in found.suspects],
                "expected_wrong": dict(zip(("value", "low", "high"), found.expected, strict=True)),
                "wrong_share_by_label": found.noise,
                "judged_by": list(found.kinds),
                "judged": found.judged,
                **kept_json(found.kept),
                "rows": rows_json(aside, found.documents),
            }
        )
        return Exit.DONE
    for line in suspects_told(found, request.most is not None):
        console.say(line)
    if found.judged < found.documents:
        console.say(
            f"{found.documents - found.judged:,} documents are held out by no split, so that nothing is said of them."
        )
    for line in kept_together(found.kept, plan):
        console.say(line)
    if found.suspects[: request.top]:
        console.say()
        console.table(
            ("document", "label", "suggested", "own", "suggested", "wrong", "because of", "text"),
            [
                (
                    one.reference,
                    one.label,
                    one.suggested,
                    f"{one.own:.3f}",
                    f"{one.other:.3f}",
                    f"{one.wrong:.3f}",
                    ", ".join(one.pulled_by),
                    shortened(one.text, 110),
                )
                for one in found.suspects[: request.top]
            ],
            numeric=(3, 4, 5),
        )
    if output is not None:
        console.say(f"All of them, with their rows: {output}.")
    tell_set_aside(aside, found.documents, console)
    return Exit.DONE
