"""upsort train."""

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.request import completed, inputs_of, plan_of, rows_json, set_aside_of, tell_set_aside
from upsort.cli.status import Exit
from upsort.cli.wording import percent, rate_json, shortened
from upsort.core.names import listed

if TYPE_CHECKING:
    from upsort.jobs.train import TrainResult

DESCRIPTION = "Train a sorter on labelled documents and save it."
EXAMPLE = "upsort train parts/train.csv --text message --label topic -o desk.sorter"
OPTIONS = (
    options.Group(
        "what to train",
        (
            options.INPUT,
            options.SEED,
            options.WORKERS,
            options.option("-o", "--output", required=True, metavar="NAME.sorter", help="the sorter file to write"),
        ),
    ),
    options.COLUMNS,
    options.READING,
    options.PLAN,
    options.COMMON,
)

_SCARCE = 10  # documents of a label below which it is hardly learned


def run(request: argparse.Namespace, console: Console) -> Exit:
    """Train, save, and tell what came of it."""
    from upsort.jobs.train import train

    plan = plan_of(request, console)
    inputs = inputs_of(request, console, plan.source)
    plan = completed(plan, inputs, "needed", console)
    output = Path(request.output)
    with set_aside_of(request, output) as aside, console.progress("documents read") as advance:
        result = train(inputs, plan, output, aside, advance, request.workers)
    trained = result.sorter.trained
    if console.as_json:
        console.json(_as_json(result) | {"rows": rows_json(aside, trained.documents)})
    else:
        _show(result, console)
        tell_set_aside(aside, trained.documents, console)
    _warn(result, console)
    return Exit.DONE


def _show(result: "TrainResult", console: Console) -> None:
    sorter, trained = result.sorter, result.sorter.trained
    console.say(
        f"Trained {sorter.plan.classifier.kind} on {trained.documents:,} documents, {len(sorter.space.terms):,} terms "
        f"({sorter.plan.features.weighting}) and {len(sorter.labels)} labels."
    )
    if result.too_common:
        share = sorter.plan.features.in_at_most
        console.say(f"Left out, being in more than {share:.0%} of the documents: {listed(result.too_common, 8)}.")
    if trained.iterations:
        console.say(
            f"The optimiser took {trained.iterations} steps; the gradient is {trained.optimality:.1e} of what it was "
            f"at the start (asked for: {sorter.plan.classifier.tolerance:.1e})."
        )
    accuracy = result.training_accuracy
    console.say(
        f"It gets {percent(accuracy.value)} of its own training documents right. That says little about new ones: "
        "judge it with upsort evaluate or upsort cross-validate."
    )
    console.say(f"Saved: {result.path} ({result.size / 1000:,.0f} kB).")


def _warn(result: "TrainResult", console: Console) -> None:
    sorter, trained = result.sorter, result.sorter.trained
    if result.without_tokens:
        console.warn(
            f"{result.without_tokens:,} documents have no tokens after cleaning; they teach nothing but their label."
        )
    if not trained.reached:
        console.warn(
            f"training stopped after {trained.iterations} steps at {trained.optimality:.1e} of the first gradient, short "
            f"of {sorter.plan.classifier.tolerance:.1e}; raise classifier.most_iterations or classifier.penalty."
        )
    scarce = [
        f"{shortened(label, 40)} ({count})"
        for label, count in zip(sorter.labels, trained.label_documents.tolist(), strict=True)
        if count < _SCARCE
    ]
    if scarce:
        console.warn(
            f"fewer than {_SCARCE} training documents: {', '.join(scarce[:8])}; such labels are hardly learned."
        )


def _as_json(result: "TrainResult") -> dict[str, Any]:
    sorter, trained = result.sorter, result.sorter.trained
    return {
        "sorter": str(result.path),
        "bytes": result.size,
        "classifier": sorter.plan.classifier.kind,
        "documents": trained.documents,
        "terms": len(sorter.space.terms),
        "labels": dict(zip(sorter.labels, trained.label_documents.tolist(), strict=True)),
        "iterations": trained.iterations,
        "optimality": trained.optimality,
        "reached": trained.reached,
        "too_common": result.too_common,
        "without_tokens": result.without_tokens,
        "training_accuracy": rate_json(result.training_accuracy),
    }
