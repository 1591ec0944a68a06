"""upsort next."""

import argparse
from dataclasses import asdict
from pathlib import Path

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.request import incoming_of, inputs_of, rows_json, set_aside_of, tell_set_aside
from upsort.cli.status import Exit
from upsort.cli.wording import shortened

DESCRIPTION = (
    "Which unlabelled documents to label next: those the sorter is least certain about, spread over different contents.\n"
    "-o writes their rows with an empty label column; fill it in and give the table to upsort extend or train."
)
EXAMPLE = "upsort next desk.sorter letters-2026.csv --most 30 -o to-label.csv"
OPTIONS = (
    options.Group(
        "what to choose from",
        (
            options.SORTER,
            options.INPUT,
            options.option(
                "--most", type=options.whole_number(1), default=20, metavar="N", help="how many (default: 20)"
            ),
            options.option(
                "--answer", metavar="COLUMN", default="", help="which answer, where the sorter gives several"
            ),
            options.SEED,
            options.option("-o", "--output", metavar="FILE", help="write their rows to a table"),
        ),
    ),
    options.columns("text", "id", "vectors"),
    options.READING,
    options.COMMON,
)
RULES: tuple[options.Rule, ...] = ()


def run(request: argparse.Namespace, console: Console) -> Exit:
    """Choose and show."""
    from upsort.files.sorter_file import load_sorter
    from upsort.jobs.label_next import label_next

    sorter = load_sorter(Path(request.sorter), request.answer)
    inputs = inputs_of(request, console)
    output = Path(request.output) if request.output else None
    seed = request.seed if request.seed is not None else sorter.plan.judge.seed
    with set_aside_of(request, output) as aside, console.progress("documents read") as advance:
        incoming = incoming_of(request, sorter, inputs, aside, advance)
        found, used = label_next(sorter, incoming, request.most, seed, output)
    if console.as_json:
        console.json(
            {
                "documents": [asdict(one) for one in found],
                "written": str(output) if output else None,
                "rows": rows_json(aside, used),
            }
        )
        return Exit.DONE
    console.table(
        ("document", "guess", "probability", "or", "bits", "text"),
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
        numeric=(2, 4),
    )
    if output is not None:
        console.say(f"To be filled in: {output}.")
    tell_set_aside(aside, used, console)
    return Exit.DONE
