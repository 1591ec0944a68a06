"""What upsort cross-validate shows."""

from pathlib import Path
from typing import Any

from upsort.cli import columns as col
from upsort.cli.console import Console
from upsort.cli.recording import Recorded, record_result
from upsort.cli.request import (
    LEARNING,
    completed,
    inputs_of,
    plan_of,
    tell_idle,
    tell_set_aside,
    working,
)
from upsort.cli.requirements import check_written, met
from upsort.cli.specs.cross_validate import CrossValidateOptions
from upsort.cli.status import Exit
from upsort.cli.verdicts import dominated, headline
from upsort.cli.view import View
from upsort.cli.views.evaluate import show_costs, show_labels, show_measures, show_undecided
from upsort.cli.wording import (
    interval,
    judgement_json,
    kept_json,
    kept_together,
    number,
    percent,
    rate_json,
)
from upsort.core.judging.measure import Evidence
from upsort.core.judging.measure_list import rates_of
from upsort.core.plan import Plan
from upsort.jobs.cross_validate import CrossValidateResult, judged_by_folds


def run(options: CrossValidateOptions, console: Console) -> Exit:
    """Cross-validate and show."""
    check_written(options.require)
    plan = plan_of(options, console)
    inputs = inputs_of(options, console, options.input, plan.source)
    plan = completed(plan, inputs, "needed", console)
    tell_idle(options, [plan], console, LEARNING)
    output = Path(options.output) if options.output else None
    with working(options, console, inputs, plan, output) as work:
        found = judged_by_folds(work, output)
    answers = {one.name: _as_json(one) for one in found}
    view = View({"answers": answers} if len(found) > 1 else next(iter(answers.values())))
    for one in found:
        _show(one, len(found) > 1, plan, options, view)
    if output is not None:
        view.say(f"What each document was sorted as: {output}.")
    tell_set_aside(work.aside, max(one.documents for one in found), view)
    for one in found:
        stopped = [str(number) for number, fold in enumerate(one.result.folds, 1) if not fold.reached]
        if stopped:
            view.warn(f"training stopped short of the tolerance in fold {', '.join(stopped[:10])}.")
        record_result(options, Recorded("cross-validate", one.name, plan, options.input), one.result.evidence, view)
    console.show(view)
    return met(options.require, {one.name: rates_of(one.result.evidence) for one in found}, console)


def _as_json(one: CrossValidateResult) -> dict[str, Any]:
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


def _copied_json(one: CrossValidateResult) -> dict[str, Any]:
    apart, together = one.copied or (None, None)
    return {
        "copies_apart": rate_json(apart) if apart is not None else None,
        "copies_together": rate_json(together) if together is not None else None,
    }


def _show(one: CrossValidateResult, named: bool, plan: Plan, options: CrossValidateOptions, view: View) -> None:
    result = one.result
    if named:
        view.say(f"── {one.name}")
    for line in headline(result.overall, None, plan.columns.group, one.kept.copies > 0 and not plan.judge.allow_copies):
        view.say(line)
    show_costs(result.evidence, view)
    for line in dominated(result.evidence):
        view.say(line)
    show_undecided(result.evidence, None, view)
    if (spread := result.spread()) is not None:
        view.say(f"Between the folds the accuracy has a standard deviation of {100 * spread:.1f} points.")
    if one.without_copies_apart is not None:
        careful = one.without_copies_apart.overall.accuracy
        view.say(
            f"Here copies may stand on both sides ({one.kept.copies:,} documents copy another one). Kept on one side: "
            f"{percent(careful.value)} ({interval(careful)})."
        )
        if one.copied is not None and one.copied[0].of:
            apart, together = one.copied
            by_heart = (apart.value or 0.0) > (together.value or 0.0)
            view.say(
                f"Of the {number(apart.of)} documents that have a copy {percent(apart.value)} are right when it "
                "may be in the training "
                f"part, {percent(together.value)} when it may not{': the difference is learned by heart' if by_heart else ''}."
            )
    for line in kept_together(one.kept, plan):
        view.say(line)
    view.say()
    if len(result.folds) <= _MOST_SHOWN:
        view.table(
            (
                col.count("fold"),
                col.count("right", 3),
                col.count("of", 4),
                col.share("accuracy"),
                col.interval(),
                col.share("baseline", 1),
                col.share("on its training part"),
                col.count("terms", 2),
            ),
            [
                (
                    place,
                    number(fold.accuracy.right),
                    number(fold.accuracy.of),
                    percent(fold.accuracy.value),
                    interval(fold.accuracy),
                    percent(fold.baseline.value),
                    percent(fold.training_accuracy.value),
                    fold.terms,
                )
                for place, fold in enumerate(result.folds, 1)
            ],
        )
        view.say()
    show_labels(result.evidence, view, options.shares)
    show_measures(result.evidence, result.overall.labels, view, options.measures)
    if not options.measures:
        view.say("More with --measures.")


_MOST_SHOWN = 30  # folds in the table
