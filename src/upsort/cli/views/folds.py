"""Views of cross-validate and compare."""

from collections.abc import Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

from msgspec import UNSET, structs

from upsort.cli import request
from upsort.cli.commands.evaluation import CrossValidateOptions
from upsort.cli.commands.training import CompareOptions
from upsort.cli.declaring import declared
from upsort.cli.rendering import findings
from upsort.cli.rendering.console import Console, Exit
from upsort.cli.rendering.view import Detail, Shown, View, col
from upsort.cli.rendering.wording import (
    aim_sentence,
    interval,
    judgement_values,
    leak_warnings,
    number,
    percent,
    similarity_sentences,
    value_and_interval,
    with_rates,
)
from upsort.cli.requirements import RecordedEvaluation, check_written, record_result, requirement_status
from upsort.cli.views.evaluate import show_headline, show_judgement, show_similarity, show_splits, show_undecided
from upsort.core.errors import UsageProblem, listed
from upsort.core.evaluation.cross_validation import FoldResult
from upsort.core.evaluation.intervals import Comparison
from upsort.core.evaluation.measure_list import JudgedEvidence, Measure, measure_called, rates_of
from upsort.core.plan import Plan
from upsort.io.outputs.atomic import replacing_text
from upsort.io.plan.plan_keys import starter_plan_text
from upsort.io.sources.entries import pattern_for
from upsort.workflows.compare import (
    CandidateResult,
    ComparedPlan,
    ComparedPlans,
    CompareResult,
    ComparisonRequest,
    candidates,
    compare,
)
from upsort.workflows.cross_validate import CopiedDocuments, CrossValidated, CrossValidateResult, FoldSummary, cross_validate
from upsort.workflows.shared.candidates import Candidate
from upsort.workflows.shared.results import JudgementResult


def run_cross_validate(options: CrossValidateOptions, console: Console) -> Exit:
    """Cross-validate and show."""
    check_written(options.require)
    output = Path(options.output) if options.output else None
    with request.planned_context(options, console, output) as work:
        results = cross_validate(work, output)
    answers = {result.name: _values(result, work.plan) for result in results}
    view = View({"answers": answers} if len(results) > 1 else next(iter(answers.values())))
    shows = {result.name: partial(_show, result, len(results) > 1, work.plan, options) for result in results}
    view.add_answers(shows, *findings.accuracies({result.name: result.result.evidence.judgement for result in results}))
    if output is not None:
        view.add_sentence(f"What each document was sorted as: {output}.")
    request.report_rejects(work.rejects, max(result.documents for result in results), view)
    for result in results:
        record_result(
            options, RecordedEvaluation("cross-validate", result.name, work.plan, options.input), result.result.evidence, view
        )
    console.show(view)
    return requirement_status(options.require, {result.name: rates_of(result.result.evidence) for result in results}, console)


def _values(validation: CrossValidateResult, plan: Plan) -> dict[str, Any]:
    result, other = validation.result, validation.other
    answer = CrossValidated(
        **judgement_values(result.evidence, result.overall.labels),
        **structs.asdict(validation.duplicates),
        trained_on=validation.trained_on,
        spread=result.deviation(),
        folds=[
            FoldSummary(
                fold=number,
                accuracy=fold.accuracy,
                baseline=fold.baseline,
                training_accuracy=fold.training_accuracy,
                terms=fold.terms,
                reached=fold.reached,
            )
            for number, fold in enumerate(result.folds, 1)
        ],
        by_similarity=result.by_similarity,
        leaks=validation.leaks,
        copied_documents=CopiedDocuments(*(validation.copied or (None, None))) if other is not None else UNSET,
    )
    values = with_rates(answer, result.evidence)
    if other is not None:
        evidence = JudgedEvidence(other.overall)
        judged = JudgementResult(**judgement_values(evidence, other.overall.labels))
        values["copies_together" if plan.judge.allow_copies else "copies_apart"] = with_rates(judged, evidence)
    return values


def _show(answer: CrossValidateResult, named: bool, plan: Plan, options: CrossValidateOptions, view: View) -> None:
    result = answer.result
    if named:
        view.add_heading(answer.name)
    copies, allowed = answer.duplicates.copies, plan.judge.allow_copies
    further = similarity_sentences(result.by_similarity, near=allowed)
    if result.evidence.judgement.sets is not None:
        further.append(aim_sentence(plan))
    show_headline(result.evidence, view, plan.columns.group, copies > 0 and not allowed, further)
    show_undecided(result.evidence, None, view)
    with view.at(Detail.FULL):
        view.add_sentence(
            f"The figures are of sorters trained on {answer.trained_on:,} documents; one trained on all may differ."
        )
    if (deviation := result.deviation()) is not None:
        with view.at(Detail.FULL):
            view.add_sentence(f"Standard deviation of the accuracy between folds: {100 * deviation:.1f} points.")
    if answer.other is not None:
        _show_other(answer, plan, view)
    show_similarity(result.by_similarity, view)
    show_splits(answer.duplicates, plan, view)
    with view.at(Detail.FULL, "the folds"):
        if len(result.folds) <= _MOST_SHOWN:
            view.add_sentence()
            _show_folds(result.folds, view)
    show_judgement(
        result.evidence, result.overall.labels, view, options.shares, answer.name if named else "", 5 - 2 * bool(further)
    )
    for line in leak_warnings(answer.leaks):
        view.add_warning(line)
    if stopped := [str(number) for number, fold in enumerate(result.folds, 1) if not fold.reached]:
        view.add_warning(f"training stopped short of the tolerance in fold {listed(stopped, 10)}.")
    if not named:
        sources = pattern_for(options.input)
        step = request.command_line("compare", options, sources, "--try", _OTHER_KINDS, without=["classifier.kind"])
        view.add_step("Next, to try other classifiers:", step)


def _show_other(answer: CrossValidateResult, plan: Plan, view: View) -> None:
    """The accuracy if similar documents were not kept on one side, or if they were, and when which of the two is true."""
    assert answer.other is not None
    other, similar = answer.other.overall.accuracy, f"{answer.duplicates.copies:,}"
    if plan.judge.allow_copies:
        view.add_sentence(
            f"Similar documents may be on both sides here ({similar} resemble another). With them on one side: "
            f"{percent(other.value)} ({interval(other)}), which is true of new documents that resemble none of these."
        )
    else:
        first = answer.result.overall.accuracy
        differs = first.low is None or first.high is None or not first.low <= (other.value or 0.0) <= first.high
        with view.at(Detail.ALWAYS if differs else Detail.FULL):
            view.add_sentence(
                f"With similar documents on both sides of a split: {percent(other.value)} ({interval(other)}). That is true of "
                "new documents that resemble these as they resemble each other; else the first figure is."
            )
    if answer.copied is not None and answer.copied[0].of:
        apart, together = answer.copied
        with view.at(Detail.FULL):
            view.add_sentence(
                f"Of the {number(apart.of)} documents that resemble another, {percent(apart.value)} are right if it may be in "
                f"the training part, {percent(together.value)} if not."
            )


_OTHER_KINDS = "classifier.kind=naive-bayes,logistic,svm,ridge"


def _show_folds(folds: Sequence[FoldResult], view: View) -> None:
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
            for place, fold in enumerate(folds, 1)
        ],
    )


_MOST_SHOWN = 30  # folds in the table


def run_compare(options: CompareOptions, console: Console) -> Exit:
    """Compare and show."""
    check_written(options.require)
    by = measure_called(options.by)
    plan = request.plan_of(options, console)
    candidates(plan, options.tries)  # mistakes in them are reported before anything is read
    inputs = request.inputs_of(options, console, options.input, plan.source)
    plan = request.with_guessed_columns(plan, inputs, "needed", console)
    tried = candidates(plan, options.tries)
    _check_tried(options, tried)
    request.note_unused_keys(options, [candidate.plan for candidate in tried], console, request.LEARNING)
    with request.run_context(options, console, inputs, plan) as work:
        result = compare(work, tried, ComparisonRequest(nested=options.nested, margin=options.margin, by=by))
    best = result.compared[0]
    view = View(_compared(result))
    _compare_show(result, plan, options.margin, by, view)
    if options.output:
        with replacing_text(Path(options.output)) as text:
            text.write(starter_plan_text(replace(best.candidate.plan, candidates={}), request.named_engine(options)))
        view.add_sentence(f"Written: {options.output} (the plan of {best.candidate.name}).")
    request.report_rejects(work.rejects, result.documents, view)
    for candidate in result.compared:
        what = RecordedEvaluation("compare", candidate.candidate.name, candidate.candidate.plan, options.input)
        record_result(options, what, candidate.result.evidence, view)
    console.show(view)
    return requirement_status(options.require, {"": rates_of(best.result.evidence)}, console)


def _check_tried(options: CompareOptions, tried: Sequence[Candidate]) -> None:
    """Raises UsageProblem for an option that sets a key which every candidate sets otherwise."""
    everywhere = set.intersection(*(set(candidate.values) for candidate in tried))
    for option in declared(CompareOptions):
        if option.sets in everywhere and option.spelling in options.given:
            raise UsageProblem(
                f"{option.spelling} cannot be used with --try {option.sets}, which sets the same key.", "Leave one of them out."
            )


def _compare_show(result: CompareResult, plan: Plan, margin: float, by: Measure, view: View) -> None:

    separate_measure = by.key not in {"accuracy", "log_loss"}
    left = any(candidate.result.undecided is not None for candidate in result.compared)
    piped = ("behind, points", "from", "to", "p exact", "p folds", "macro F1", "only it right", "only the best right", "kB")
    view.add_answer(_answer(result, by))
    view.add_sentence(f"{findings.baseline_rate(result.compared[0].result.overall)}.")
    view.add_sentence()
    view.add_table(
        (
            col.name("candidate"),
            *((col.number(by.name), col.interval()) if separate_measure else ()),
            col.share("accuracy"),
            col.interval(),
            col.number("log loss", 2, full=True),
            col.share("on its training parts", 3, full=True),
            *((col.share("decided", 1), col.share("right of the decided")) if left else ()),
            col.name(f"difference to the {findings.the_best(result)}"),
            col.number("seconds", 4, full=True),
            *(col.number(called, where=Shown.PIPED) for called in piped),
        ),
        [
            _row(candidate, margin, by if separate_measure else None, findings.the_best(result), left)
            for candidate in result.compared
        ],
        brief=(_BRIEF_CANDIDATES, "candidates"),
    )
    for line in findings.ordered_by(by, result):
        view.add_sentence(line)
    with view.at(Detail.FULL, "how candidates were compared"):
        view.add_sentence(
            f"All candidates were judged on the same {result.documents:,} documents and folds; the text was counted "
            f"{findings.times(result.counted)}."
        )
        for line in findings.difference_notes(result, plan.judge.repeats):
            view.add_sentence(line)
    for line in similarity_sentences(result.compared[0].result.by_similarity, near=False):
        view.add_sentence(line)
    show_splits(result.duplicates, plan, view)
    for line in findings.at_the_end(result):
        view.add_sentence(line)
    if result.nested is not None:
        view.add_sentence(
            f"Nested cross-validation, choosing the best in each fold: {percent(result.nested.value)} "
            f"({interval(result.nested)}), on documents that had no part in the choice."
        )
        for line in similarity_sentences(result.nested_by_similarity, near=False):
            view.add_sentence(f"Nested cross-validation, {line[0].lower()}{line[1:]}")
    else:
        view.add_sentence("The best figure is optimistic: it was used for the selection. --nested estimates by how much.")


_BRIEF_CANDIDATES = 8


def _answer(result: CompareResult, by: Measure) -> str:
    """Which candidate is first, and how many others the data do not show to be worse."""
    first = result.compared[0]
    if by.key != "accuracy":
        rate = by.of(first.result.evidence)
        value, ends = value_and_interval(by, rate) if rate is not None else ("–", "–")
        return f"Best {by.name}: {first.candidate.name}, {value} (95% interval {ends})."
    open_ones = sum(candidate.comparison is not Comparison.WORSE for candidate in result.compared[1:])
    one = len(result.compared) == 2
    if open_ones:
        others = "the other may be as good" if one else f"{open_ones:,} of the other {len(result.compared) - 1:,} may be as good"
    else:
        others = "the other is worse" if one else "all others are worse"
    accuracy = first.result.overall.accuracy
    return f"Highest accuracy: {first.candidate.name}, {percent(accuracy.value)} (95% interval {interval(accuracy)}); {others}."


def _row(candidate: ComparedPlan, margin: float, by: Measure | None, best_called: str, left: bool) -> list[str]:
    """One candidate. by: the measure that orders them, where it has columns of its own. best_called: what the most accurate is.
    left: whether any leaves documents undecided."""
    is_behind = candidate.comparison is not Comparison.BEST
    chosen = by.of(candidate.result.evidence) if by is not None else None
    distances = [candidate.difference.value, candidate.difference.low, candidate.difference.high]
    return [
        candidate.candidate.name,
        *(value_and_interval(by, chosen) if by is not None and chosen is not None else ()),
        percent(candidate.result.overall.accuracy.value),
        interval(candidate.result.overall.accuracy),
        f"{candidate.result.probability.log_loss.value or 0:.3f}" if candidate.result.probability is not None else "–",
        percent(candidate.training),
        *(_of_decided(candidate) if left else ()),
        findings.comparison_sentence(candidate, margin) if is_behind else best_called,
        f"{candidate.seconds:.1f}",
        *(f"{100 * value:.2f}" if is_behind else "" for value in distances),
        *(f"{p:.4f}" if is_behind else "" for p in (candidate.exact, candidate.folds)),
        percent(candidate.result.overall.macro_f1.value),
        *(number(count) if is_behind else "" for count in candidate.against_best),
        f"{candidate.bytes / 1000:,.0f}",
    ]


def _of_decided(candidate: ComparedPlan) -> tuple[str, str]:
    """How many documents are decided, and how many of those are right."""
    undecided = candidate.result.undecided
    if undecided is None:
        return percent(1.0), percent(candidate.result.overall.accuracy.value)
    return percent(undecided.share.value), percent(undecided.right.value)


def _compared(result: CompareResult) -> ComparedPlans:
    candidates: list[Any] = [
        with_rates(
            CandidateResult(
                name=candidate.candidate.name,
                only_it=candidate.against_best[0],
                only_the_best=candidate.against_best[1],
                p_exact=candidate.exact,
                p_folds=candidate.folds,
                behind_the_best=candidate.difference,
                by_similarity=candidate.result.by_similarity,
                standing=candidate.comparison,
                on_training_parts=candidate.training,
                seconds=candidate.seconds,
                bytes=candidate.bytes,
            ),
            candidate.result.evidence,
        )
        for candidate in result.compared
    ]
    return ComparedPlans(
        by=result.by,
        candidates=candidates,
        counted=result.counted,
        at_the_end=result.at_the_end,
        nested=result.nested,
        nested_by_similarity=result.nested_by_similarity,
        **structs.asdict(result.duplicates),
    )
