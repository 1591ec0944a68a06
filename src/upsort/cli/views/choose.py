"""What upsort choose shows."""

from dataclasses import replace
from pathlib import Path

from msgspec import structs

from upsort.cli.commands.training import ChooseOptions
from upsort.cli.rendering.console import Console, Exit
from upsort.cli.rendering.findings import baseline_rate, times
from upsort.cli.rendering.view import Detail, View, col
from upsort.cli.rendering.wording import interval, leak_warnings, percent, similarity_sentences
from upsort.cli.request import named_engine, planned_context, report_rejects
from upsort.cli.requirements import RecordedEvaluation, check_written, record_result, requirement_status
from upsort.cli.views.evaluate import show_splits
from upsort.core.errors import listed
from upsort.core.evaluation.intervals import DifferenceToBest
from upsort.core.evaluation.measure_list import rates_of
from upsort.io.outputs.atomic import replacing_text
from upsort.io.plan.plan_keys import starter_plan_text
from upsort.workflows.choose import Budget, ChosenPlan, choose
from upsort.workflows.shared.results import Brought, Choose, Finalist, Tried

_BRIEF_FINALISTS = 3
_EXTRA_COLUMN_KEYS = ("columns.numbers", "columns.categories")


def run_choose(options: ChooseOptions, console: Console) -> Exit:
    """Look, and show what was found."""
    check_written(options.require)
    with planned_context(options, console) as work:
        budget = Budget(
            trials=options.trials,
            minutes=options.minutes,
            margin=options.margin,
            extra_columns=options.beside,
            known_from=() if options.no_ledger else options.input,
        )
        chosen = choose(work, budget)
    view = View(_result(chosen))
    _show(chosen, options.margin, view)
    show_splits(chosen.duplicates, work.plan, view)
    for line in leak_warnings(chosen.leaks):
        view.add_warning(line)
    if options.output:
        with replacing_text(Path(options.output)) as text:
            text.write(starter_plan_text(replace(chosen.picked.plan, candidates={}), named_engine(options)))
        view.add_sentence(f"Written: {options.output} (the chosen plan).")
    report_rejects(work.rejects, chosen.documents, view)
    for candidate, result in chosen.finalists:
        what = RecordedEvaluation("choose", candidate.name, candidate.plan, options.input)
        record_result(options, what, result.evidence, view)
    console.show(view)
    return requirement_status(options.require, {"": rates_of(chosen.honest.evidence)}, console)


def _show(chosen: ChosenPlan, margin: float, view: View) -> None:
    honest, inside = chosen.honest.overall.accuracy, chosen.inside.overall.accuracy
    points = f"{100 * margin:g} point{'' if margin == 0.01 else 's'}"
    none_better = f"Chosen: the plan as it is; none tried is better by {points} or more."
    which = f"Chosen: {chosen.picked.name}." if chosen.picked.values else none_better
    view.add_answer(
        f"{which} Accuracy {percent(honest.value)} (95% interval {interval(honest)}) on "
        f"{chosen.judge_documents:,} documents that no trial had seen."
    )
    view.add_sentence(f"{baseline_rate(chosen.honest.overall)}.")
    for line in similarity_sentences(chosen.honest.by_similarity, near=False):
        view.add_sentence(line)
    if chosen.picked.values:
        view.add_sentence(
            f"The given plan: {percent(chosen.as_it_is.overall.accuracy.value)} on these documents; the chosen one is "
            f"{'better' if chosen.gain.value >= 0 else 'worse'} by {_points(chosen.gain)}{_certainty(chosen.gain)}."
        )
    with view.at(Detail.FULL):
        view.add_sentence(
            f"Accuracy on the folds: {percent(inside.value)} ({interval(inside)}, {chosen.documents - chosen.judge_documents:,} "
            "documents); optimistic: this figure was used for the selection."
        )
    if sorted_by := [name for key in _EXTRA_COLUMN_KEYS for name in chosen.picked.values.get(key, ())]:
        view.add_sentence(
            f"The chosen plan also uses {listed(sorted_by)}: use it only if new documents have these values before they are "
            "sorted."
        )
    if chosen.best.name != chosen.picked.name:
        view.add_sentence(
            f"Most accurate on the folds: {chosen.best.name}. The chosen plan changes less and is worse there by "
            f"{_points(chosen.difference_to_best)}, within the margin of {points}."
        )
    view.add_sentence()
    view.add_table(
        (col.name("finalists, on the folds"), col.share("accuracy"), col.interval(), col.share("macro F1", 7)),
        [
            (
                candidate.name,
                percent(result.overall.accuracy.value),
                interval(result.overall.accuracy),
                percent(result.overall.macro_f1.value),
            )
            for candidate, result in chosen.finalists
        ],
        brief=(_BRIEF_FINALISTS, "finalists"),
    )
    if chosen.reasons:
        view.add_sentence()
        view.add_table(
            (col.name("choice"), col.text("points lost without it"), col.text("effect")),
            [(reason.description, _points(reason.without, bare=True), _matters(reason.without)) for reason in chosen.reasons],
            brief=(_BRIEF_FINALISTS, "choices"),
        )
    if chosen.left_out:
        each = "; ".join(f"{reason.description}, {_points(reason.without, bare=True)}" for reason in chosen.left_out)
        with view.at(Detail.FULL):
            view.add_sentence(f"Left out of the most accurate plan, within the margin (points lost): {each}.")
    untrained = sum(trial.accuracy is None for trial in chosen.trials)
    known = sum(trial.known for trial in chosen.trials)
    tried = f"{len(chosen.trials):,} plans tried"
    if chosen.untried:
        tried = f"Time limit reached: {len(chosen.trials):,} of {len(chosen.trials) + chosen.untried:,} plans tried"
    view.add_sentence(
        f"{tried}{f', {known:,} of them in an earlier search' if known else ''}; text counted "
        f"{times(chosen.counted)}{f'; {untrained:,} plans could not be trained' if untrained else ''}."
    )


def _certainty(difference: DifferenceToBest) -> str:
    """Whether it can be reported which is better, in words behind a distance."""
    return "" if difference.low > 0.0 or difference.high < 0.0 else "; too few documents to say which is better"


def _points(difference: DifferenceToBest, bare: bool = False) -> str:
    size = 100 * (difference.value if bare else abs(difference.value))
    return f"{size:.1f}{'' if bare else ' points'} ({100 * difference.low:+.1f} to {100 * difference.high:+.1f})"


def _matters(difference: DifferenceToBest) -> str:
    if difference.low > 0.0:
        return "helps"
    return "harms" if difference.high < 0.0 else "not measurable"


def _result(chosen: ChosenPlan) -> Choose:
    return Choose(
        chosen=chosen.picked.name,
        changes=dict(chosen.picked.values),
        honest=chosen.honest.overall.accuracy,
        baseline=chosen.honest.overall.baseline,
        on_the_folds=chosen.inside.overall.accuracy,
        by_similarity=chosen.honest.by_similarity,
        as_it_is=chosen.as_it_is.overall.accuracy,
        gain=chosen.gain,
        most_accurate=chosen.best.name,
        behind_it=chosen.difference_to_best,
        finalists=[
            Finalist(candidate.name, result.overall.accuracy, result.overall.macro_f1) for candidate, result in chosen.finalists
        ],
        reasons=[Brought(reason.description, reason.without) for reason in chosen.reasons],
        left_out=[Brought(reason.description, reason.without) for reason in chosen.left_out],
        trials=[Tried(trial.candidate.name, trial.documents, trial.accuracy, trial.known) for trial in chosen.trials],
        untried=chosen.untried,
        set_aside_to_judge=chosen.judge_documents,
        counted=chosen.counted,
        leaks=chosen.leaks,
        seconds=chosen.seconds,
        **structs.asdict(chosen.duplicates),
    )
