"""Views of train and extend."""

from collections.abc import Sequence
from pathlib import Path
from typing import assert_never

from upsort.cli.commands.training import ExtendOptions, TrainOptions
from upsort.cli.rendering.console import Console, Exit
from upsort.cli.rendering.findings import restraint_sentence, units_of
from upsort.cli.rendering.view import View
from upsort.cli.rendering.wording import interval, number, percent, shortened
from upsort.cli.request import inputs_of, planned_context, report_rejects, run_context, secondary_inputs
from upsort.core.classifiers.families import family
from upsort.core.errors import listed
from upsort.core.evaluation.intervals import wilson
from upsort.core.plan import Plan
from upsort.core.training.sorter import TrainedSorter
from upsort.core.training.stored_documents import StoredDocuments
from upsort.io.sorter.stored_arrays import stored_arrays
from upsort.workflows.extend import ExtendedAnswer, Way, extend
from upsort.workflows.train import AnswerResult, train

_SCARCE = 10  # documents of a label below which it is barely learned
_RARE_SHARE = 0.01
_TOO_SHALLOW = 0.7  # of its own documents, that a tree gets right
_DOCUMENTS_A_LABEL = 30
_LARGE_GAP = 0.10  # between the accuracy on its own documents and the upper end of that on others


def run_train(options: TrainOptions, console: Console) -> Exit:
    """Train, save and show."""
    output = Path(options.output)
    with planned_context(options, console, output) as work:
        training = train(work, output, not options.no_check, options.extendable)
    result = training.result
    view = View(result)
    for answer, sorter in training.answers:
        _show(answer, sorter, view)
    if training.answers[0][1].stored is not None:
        _show_stored([sorter.stored for _, sorter in training.answers if sorter.stored is not None], view)
    if not console.as_json:
        view.add_note("Time: " + ", ".join(f"{stage} {seconds:.1f} s" for stage, seconds in training.seconds.items()) + ".")
    view.add_sentence(f"Saved: {result.sorter} ({result.bytes / 1000:,.0f} kB). Judge it with: upsort evaluate")
    report_rejects(work.rejects, max(answer.documents for answer, _ in training.answers), view)
    if training.language:
        view.add_warning(training.language)
    for answer, sorter in training.answers:
        _warn(answer, sorter, view)
    console.show(view)
    return Exit.DONE


def _show(answer: AnswerResult, sorter: TrainedSorter, view: View) -> None:
    trained = sorter.trained
    what = units_of(sorter.plan.columns.group)
    which = f"{sorter.answer}: trained" if sorter.answer else "Trained"
    view.add_sentence(
        f"{which} {sorter.plan.classifier.kind} on {trained.documents:,} {what}, {len(sorter.space.terms):,} terms "
        f"({sorter.plan.features.weighting}) and {len(sorter.labels)} labels."
    )
    if answer.too_common:
        share = sorter.plan.features.in_at_most
        view.add_sentence(f"Left out, being in more than {100 * share:.3g} % of the documents: {listed(answer.too_common, 8)}.")
    if sorter.plan.classifier.penalty == "auto":
        view.add_sentence(f"The penalty, chosen on folds of these documents, is {trained.penalty:.3g}.")
    if trained.ended.iterations or trained.ended.passes:
        made = f"made {trained.ended.passes} passes over the documents and " if trained.ended.passes else ""
        view.add_sentence(
            f"The optimiser {made}took {trained.ended.iterations} steps; the gradient is {trained.ended.optimality:.1e} of what "
            f"it was at zero weights (asked for: {sorter.plan.classifier.tolerance:.1e})."
        )
    if sorter.calibration.kind != "none":
        view.add_sentence(f"Probabilities are calibrated ({sorter.calibration.kind}) on folds of these documents.")
    if trained.held_out.decided is not None:
        _show_bound(sorter, view)
    own = f"It gets {percent(answer.training_accuracy.value)} of its own training {what} right"
    if (rate := answer.held_out_accuracy) is not None:
        groups = answer.held_out_groups or 0
        grouped = sorter.plan.columns.group and groups != rate.of
        noun = "documents" if what == "passages" and not answer.copies else "groups"
        of_groups = f" of {groups:,} {noun}" if grouped else ""
        view.add_sentence(
            f"{own}, and {percent(rate.value)} ({interval(rate)}) of {number(rate.of)} {what}{of_groups} held out in a quick "
            "check (by sorters of the same plan, trained on the rest)."
        )
        if answer.copies and not sorter.plan.judge.allow_copies:
            view.add_sentence(f"{answer.copies:,} {what} copy another one; they are kept on one side in it.")
    else:
        view.add_sentence(f"{own}; that says little about new ones.")


def _show_stored(stored: Sequence[StoredDocuments], view: View) -> None:
    """The stored counts of documents, and their size."""
    size = sum(array.nbytes for documents in stored for array in stored_arrays(documents).values())
    all_stored = all(documents.is_complete for documents in stored)
    some = "" if all_stored else f", a sample of {stored[0].documents:,} of them,"
    view.add_sentence(
        f"To be extended with, it keeps how often each term is in each of its documents{some} ({size / 1000:,.0f} kB), but "
        "not their text."
    )


def _show_bound(sorter: TrainedSorter, view: View) -> None:
    """The bound below which documents are left undecided, where it was chosen on folds."""
    held_out, decide = sorter.trained.held_out, sorter.plan.decide
    decided, right = held_out.decided or 0, held_out.decided_right or 0
    covered, rate = wilson(decided, held_out.documents), wilson(right, decided)
    view.add_sentence(
        f"Undecided below {decide.undecided_below:.4g}: on folds of these documents {percent(covered.value)} "
        f"({interval(covered)}) are decided, and {percent(rate.value)} ({interval(rate)}) of those are right."
    )
    if (rate.value or 0.0) < decide.decided_accuracy:
        view.add_warning(
            f"no bound makes {percent(decide.decided_accuracy)} of the decided documents right on the folds; this is the one "
            "that makes most of them right."
        )


def _warn(answer: AnswerResult, sorter: TrainedSorter, view: View) -> None:
    trained = sorter.trained
    if answer.without_tokens:
        view.add_warning(
            f"Documents without a token after cleaning: {answer.without_tokens:,}; they teach nothing but their label."
        )
    if trained.ended.uncompiled:
        view.add_warning("numba cannot be loaded, so that training took several times as long as it needs: pip install numba.")
    if not trained.ended.reached:
        view.add_warning(
            f"training stopped after {trained.ended.iterations} steps at {trained.ended.optimality:.1e} of the first gradient, "
            f"short of {sorter.plan.classifier.tolerance:.1e}; raise classifier.most_iterations or classifier.penalty."
        )
    if sorter.plan.decide.decided_accuracy and trained.held_out.decided is None:
        view.add_warning(
            "no bound was chosen for decide.decided_accuracy: too few documents that do not belong together to deal to folds. "
            "None is left undecided."
        )
    gets, depth = answer.training_accuracy.value, sorter.plan.classifier.depth
    if family(sorter.plan.classifier).questions is not None and gets is not None and gets < _TOO_SHALLOW:
        view.add_warning(
            f"it gets only {percent(gets)} of its own documents right: {depth} questions (classifier.depth) are too few for "
            f"{len(sorter.labels)} labels. Try a larger one."
        )
    counts = answer.labels
    scarce = [f"{shortened(label, 40)} ({count})" for label, count in counts.items() if count < _SCARCE]
    if scarce:
        view.add_warning(
            f"fewer than {_SCARCE} training documents: {', '.join(scarce[:8])}; that is too few to learn such labels reliably."
        )
    rare = [shortened(label, 40) for label, count in counts.items() if _SCARCE <= count < _RARE_SHARE * trained.documents]
    if rare:
        view.add_warning(
            f"under 1 % of the documents: {', '.join(rare[:8])}; few documents are sorted as such labels. "
            "classifier.label_weights=even gives them more room."
        )
    if trained.documents < _DOCUMENTS_A_LABEL * len(counts):
        view.add_warning(
            f"{trained.documents:,} documents are few for {len(counts)} labels; a label needs about {_DOCUMENTS_A_LABEL}."
        )
    held_out, own = answer.held_out_accuracy, answer.training_accuracy
    if held_out is not None and held_out.high is not None and (own.value or 0.0) - held_out.high > _LARGE_GAP:
        view.add_warning(
            f"it knows its own documents much better than others ({percent(own.value)} against {percent(held_out.value)}): "
            f"it has memorised them. More documents, {restraint_sentence(sorter.plan.classifier)}fewer terms help."
        )


_METHOD_SENTENCES = {
    "counts": "Its counts are those of training on all documents",
    "everything": "Trained anew on all documents",
    "kept": "Trained anew on all documents, the earlier ones by their stored counts, which are enough",
    "sample": "Trained anew on the new documents and those that it kept of the earlier ones, which count for all of them",
}


def run_extend(options: ExtendOptions, console: Console) -> Exit:
    """Extend and show what is new."""
    inputs = inputs_of(options, console, options.input)
    older = secondary_inputs(options, console, options.older) if options.older else None
    output = Path(options.output)
    with run_context(options, console, inputs, Plan(), output) as work:
        result, sorters = extend(Path(options.sorter), work, older, output)
    view = View(result)
    view.add_sentence(f"{_METHOD_SENTENCES[result.way]}: {result.documents:,} documents now, {result.added:,} more than before.")
    view.add_sentence(f"Terms: {result.new_terms:,} new ones within the bounds, {result.lost_terms:,} no longer within them.")
    if result.new_labels:
        view.add_sentence(f"New labels: {listed(result.new_labels)}.")
    if sorters[0].plan.features.vectors_file:
        view.add_sentence(
            "Words that the sorter did not have have no vector: it holds those of its own words, and names no file of others."
        )
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
    unknown = f"; {percent(added.unknown_share)} of their words were unknown to it" if added.unknown_share is not None else ""
    before = added.new_right_before
    view.add_sentence(f"{which}Of the new documents it got {percent(before.value)} ({interval(before)}) right before{unknown}.")
    older, newer = added.held_out_older, added.held_out_new
    if older is not None and newer is not None and older.of and newer.of:
        view.add_sentence(
            f"{which}By folds it now gets {percent(newer.value)} ({interval(newer)}) of the new ones right, and "
            f"{percent(older.value)} ({interval(older)}) of the older ones."
        )


def _of_probabilities(way: Way, sorter: TrainedSorter) -> list[str]:
    """What is the same as after training on all documents, and what is not."""
    calibrated = sorter.calibration.kind != "none"
    decide = sorter.plan.decide
    by_scores = sorter.decision is None and decide.rank_by == "scores" and not decide.undecided_below
    match way:
        case "counts" if calibrated and by_scores:
            return ["So are its labels; its probabilities are calibrated as before. Train on everything to calibrate them anew."]
        case "counts" if calibrated:
            return [
                "Its labels follow probabilities, which are calibrated as before. Train on everything to calibrate them anew."
            ]
        case "counts":
            return ["So are its labels and probabilities."]
        case "everything" | "kept":
            return ["It is what training on all of them gives."] if way == "kept" else []
        case "sample":
            return ["Which terms are within the bounds, and how probable labels are, rests on the documents at hand."]
        case _:
            assert_never(way)
