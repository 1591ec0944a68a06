"""upsort terms."""

import argparse
from dataclasses import asdict
from pathlib import Path

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.status import Exit

DESCRIPTION = "For each label, the terms that speak most for it against the other labels."
EXAMPLE = "upsort terms desk.sorter --top 10"
OPTIONS = (
    options.Group(
        "what to list",
        (
            options.SORTER,
            options.option(
                "--top", type=options.whole_number(1), default=10, metavar="N", help="terms a label (default: 10)"
            ),
            options.option("--only", metavar="LABEL", help="this label alone"),
        ),
    ),
    options.COMMON,
)


def run(request: argparse.Namespace, console: Console) -> Exit:
    """List the terms."""
    from upsort.core.errors import UsageProblem
    from upsort.core.insight.terms import informative_terms
    from upsort.core.names import suggestion
    from upsort.core.plan import NAIVE_BAYES_KINDS
    from upsort.files.sorter_file import load_sorter

    sorter = load_sorter(Path(request.sorter))
    if request.only and request.only not in sorter.labels:
        raise UsageProblem(
            f"{request.sorter} has no label {request.only!r}.", suggestion(request.only, sorter.labels, "labels")
        )
    found = informative_terms(sorter, request.top)
    if request.only:
        found = {request.only: found[request.only]}
    if console.as_json:
        console.json({"labels": {label: [asdict(term) for term in terms] for label, terms in found.items()}})
        return Exit.DONE
    leaning = "log odds" if sorter.plan.classifier.kind in NAIVE_BAYES_KINDS else "weight"
    console.table(
        ("label", "term", leaning, "documents of the label", "other documents"),
        [
            (
                label if place == 0 or not console.drawn else "",
                term.term,
                f"{term.leaning:+.3f}",
                term.in_label,
                term.in_others,
            )
            for label, terms in found.items()
            for place, term in enumerate(terms)
        ],
        numeric=(2, 3, 4),
    )
    return Exit.DONE
