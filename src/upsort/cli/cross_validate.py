"""upsort cross-validate."""

import argparse

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.evaluate import show_labels
from upsort.cli.request import completed, inputs_of, plan_of, rows_json, set_aside_of, tell_set_aside
from upsort.cli.status import Exit
from upsort.cli.wording import headline, interval, judgement_json, percent, rate_json

DESCRIPTION = (
    "Judge a plan by folds: each document is judged by a sorter trained on the other folds.\n"
    "Vocabulary, bounds and document frequencies are learned inside each fold's training part."
)
EXAMPLE = "upsort cross-validate corpus.csv --text message --label topic --folds 5"
OPTIONS = (
    options.Group(
        "what to judge",
        (
            options.INPUT,
            options.option("--folds", type=options.whole_number(2), metavar="N", help="default: the plan's, 5"),
            options.SEED,
            options.WORKERS,
        ),
    ),
    options.COLUMNS,
    options.READING,
    options.PLAN,
    options.COMMON,
)


def run(request: argparse.Namespace, console: Console) -> Exit:
    """Cross-validate and show."""
    from upsort.jobs.cross_validate import cross_validate

    plan = plan_of(request, console)
    inputs = inputs_of(request, console, plan.source)
    plan = completed(plan, inputs, "needed", console)
    with set_aside_of(request, None) as aside, console.progress("documents read") as advance:
        found = cross_validate(inputs, plan, aside, advance, workers=request.workers)
    result = found.result
    if console.as_json:
        folds = [
            {
                "fold": number,
                "accuracy": rate_json(fold.accuracy),
                "baseline": rate_json(fold.baseline),
                "training_accuracy": rate_json(fold.training_accuracy),
                "terms": fold.terms,
                "reached": fold.reached,
            }
            for number, fold in enumerate(result.folds, 1)
        ]
        console.json(
            judgement_json(result.overall)
            | {"folds": folds, "spread": result.spread(), "rows": rows_json(aside, found.documents)}
        )
        return Exit.DONE
    for line in headline(result.overall):
        console.say(line)
    console.say(f"Between the folds the accuracy has a standard deviation of {percent(result.spread())}.")
    console.say()
    console.table(
        ("fold", "right", "of", "accuracy", "95 % interval", "baseline", "on its training part", "terms"),
        [
            (
                number,
                fold.accuracy.right,
                fold.accuracy.of,
                percent(fold.accuracy.value),
                interval(fold.accuracy),
                percent(fold.baseline.value),
                percent(fold.training_accuracy.value),
                f"{fold.terms:,}",
            )
            for number, fold in enumerate(result.folds, 1)
        ],
        numeric=range(8),
    )
    console.say()
    show_labels(result.overall, console)
    tell_set_aside(aside, found.documents, console)
    stopped = [str(number) for number, fold in enumerate(result.folds, 1) if not fold.reached]
    if stopped:
        console.warn(f"training stopped short of the tolerance in fold {', '.join(stopped)}.")
    return Exit.DONE
