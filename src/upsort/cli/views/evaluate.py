"""What upsort evaluate shows."""

from collections.abc import Sequence
from functools import partial
from pathlib import Path
from typing import Any

from upsort.cli.commands.evaluation import EvaluateOptions
from upsort.cli.rendering import findings
from upsort.cli.rendering.console import Console, Exit
from upsort.cli.rendering.view import Detail, Sentence, Shown, View, Wrong, col, shortened
from upsort.cli.rendering.wording import (
    MEASURE_COLUMNS,
    OWN_COLUMNS,
    RELIABILITY_COLUMNS,
    SIMILARITY_COLUMNS,
    aim_sentence,
    confusion_columns,
    confusion_rows,
    duplicates_sentences,
    interval,
    judgement_values,
    label_columns,
    label_rows,
    leading_measures,
    measure_rows,
    number,
    overlap_warnings,
    own_rows,
    percent,
    rate_text,
    reliability_rows,
    similarity_rows,
    similarity_sentences,
    unused_sentences,
    with_rates,
    written_sentence,
)
from upsort.cli.request import (
    JUDGED,
    command_line,
    free_name,
    inputs_of,
    note_cost_orientation,
    report_rejects,
    scoring_context,
    secondary_inputs,
)
from upsort.cli.requirements import RecordedEvaluation, check_written, record_result, requirement_status
from upsort.core.errors import listed
from upsort.core.evaluation.measure_list import JudgedEvidence, rates_of
from upsort.core.evaluation.measures import Judgement, LabelSets
from upsort.core.evaluation.novelty import SimilarityRates
from upsort.core.plan import Plan
from upsort.io.sorter.loading import load_sorters
from upsort.io.sources.entries import pattern_for
from upsort.workflows.evaluate import BeforeCalibration, Covered, Evaluated, EvaluationRequest, evaluate
from upsort.workflows.score import Passages
from upsort.workflows.shared.evaluation import Evaluation
from upsort.workflows.shared.figures import draw_judgement
from upsort.workflows.shared.results import SplitCounts
from upsort.workflows.shared.scored_rows import with_decision_options

_CHANGE_MISTAKES = ("--cost", "--undecided-below", "--per-document", "--document-column")
_MOST_CONFUSED = 12  # labels, above which a terminal shows a list of so many confusions instead of them all


def run_evaluate(options: EvaluateOptions, console: Console) -> Exit:
    """Judge and show."""
    check_written(options.require)
    sorters = with_decision_options(load_sorters(Path(options.sorter)), options.cost, options.undecided_below)
    note_cost_orientation(options.cost, console)
    inputs = inputs_of(options, console, options.input)
    training = secondary_inputs(options, console, options.training) if options.training else None
    output = Path(options.output) if options.output else None
    passages = Passages(options.per_document, options.document_column) if options.per_document else None
    with scoring_context(options, console, sorters[0], inputs, output, JUDGED) as incoming:
        evaluations = evaluate(sorters, incoming, output, EvaluationRequest(options.by, passages, training))
    written = draw_judgement(evaluations, Path(options.figures)) if options.figures else []
    by_answer = {evaluation.sorter.answer: evaluation for evaluation in evaluations}
    answers = {name: _values(each, options.mistakes) for name, each in by_answer.items()}
    view = View({"answers": answers} if len(evaluations) > 1 else next(iter(answers.values())))
    view.values["written"] = list(map(str, written))
    shows = {name: partial(_show, each, incoming.reader.columns.group, options) for name, each in by_answer.items()}
    view.add_answers(shows, *findings.accuracies({name: each.evidence.judgement for name, each in by_answer.items()}))
    if output is None and "--mistakes" not in options.given and any(evaluation.mistakes for evaluation in evaluations):
        sources, file = [options.sorter, *pattern_for(options.input)], free_name("mistakes.csv")
        step = command_line("evaluate", options, sources, "-o", file, also=_CHANGE_MISTAKES)
        view.add_step("Next, to read all mistakes:", step)
    if output is not None:
        view.add_sentence(f"All {sum(len(evaluation.mistakes) for evaluation in evaluations):,} mistakes: {output}.")
    if written:
        view.add_sentence(written_sentence(written))
    elif options.figures:
        view.add_sentence("No figure is drawn where cells hold several labels.")
    report_rejects(incoming.rejects, incoming.read, view)
    for name, each in by_answer.items():
        what = RecordedEvaluation("evaluate", _named(options.sorter, name), each.sorter.plan, options.input)
        record_result(options, what, each.evidence, view)
    console.show(view)
    return requirement_status(options.require, {name: rates_of(each.evidence) for name, each in by_answer.items()}, console)


def _named(sorter: str, answer: str) -> str:
    return f"{sorter}: {answer}" if answer else sorter


def _values(evaluation: Evaluation, mistakes: int) -> dict[str, Any]:
    coverage = evaluation.coverage
    answer = Evaluated(
        **judgement_values(evaluation.evidence, evaluation.sorter.labels),
        training_accuracy=evaluation.training_accuracy,
        unknown_labels=evaluation.unknown_labels,
        by=evaluation.by,
        all_words_known=evaluation.known_words,
        some_words_unknown=evaluation.new_words,
        by_similarity=evaluation.by_similarity,
        before_calibration=BeforeCalibration(*evaluation.before) if evaluation.before else None,
        coverage=[
            Covered(bound, decided, right, coverage.documents)
            for bound, decided, right in zip(coverage.bounds, coverage.decided, coverage.right, strict=True)
        ],
        mistakes=evaluation.mistakes[:mistakes],
    )
    return with_rates(answer, evaluation.evidence)


def _show(evaluation: Evaluation, group: str, options: EvaluateOptions, view: View) -> None:
    if evaluation.sorter.answer:
        view.add_heading(evaluation.sorter.answer)
    by_document = options.per_document and findings.units_of(group) == "passages"
    further = similarity_sentences(evaluation.by_similarity, near=True)
    for line in overlap_warnings(evaluation.by_similarity):
        view.add_warning(line)
    if evaluation.sorter.thresholds is not None:
        further.append(aim_sentence(evaluation.sorter.plan, evaluation.sorter.calibration.kind != "none"))
    show_headline(evaluation.evidence, view, "" if by_document else group, evaluation.similar, further)
    if unknown := evaluation.unknown_labels:
        named = listed([f"{shortened(label, 40)!r} ({count:,})" for label, count in unknown.items()], _WEAKEST)
        view.add_warning(
            f"{sum(unknown.values()):,} documents have a label that the sorter does not know, and count as wrong: {named}."
        )
    show_undecided(evaluation.evidence, evaluation.sorter.plan.decide.undecided_below, view)
    show_similarity(evaluation.by_similarity, view)
    with view.at(Detail.VERBOSE):
        for line in findings.training_sentence(evaluation.training_accuracy):
            view.add_sentence(line)
    with view.at(Detail.FULL):
        if evaluation.new_words.of and evaluation.known_words.of:
            view.add_sentence(
                f"Documents without words new to the sorter: {rate_text(evaluation.known_words)}; with such words: "
                f"{rate_text(evaluation.new_words)}."
            )
    if evaluation.by:
        view.add_sentence()
        view.add_table(
            (col.name(options.by), col.count("right", 1), col.count("of", 2), col.share("accuracy"), col.interval()),
            [
                (value or "(empty)", number(rate.right), number(rate.of), percent(rate.value), interval(rate))
                for value, rate in evaluation.by.items()
            ],
            brief=(_WEAKEST, f"values of {options.by!r}"),
        )
    fewer = _WEAKEST - bool(further)
    show_judgement(evaluation.evidence, evaluation.sorter.labels, view, options.shares, evaluation.sorter.answer, fewer)
    with view.at(Detail.VERBOSE):
        for line in _before_calibration(evaluation):
            view.add_sentence(line)
    with view.at(Detail.FULL):
        if options.undecided_below or evaluation.undecided is not None:
            _show_coverage(evaluation, view)
    asked = "--mistakes" in options.given
    with view.at(Detail.ALWAYS if asked else Detail.FULL, "" if asked else "mistakes"):
        _show_mistakes(evaluation, options.mistakes, view)


_WEAKEST = 5  # labels and confusions that are shown without --full


def show_splits(duplicates: SplitCounts, plan: Plan, view: View) -> None:
    """Which documents were not used; with --full, how copies and groups were kept on one side of every split."""
    for line in unused_sentences(duplicates):
        view.add_sentence(line)
    with view.at(Detail.FULL):
        for line in duplicates_sentences(duplicates, plan):
            view.add_sentence(line)


def show_similarity(rates: SimilarityRates | None, view: View) -> None:
    """With --full, the accuracy by similarity to the nearest training document."""
    if rates is not None:
        with view.at(Detail.FULL):
            view.add_sentence()
            view.add_table(SIMILARITY_COLUMNS, similarity_rows(rates))


def show_headline(evidence: JudgedEvidence, view: View, group: str, copies: bool = False, further: Sequence[str] = ()) -> None:
    """The accuracy and the baseline, what decisions cost, and what one common label hides. further: sentences after them."""
    answer, baseline, *remaining = findings.headline(evidence.judgement, group, copies)
    view.add_answer(answer)
    view.summary.append(Sentence(baseline))
    view.add_paragraph([baseline, *remaining, leading_measures(evidence), *further])
    show_costs(evidence, view)
    for line in findings.dominated(evidence):
        view.add_sentence(line)


def show_judgement(
    evidence: JudgedEvidence, labels: Sequence[str], view: View, shares: str, answer: str = "", confusions: int = 5
) -> None:
    """The weakest labels and the most frequent confusions; with --full, every label, all confusions and all measures. labels: of
    the probabilities. shares: how confusions are shown. answer: which, where there are several; then a screen has no room for
    their tables without --full. confusions: how many without --full."""
    decided = evidence.undecided.judgement if evidence.undecided is not None else evidence.judgement
    with view.at(Detail.BRIEF):
        if decided is not None and not answer:
            _show_weakest(decided, " of decided" if evidence.undecided is not None else "", view, confusions)
    if decided is not None and shares and decided.sets is None:
        view.add_sentence()
        _show_confusions(decided, view, shares)
    if decided is not None and len(decided.labels) > _WEAKEST:
        view.more[f"{len(decided.labels):,} labels"] = None
    with view.at(Detail.FULL, "all confusions and measures"):
        view.add_sentence()
        _show_labels(evidence, view, shares)
        _show_measures(evidence, labels, view)


def _show_weakest(judgement: Judgement, of: str, view: View, most: int) -> None:
    """The labels with the lowest F1, and the most frequent confusions. of: which documents, where not all are counted."""
    judged = sorted((label for label in judgement.per_label if label.documents), key=lambda label: label.f1.value or 0.0)
    columns = [col.name(f"{'weakest labels' if len(judged) > _WEAKEST else 'labels'}{of}"), col.count("documents", 7)]
    columns += [col.share("precision", 6), col.share("recall"), col.interval(), col.share("F1")]
    view.add_sentence()
    view.add_table(
        columns,
        [
            (
                label.label,
                number(label.documents),
                percent(label.precision.value),
                percent(label.recall.value),
                interval(label.recall),
                percent(label.f1.value),
            )
            for label in judged[:_WEAKEST]
        ],
    )
    confusions = judgement.confusions(most) if judgement.sets is None else []
    if confusions:
        view.add_sentence()
        view.add_table(
            (col.name(f"mistakes{of}"), col.name("sorted as"), col.count("documents"), col.count("of")),
            [(confusion.true, Wrong(confusion.sorted_as), number(confusion.documents), confusion.of) for confusion in confusions],
        )


def show_costs(evidence: JudgedEvidence, view: View) -> None:
    """What decisions cost, where there is a table of costs."""
    if evidence.costs is None:
        return
    view.add_sentence(findings.cost_sentence(evidence.costs))
    if evidence.costs.is_worse:
        view.add_warning(findings.costs_warned(evidence.costs))


def _before_calibration(evaluation: Evaluation) -> list[str]:
    if evaluation.before is None or evaluation.probability is None:
        return []
    log_loss, brier = evaluation.before
    return [f"Before calibration ({evaluation.sorter.calibration.kind}): log loss {log_loss:.3f}, Brier score {brier:.3f}."]


def _show_coverage(evaluation: Evaluation, view: View) -> None:
    coverage = evaluation.coverage
    view.add_sentence()
    view.add_sentence("Accuracy versus coverage:")
    view.add_table(
        (col.number("undecided below"), col.count("decided"), col.share("coverage"), col.share("accuracy of decided")),
        [
            (f"{bound:.2f}", decided, percent(decided / max(coverage.documents, 1)), percent(right / decided))
            for bound, decided, right in zip(coverage.bounds, coverage.decided, coverage.right, strict=True)
            if decided
        ],
    )


def _show_mistakes(evaluation: Evaluation, most: int, view: View) -> None:
    if not evaluation.mistakes[:most]:
        return
    view.add_sentence()
    view.add_sentence("Most confident mistakes:")
    view.add_table(
        (
            col.name("document"),
            col.name("label"),
            col.name("sorted as"),
            col.number("probability"),
            col.text("terms for it", 1),
            col.quote("text"),
        ),
        [
            (
                mistake.reference,
                mistake.true,
                Wrong(mistake.sorted_as),
                percent(mistake.probability),
                ", ".join(mistake.pulled_by),
                shortened(mistake.text),
            )
            for mistake in evaluation.mistakes[:most]
        ],
    )


def show_undecided(evidence: JudgedEvidence, decided_below: float | None, view: View) -> None:
    """How many documents are left undecided, and how many of the others are right. decided_below: the bound, where it is one."""
    undecided = evidence.undecided
    if undecided is None:
        return
    left = (undecided.share.of or 0) - (undecided.share.right or 0)
    bound = f" (below {decided_below:.4g})" if decided_below else ""
    view.add_sentence(
        f"Undecided{bound}: {number(left)}. Decided: {percent(undecided.share.value)} ({interval(undecided.share)}), of which "
        f"{percent(undecided.right.value)} ({interval(undecided.right)}) are right."
    )


def _show_labels(evidence: JudgedEvidence, view: View, shares: str) -> None:
    """The table by label, the labels given, and the largest confusions in words; where some documents are left undecided, of the
    others."""
    undecided = evidence.undecided
    judgement = evidence.judgement
    if undecided is not None:
        if undecided.judgement is None:
            view.add_sentence("No document is decided.")
            return
        judgement = undecided.judgement
        view.add_sentence("Decided documents only:")
    view.add_table(
        label_columns(undecided is not None, judgement.sets is not None),
        label_rows(judgement, undecided.by_label if undecided is not None else None),
    )
    view.add_sentence()
    if judgement.sets is not None:
        _show_sets(judgement, judgement.sets, view)
        return
    if not shares:
        _show_confusions(judgement, view)
    for line in findings.confusion_sentences(judgement):
        view.add_sentence(line)


def _show_confusions(judgement: Judgement, view: View, shares: str = "") -> None:
    """The confusion table; on a terminal, of many labels, a list of the most frequent confusions."""
    many = len(judgement.labels) > _MOST_CONFUSED
    where = Shown.PIPED if many else Shown.EVERYWHERE
    if shares:
        view.add_sentence(f"In percent of the {'true label' if shares == 'row' else 'label it was sorted as'}:", where)
    view.add_table(confusion_columns(judgement), confusion_rows(judgement, shares), square=True, where=where)
    if many:
        view.add_table(
            (col.name("label"), col.name("sorted as"), col.count("documents"), col.count("of")),
            [
                (confusion.true, confusion.sorted_as, number(confusion.documents), confusion.of)
                for confusion in judgement.confusions(_MOST_CONFUSED)
            ],
            where=Shown.TERMINAL,
        )


def _show_sets(judgement: Judgement, sets: LabelSets, view: View) -> None:
    """Which labels go wrong, and which together."""
    for line in findings.confusion_sentences(judgement):
        view.add_sentence(line)
    if not sets.pairs_missed:
        return
    view.add_sentence()
    view.add_sentence("Missed together:")
    view.add_table(
        (col.name("label"), col.name("and"), col.count("documents missing both"), col.count("of")),
        [(*pair.labels, number(pair.documents), number(pair.of)) for pair in sets.pairs_missed[:_MOST_CONFUSED]],
    )


def _show_measures(evidence: JudgedEvidence, labels: Sequence[str], view: View) -> None:
    """The measures of the whole, and those of the probabilities. labels: of the probabilities."""
    probability = evidence.probability
    view.add_sentence()
    view.add_table(MEASURE_COLUMNS, measure_rows(evidence))
    if probability is not None:
        view.add_sentence()
        view.add_table(RELIABILITY_COLUMNS, reliability_rows(probability.reliability))
        view.add_sentence()
        view.add_table(OWN_COLUMNS, own_rows(probability, labels))
        view.add_sentence()
        for line in findings.calibration_sentences(probability.reliability):
            view.add_sentence(line)
    for line in findings.left_out(evidence.judgement, probability, True):
        view.add_sentence(line)
