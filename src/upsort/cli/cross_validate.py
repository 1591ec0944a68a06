"""upsort cross-validate."""

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.evaluate import show_labels, show_measures
from upsort.cli.recording import Recorded, record_result
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
from upsort.cli.requirements import check_written, met
from upsort.cli.status import Exit
from upsort.cli.verdicts import dominated, headline
from upsort.cli.wording import (
    copying,
    interval,
    judgement_json,
    kept_json,
    kept_together,
    number,
    percent,
    rate_json,
)

if TYPE_CHECKING:
    from upsort.core.plan import Plan
    from upsort.jobs.cross_validate import CrossValidateResult

DESCRIPTION = (
    "Judge a plan by folds: each document is judged by a sorter trained on the other folds.\n"
    "Vocabulary, bounds, document frequencies, penalty and calibration are learned inside each fold's training part;\n"
    "copies of a document stay on one side."
)
EXAMPLE = "upsort cross-validate corpus.csv --text message --label topic --folds 5"
OPTIONS = (
    options.Group(
        "what to judge",
        (
            options.INPUT,
            *options.FOLDS,
            options.SEED,
            options.WORKERS,
            options.option("-o", "--output", metavar="FILE", help="write what each document was given out of fold"),
            options.option(
                "--shares",
                choices=("row", "column"),
                default="",
                help="confusions as shares of the true or given label",
            ),
            options.MEASURES,
            options.REQUIRE,
            options.NO_LEDGER,
        ),
    ),
    options.COLUMNS,
    options.READING,
    options.PLAN,
    options.COMMON,
)
RULES: tuple[options.Rule, ...] = (
    *options.FOLDS_RULES,
    options.Clash("--json", ("--shares", "--measures"), "JSON holds all counts and measures"),
)


def run(request: argparse.Namespace, console: Console) -> Exit:
    """Cross-validate and show."""
    from upsort.core.judging.measure_list import rates_of
    from upsort.jobs.cross_validate import cross_validate

    check_written(request.require)
    plan = plan_of(request, console)
    inputs = inputs_of(request, console, plan.source)
    plan = completed(plan, inputs, "needed", console)
    tell_idle([plan], console, LEARNING)
    output = Path(request.output) if request.output else None
    with set_aside_of(request, output) as aside, console.progress("documents read") as advance:
        found = cross_validate(inputs, plan, aside, advance, request.workers, output)
    used = max(one.documents for one in found)
    if console.as_json:
        answers = {one.name: _as_json(one) for one in found}
        whole = {"answers": answers} if len(found) > 1 else next(iter(answers.values()))
        console.json(whole | {"rows": rows_json(aside, used)})
    else:
        for one in found:
            _show(one, len(found) > 1, plan, request, console)
        if output is not None:
            console.say(f"What each document was given: {output}.")
        tell_set_aside(aside, used, console)
    for one in found:
        stopped = [str(number) for number, fold in enumerate(one.result.folds, 1) if not fold.reached]
        if stopped:
            console.warn(f"training stopped short of the tolerance in fold {', '.join(stopped[:10])}.")
        what = Recorded("cross-validate", one.name, plan)
        record_result(request, console, what, one.result.evidence)
    measures = {one.name: rates_of(one.result.evidence) for one in found}
    return met(request.require, measures, console)


def _as_json(one: "CrossValidateResult") -> dict[str, Any]:
    result = one.result
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
    from upsort.core.judging.measure import Evidence

    careful = one.without_copies_apart
    return {
        **judgement_json(result.evidence, result.overall.labels),
        "folds": folds,
        "spread": result.spread(),
        **kept_json(one.kept),
        **(
            {
                "copies_together": judgement_json(Evidence(careful.overall), careful.overall.labels),
                "copied_documents": _copied_json(one),
            }
            if careful is not None
            else {}
        ),
    }


def _copied_json(one: "CrossValidateResult") -> dict[str, Any]:
    apart, together = one.copied or (None, None)
    return {
        "copies_apart": rate_json(apart) if apart is not None else None,
        "copies_together": rate_json(together) if together is not None else None,
    }


def _show(one: "CrossValidateResult", named: bool, plan: "Plan", request: argparse.Namespace, console: Console) -> None:
    result = one.result
    if named:
        console.say(f"── {one.name}")
    for line in headline(result.overall, None, plan.columns.group, one.kept.copies > 0 and not plan.judge.allow_copies):
        console.say(line)
    for line in dominated(result.overall, result.probability):
        console.say(line)
    if (spread := result.spread()) is not None:
        console.say(f"Between the folds the accuracy has a standard deviation of {100 * spread:.1f} points.")
    if one.without_copies_apart is not None:
        careful = one.without_copies_apart.overall.accuracy
        console.say(
            f"Here copies may stand on both sides ({copying(one.kept.copies, 'documents').partition(';')[0]}). Kept on one side: "
            f"{percent(careful.value)} ({interval(careful)})."
        )
        if one.copied is not None and one.copied[0].of:
            apart, together = one.copied
            by_heart = (apart.value or 0.0) > (together.value or 0.0)
            console.say(
                f"Of the {number(apart.of)} documents that have a copy {percent(apart.value)} are right when it "
                "may be in the training "
                f"part, {percent(together.value)} when it may not{': the difference is learned by heart' if by_heart else ''}."
            )
    for line in kept_together(one.kept, plan):
        console.say(line)
    console.say()
    if len(result.folds) <= _MOST_SHOWN:
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
    show_labels(result.overall, console, request.shares)
    show_measures(result.evidence, result.overall.labels, console, request.measures)
    if not request.measures:
        console.say("More with --measures.")


_MOST_SHOWN = 30  # folds in the table
