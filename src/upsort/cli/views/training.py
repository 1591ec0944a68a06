"""Views of train and extend."""

from collections.abc import Sequence
from functools import partial
from pathlib import Path
from typing import assert_never

from upsort.cli.commands.training import ExtendOptions, TrainOptions
from upsort.cli.rendering.console import Console, Exit
from upsort.cli.rendering.findings import units_of
from upsort.cli.rendering.view import Column, Detail, View, col, shortened
from upsort.cli.rendering.wording import aim_sentence, interval, leak_warnings, number, percent, similarity_sentences
from upsort.cli.request import inputs_of, planned_context, report_rejects, run_context, secondary_inputs
from upsort.core.classifiers.families import family
from upsort.core.errors import listed
from upsort.core.evaluation.intervals import Rate
from upsort.core.plan import Plan
from upsort.core.training.fit_decision import FEW_FOR_A_THRESHOLD
from upsort.core.training.sorter import TrainedSorter
from upsort.core.training.stored_documents import StoredDocuments
from upsort.io.sorter.stored_arrays import stored_arrays
from upsort.workflows.extend import ExtendedAnswer, Way, extend
from upsort.workflows.train import AnswerResult, Training, train

_SCARCE = 10  # documents of a label below which it is barely learned
_RARE_SHARE = 0.01
_TOO_SHALLOW = 0.7  # of its own documents, that a tree gets right
_DOCUMENTS_A_LABEL = 30
_NAMED = 4  # labels, in a warning


def run_train(options: TrainOptions, console: Console) -> Exit:
    """Train, save and show."""
    output = Path(options.output)
    with planned_context(options, console, output) as work:
        training = train(work, output, not options.no_check, options.extendable, not options.no_fingerprints)
    result = training.result
    view = View(result)
    shows = {sorter.answer: partial(_show, answer, sorter) for answer, sorter in training.answers}
    view.add_answers(shows, *_quick_checks(training))
    if training.answers[0][1].stored is not None:
        _show_stored([sorter.stored for _, sorter in training.answers if sorter.stored is not None], view)
    if not console.as_json:
        with view.at(Detail.VERBOSE):
            view.add_note("Time: " + ", ".join(f"{stage} {seconds:.1f} s" for stage, seconds in training.seconds.items()) + ".")
    view.add_sentence(f"Saved: {result.sorter} ({result.bytes / 1000:,.0f} kB).")
    report_rejects(work.rejects, max(answer.documents for answer, _ in training.answers), view)
    if training.language:
        view.add_warning(training.language)
    view.add_answers({sorter.answer: partial(_warn, answer, sorter) for answer, sorter in training.answers})
    console.show(view)
    return Exit.DONE


def _quick_checks(training: Training) -> tuple[str, Sequence[Column], Sequence[Sequence[object]]]:
    """What was trained for each answer: a sentence, and the columns and rows of a table."""
    rates = [(sorter.answer, answer, answer.held_out_accuracy) for answer, sorter in training.answers]
    rows = [
        (
            name,
            answer.documents,
            len(answer.labels),
            answer.terms,
            percent(rate.value if rate is not None else None),
            interval(rate) if rate is not None else "–",
        )
        for name, answer, rate in rates
    ]
    columns = (col.name("answer"), col.count("documents"), col.count("labels"), col.count("terms"))
    kind = training.answers[0][0].classifier
    return f"Trained {kind} for {len(rows)} answers.", (*columns, col.share("accuracy in a quick check"), col.interval()), rows


def _show(answer: AnswerResult, sorter: TrainedSorter, view: View) -> None:
    trained = sorter.trained
    what = units_of(sorter.plan.columns.group)
    which = f"{sorter.answer}: trained" if sorter.answer else "Trained"
    rate = answer.held_out_accuracy
    expected = f"; accuracy in a quick check: {percent(rate.value)} (95% interval {interval(rate)})" if rate is not None else ""
    view.add_answer(
        f"{which} {sorter.plan.classifier.kind} on {trained.documents:,} {what}, {len(sorter.space.terms):,} terms "
        f"({sorter.plan.features.weighting}) and {len(sorter.labels)} labels{expected}."
    )
    for line in similarity_sentences(answer.by_similarity, near=sorter.plan.judge.allow_copies):
        view.add_sentence(line)
    if rate is not None:
        with view.at(Detail.FULL):
            _show_check(answer, sorter, rate, view)
    else:
        view.add_sentence("To estimate its accuracy: upsort evaluate, or upsort cross-validate.")
    if sorter.thresholds is not None:
        chosen = sorter.calibration.kind != "none"
        few = sum(count < FEW_FOR_A_THRESHOLD for count in answer.labels.values()) if chosen else 0
        at_least = f"; 50% at least for {few} labels with fewer than {FEW_FOR_A_THRESHOLD} documents" if few else ""
        view.add_sentence(f"{aim_sentence(sorter.plan, chosen).removesuffix('.')}{at_least}.")
    if answer.decided is not None and answer.decided_accuracy is not None:
        _show_bound(sorter, answer.decided, answer.decided_accuracy, view)
    with view.at(Detail.FULL):
        if answer.too_common:
            share = sorter.plan.features.in_at_most
            view.add_sentence(f"Left out, in more than {100 * share:.3g}% of the documents: {listed(answer.too_common, 8)}.")
    with view.at(Detail.VERBOSE):
        if sorter.plan.classifier.penalty == "auto":
            view.add_sentence(f"Penalty, chosen on folds of these documents: {trained.penalty:.3g}.")
        if trained.ended.iterations or trained.ended.passes:
            passes = f"{trained.ended.passes} passes over the documents, " if trained.ended.passes else ""
            view.add_sentence(
                f"Optimiser: {passes}{trained.ended.iterations} steps; relative gradient {trained.ended.optimality:.1e} "
                f"(tolerance {sorter.plan.classifier.tolerance:.1e})."
            )
        if sorter.calibration.kind != "none":
            view.add_sentence(f"Calibration of probabilities: {sorter.calibration.kind}, on folds of these documents.")
        view.add_sentence(f"Accuracy on its training {what}: {percent(answer.training_accuracy.value)}.")


def _show_check(answer: AnswerResult, sorter: TrainedSorter, rate: Rate, view: View) -> None:
    """What the quick check was."""
    what = units_of(sorter.plan.columns.group)
    groups = answer.held_out_groups or 0
    noun = "documents" if what == "passages" and not answer.copies else "groups"
    of_groups = f" of {groups:,} {noun}" if sorter.plan.columns.group and groups != rate.of else ""
    view.add_sentence(
        f"Quick check: {number(rate.right)} of {number(rate.of)} {what}{of_groups} right, each judged by a sorter of the "
        "same plan trained on the rest."
    )
    if answer.copies and not sorter.plan.judge.allow_copies:
        view.add_sentence(f"{answer.copies:,} {what} resemble an earlier one; similar ones stay on the same side.")


def _show_stored(stored: Sequence[StoredDocuments], view: View) -> None:
    """The stored counts of documents, and their size."""
    size = sum(array.nbytes for documents in stored for array in stored_arrays(documents).values())
    all_stored = all(documents.is_complete for documents in stored)
    some = "" if all_stored else f", a sample of {stored[0].documents:,} of them,"
    view.add_sentence(
        f"For upsort extend it keeps the term counts of its documents{some} ({size / 1000:,.0f} kB), but not their text."
    )


def _show_bound(sorter: TrainedSorter, covered: Rate, rate: Rate, view: View) -> None:
    """The bound below which documents are left undecided, where it was chosen on folds."""
    decide = sorter.plan.decide
    view.add_sentence(
        f"Undecided below {decide.undecided_below:.4g}: on folds of these documents {percent(covered.value)} "
        f"({interval(covered)}) are decided, of which {percent(rate.value)} ({interval(rate)}) are right."
    )
    if (rate.value or 0.0) < decide.decided_accuracy:
        view.add_warning(
            f"no bound makes {percent(decide.decided_accuracy)} of the decided documents right on the folds; this one comes "
            "closest."
        )


def _warn(answer: AnswerResult, sorter: TrainedSorter, view: View) -> None:
    trained = sorter.trained
    for line in leak_warnings(answer.leaks):
        view.add_warning(line)
    if answer.without_tokens:
        view.add_warning(f"documents without a token after cleaning: {answer.without_tokens:,}; only their label counts.")
    if trained.ended.uncompiled:
        view.add_warning("numba cannot be loaded, which makes training several times slower: pip install numba.")
    if not trained.ended.reached:
        view.add_warning(
            f"training stopped after {trained.ended.iterations} steps at {trained.ended.optimality:.1e} of the first gradient, "
            f"short of {sorter.plan.classifier.tolerance:.1e}; raise classifier.most_iterations or classifier.penalty."
        )
    if sorter.plan.decide.decided_accuracy and trained.held_out.decided is None:
        view.add_warning(
            "no bound was chosen for decide.decided_accuracy: too few independent documents for folds. None is left undecided."
        )
    gets, depth = answer.training_accuracy.value, sorter.plan.classifier.depth
    if family(sorter.plan.classifier).questions is not None and gets is not None and gets < _TOO_SHALLOW:
        view.add_warning(
            f"accuracy on its training documents is only {percent(gets)}: {depth} questions (classifier.depth) are too few for "
            f"{len(sorter.labels)} labels. Increase it."
        )
    counts = dict(sorted(answer.labels.items(), key=lambda entry: entry[1]))
    scarce = [f"{shortened(label, 40)} ({count})" for label, count in counts.items() if count < _SCARCE]
    if scarce:
        view.add_warning(f"fewer than {_SCARCE} training documents, too few to learn reliably: {listed(scarce, _NAMED)}.")
    rare = [shortened(label, 40) for label, count in counts.items() if _SCARCE <= count < _RARE_SHARE * trained.documents]
    if rare:
        view.add_warning(
            f"rare labels, under 1% of the documents: {listed(rare, _NAMED)}. To find more of them: "
            "--set classifier.label_weights=even"
        )
    if sum(counts.values()) < _DOCUMENTS_A_LABEL * len(counts):
        view.add_warning(
            f"{trained.documents:,} documents are few for {len(counts)} labels: a label needs about {_DOCUMENTS_A_LABEL}."
        )


_METHOD_SENTENCES = {
    "counts": "The counts are those of training on all documents",
    "everything": "Trained anew on all documents",
    "kept": "Trained anew on all documents, the earlier ones by their stored counts",
    "sample": "Trained anew on the new documents and the sorter's sample of the earlier ones, weighted to represent all of them",
}


def run_extend(options: ExtendOptions, console: Console) -> Exit:
    """Extend and show what is new."""
    inputs = inputs_of(options, console, options.input)
    older = secondary_inputs(options, console, options.older) if options.older else None
    output = Path(options.output)
    with run_context(options, console, inputs, Plan(), output) as work:
        result, sorters = extend(Path(options.sorter), work, older, output)
    view = View(result)
    view.add_answer(f"Extended with {result.added:,} documents to {result.documents:,}. {_METHOD_SENTENCES[result.way]}.")
    view.add_sentence(f"Terms: {result.new_terms:,} new, {result.lost_terms:,} now outside the bounds.")
    if result.new_labels:
        view.add_sentence(f"New labels: {listed(result.new_labels, 8)}.")
    if sorters[0].plan.features.vectors_file:
        view.add_sentence("Words that are new to the sorter have no vector: it only holds vectors of its own words.")
    for line in _of_probabilities(result.way, sorters[0]):
        view.add_sentence(line)
    for added in result.answers:
        _show_added(added, view)
    view.add_sentence(f"Saved: {output} ({result.bytes / 1000:,.0f} kB).")
    report_rejects(work.rejects, result.added, view)
    console.show(view)
    return Exit.DONE


def _show_added(added: ExtendedAnswer, view: View) -> None:
    """How well the new documents were known, and the accuracy on either kind now."""
    which = f"{added.answer}: " if added.answer else ""
    unknown = f"; {percent(added.unknown_share)} of their words were new" if added.unknown_share is not None else ""
    before = added.new_right_before
    view.add_sentence(f"{which}Accuracy on the new documents before: {percent(before.value)} ({interval(before)}){unknown}.")
    older, newer = added.held_out_older, added.held_out_new
    if older is not None and newer is not None and older.of and newer.of:
        view.add_sentence(
            f"{which}Accuracy on folds now: {percent(newer.value)} ({interval(newer)}) on the new documents, "
            f"{percent(older.value)} ({interval(older)}) on the earlier ones."
        )


def _of_probabilities(way: Way, sorter: TrainedSorter) -> list[str]:
    """What is the same as after training on all documents, and what is not."""
    calibrated = sorter.calibration.kind != "none"
    decide = sorter.plan.decide
    by_scores = sorter.decision is None and decide.rank_by == "scores" and not decide.undecided_below
    match way:
        case "counts" if calibrated and by_scores:
            return ["So are the labels; probabilities keep their calibration. Train on all documents to calibrate them anew."]
        case "counts" if calibrated:
            return ["Labels follow probabilities, which keep their calibration. Train on all documents to calibrate them anew."]
        case "counts":
            return ["So are the labels and probabilities."]
        case "everything" | "kept":
            return ["The result equals training on all of them."] if way == "kept" else []
        case "sample":
            return ["Term bounds and label priors are estimated from the documents at hand."]
        case _:
            assert_never(way)
