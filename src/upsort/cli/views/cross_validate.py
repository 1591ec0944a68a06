"""What upsort cross-validate shows."""

from pathlib import Path
from typing import Any

from upsort.cli.commands.evaluation import CrossValidateOptions
from upsort.cli.rendering import columns as col
from upsort.cli.rendering.console import Console, Exit
from upsort.cli.rendering.findings import dominated, headline
from upsort.cli.rendering.view import View
from upsort.cli.rendering.wording import (
    duplicates_json,
    duplicates_sentences,
    interval,
    judgement_json,
    number,
    percent,
    rate_json,
)
from upsort.cli.request import (
    LEARNING,
    inputs_of,
    note_unused_keys,
    plan_of,
    report_rejects,
    run_context,
    with_guessed_columns,
)
from upsort.cli.requirements import RecordedEvaluation, check_written, record_result, requirement_status
from upsort.cli.views.evaluate import show_costs, show_labels, show_measures, show_undecided
from upsort.core.evaluation.measure_list import JudgedEvidence, rates_of
from upsort.core.plan import Plan
from upsort.workflows.cross_validate import CrossValidateResult, cross_validate


def run_cross_validate(options: CrossValidateOptions, console: Console) -> Exit:
    """Cross-validate and show."""
    check_written(options.require)
    plan = plan_of(options, console)
    inputs = inputs_of(options, console, options.input, plan.source)
    plan = with_guessed_columns(plan, inputs, "needed", console)
    note_unused_keys(options, [plan], console, LEARNING)
    output = Path(options.output) if options.output else None
    with run_context(options, console, inputs, plan, output) as work:
        results = cross_validate(work, output)
    answers = {result.name: _as_json(result) for result in results}
    view = View({"answers": answers} if len(results) > 1 else next(iter(answers.values())))
    for result in results:
        _show(result, len(results) > 1, plan, options, view)
    if output is not None:
        view.add_sentence(f"What each document was sorted as: {output}.")
    report_rejects(work.rejects, max(result.documents for result in results), view)
    for result in results:
        stopped = [str(number) for number, fold in enumerate(result.result.folds, 1) if not fold.reached]
        if stopped:
            view.add_warning(f"training stopped short of the tolerance in fold {', '.join(stopped[:10])}.")
        record_result(
            options,
            RecordedEvaluation("cross-validate", result.name, plan, options.input),
            result.result.evidence,
            view,
        )
    console.show(view)
    return requirement_status(
        options.require, {result.name: rates_of(result.result.evidence) for result in results}, console
    )


def _as_json(validation: CrossValidateResult) -> dict[str, Any]:
    result = validation.result
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

    careful = validation.without_copies_apart
    return {
        **judgement_json(result.evidence, result.overall.labels),
        "folds": folds,
        "spread": result.deviation(),
        **duplicates_json(validation.duplicates),
        **(
            {
                "copies_together": judgement_json(JudgedEvidence(careful.overall), careful.overall.labels),
                "copied_documents": _copied_json(validation),
            }
            if careful is not None
            else {}
        ),
    }


def _copied_json(result: CrossValidateResult) -> dict[str, Any]:
    split_duplicates, grouped_duplicates = result.copied or (None, None)
    return {
        "copies_apart": rate_json(split_duplicates) if split_duplicates is not None else None,
        "copies_together": rate_json(grouped_duplicates) if grouped_duplicates is not None else None,
    }


def _show(answer: CrossValidateResult, named: bool, plan: Plan, options: CrossValidateOptions, view: View) -> None:
    result = answer.result
    if named:
        view.add_sentence(f"── {answer.name}")
    for line in headline(
        result.overall, None, plan.columns.group, answer.duplicates.copies > 0 and not plan.judge.allow_copies
    ):
        view.add_sentence(line)
    show_costs(result.evidence, view)
    for line in dominated(result.evidence):
        view.add_sentence(line)
    show_undecided(result.evidence, None, view)
    if (deviation := result.deviation()) is not None:
        view.add_sentence(f"Between the folds the accuracy has a standard deviation of {100 * deviation:.1f} points.")
    if answer.without_copies_apart is not None:
        careful = answer.without_copies_apart.overall.accuracy
        view.add_sentence(
            f"Here copies may stand on both sides ({answer.duplicates.copies:,} documents copy another one). Kept on one side: "
            f"{percent(careful.value)} ({interval(careful)})."
        )
        if answer.copied is not None and answer.copied[0].of:
            split_duplicates, grouped_duplicates = answer.copied
            by_heart = (split_duplicates.value or 0.0) > (grouped_duplicates.value or 0.0)
            view.add_sentence(
                f"Of the {number(split_duplicates.of)} documents that have a copy {percent(split_duplicates.value)} "
                "are right when it "
                "may be in the training "
                f"part, {percent(grouped_duplicates.value)} when it may "
                f"not{': the difference is learned by heart' if by_heart else ''}."
            )
    for line in duplicates_sentences(answer.duplicates, plan):
        view.add_sentence(line)
    view.add_sentence()
    if len(result.folds) <= _MOST_SHOWN:
        view.add_table(
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
        view.add_sentence()
    show_labels(result.evidence, view, options.shares)
    show_measures(result.evidence, result.overall.labels, view, options.measures)
    if not options.measures:
        view.add_sentence("More with --measures.")


_MOST_SHOWN = 30  # folds in the table
