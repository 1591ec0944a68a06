"""What upsort explain shows."""

import os
from collections.abc import Sequence
from datetime import date
from functools import partial
from math import exp
from pathlib import Path
from typing import assert_never

from upsort.cli.commands.reading import ExplainOptions
from upsort.cli.rendering.console import Console, Exit
from upsort.cli.rendering.drawing import legend, marked
from upsort.cli.rendering.view import Column, Detail, View, col, shortened
from upsort.cli.rendering.wording import percent
from upsort.cli.request import inputs_of, secondary_inputs, sorter_reader
from upsort.core.analysis import explanation as insight
from upsort.core.analysis.explanation import MOST_OUT, Additive, Explanation, NeighbourVotes, PriorOnly, Unexplained
from upsort.core.analysis.label_arithmetic import LabelArithmetic, arithmetic, written
from upsort.core.classifiers.families import family
from upsort.core.errors import UsageProblem, counted, listed
from upsort.core.features.documents import Documents
from upsort.core.features.vocabulary import words_are_terms
from upsort.core.training.sorter import TrainedSorter
from upsort.io.sorter.loading import load_sorter
from upsort.workflows.explain import ExplainedDocument, ExplainResult, document_of, document_of_text, explain_document
from upsort.workflows.shared import explanation_page

_SIMILAR = 3


def run_explain(options: ExplainOptions, console: Console) -> Exit:
    """Explain and show."""
    sorter = load_sorter(Path(options.sorter), options.answer)
    document = _document(options, sorter, console)
    among = secondary_inputs(options, console, options.among) if options.among else None
    explained_document = explain_document(sorter, document, among, _SIMILAR)
    how = explained_document.explanation.how
    if not isinstance(how, Additive) and "--top" in options.given:
        raise UsageProblem(
            f"--top does not apply to a sorter of kind {sorter.plan.classifier.kind}, which adds up no pulls of terms.",
            "Leave --top out.",
        )
    worked = arithmetic(sorter, explained_document.explanation) if options.arithmetic else None
    view = View(ExplainResult.of(sorter, explained_document, worked))
    _show(sorter, explained_document, options, view)
    if worked is not None:
        _show_arithmetic(sorter, worked, view)
    if options.output:
        subject = explanation_page.PageSubject(Path(options.sorter).name, options.document or "", date.today())
        explanation_page.write_page(sorter, explained_document, Path(options.output), options.top, subject)
        view.add_sentence(f"Written: {options.output}.")
    console.show(view)
    return Exit.DONE


def _document(options: ExplainOptions, sorter: TrainedSorter, console: Console) -> Documents:
    text = options.text_or_table
    if options.document:
        inputs = inputs_of(options, console, [text])
        return document_of(sorter, sorter_reader(options, sorter, inputs), inputs, options.document)
    if _is_file(text):
        raise UsageProblem(
            f"{text} is a file; what is explained here is a text.",
            f"To explain one of its documents: upsort explain {options.sorter} {text} --document ID",
        )
    try:
        text.encode("utf-8")
    except UnicodeEncodeError:
        text = os.fsencode(text).decode("cp1252", "replace")
        console.note("The text is not UTF-8; it is read as Windows-1252.")
    return document_of_text(sorter, text)


def _is_file(text: str) -> bool:
    try:
        return Path(text).is_file()
    except (OSError, ValueError):  # longer than a name may be, or with a character that no name has
        return False


def _show(sorter: TrainedSorter, explained_document: ExplainedDocument, options: ExplainOptions, view: View) -> None:
    explanation = explained_document.explanation
    _head(sorter, explanation, view)
    lines = len(explanation.text) // _NARROW
    brief = options.top if "--top" in options.given else _BRIEF_TERMS
    for detail, most, terms in ((Detail.BRIEF, _BRIEF_LINES, brief), (Detail.FULL, 0, options.top)):
        with view.at(detail):
            view.add_block(partial(marked, explanation, _meaning(sorter, explanation), most))
            view.add_sentence()
            _show_how(sorter, explained_document, terms, detail is Detail.FULL, view)
    if isinstance(explanation.how, Additive) and min(len(explanation.how.pulls), options.top) > brief:
        view.more["more terms"] = None
    if lines > _BRIEF_LINES:
        view.more["the whole text"] = None
    with view.at(Detail.VERBOSE):
        if sorter.calibration.kind != "none" and not isinstance(explanation.how, PriorOnly):
            view.add_sentence(f"Probabilities: the scores, calibrated ({sorter.calibration.kind}).")
    with view.at(Detail.FULL, "all labels"):
        view.add_sentence()
        _table(explanation_page.labels_table(sorter, explanation), view)
    ignored = "Too common or too rare, so ignored" if words_are_terms(sorter.plan.features) else "In no term"
    for which, left_out in ((ignored, explanation.ignored), ("Never seen", explanation.unknown)):
        for detail, most in ((Detail.BRIEF, _BRIEF_TERMS), (Detail.FULL, 20)):
            with view.at(detail):
                if left_out:
                    view.add_sentence(f"{which}: {listed(left_out, most)}.")
    if explained_document.flip is not None:
        words, other = explained_document.flip.without, explained_document.flip.label
        view.add_sentence(f"Without {listed(map(repr, words))} it would be {other}.")
    elif explained_document.checked:
        with view.at(Detail.FULL):
            view.add_sentence(f"Leaving out its words one after the other, up to {MOST_OUT}, does not change its label.")
    if explained_document.neighbours and not explained_document.voters:
        view.add_sentence()
        view.add_table(
            (col.name("similar document"), col.name("label"), col.number("cosine"), col.quote("text")),
            [
                (near.reference, near.label, f"{near.similarity:.2f}", shortened(near.text))
                for near in explained_document.neighbours
            ],
        )


_BRIEF_LINES = 2  # of the text, that are shown without --full
_BRIEF_TERMS = 6
_NARROW = 80  # characters a line


def _head(sorter: TrainedSorter, explanation: Explanation, view: View) -> None:
    """The answer, and what is to be said of it."""
    label, second = sorter.labels[explanation.label], sorter.labels[explanation.second]
    mine = float(explanation.probabilities[explanation.label])
    if explanation.given is not None:
        view.add_answer(_of_sets(sorter, explanation))
    else:
        view.add_answer(f"{label}, probability {percent(mine)}; next: {second}, {percent(_probability(explanation))}.")
        if explanation.sorted_as != label:
            view.add_sentence(
                f"Sorted as {explanation.sorted_as}: the probability is below {percent(sorter.plan.decide.undecided_below)}."
            )
        likeliest = int(explanation.probabilities.argmax())
        if explanation.probabilities[likeliest] > mine and sorter.decision is not None:
            by = "costs of mistakes" if sorter.costs is not None else "weights of labels"
            view.add_sentence(
                f"The sorter's {by} favour {label} over {sorter.labels[likeliest]}, which is more probable "
                f"({percent(float(explanation.probabilities[likeliest]))})."
            )
    if explanation.remark:
        view.add_sentence(f"{explanation.remark[0].upper()}{explanation.remark[1:]}.")


def _probability(explanation: Explanation) -> float:
    """Of the second label."""
    return float(explanation.probabilities[explanation.second])


def _of_sets(sorter: TrainedSorter, explanation: Explanation) -> str:
    if explanation.given:
        given = listed(sorter.labels[label] for label in explanation.given)
        return f"{given}; each label is decided by its own threshold."
    nearest = explanation_page.nearest_to_threshold(sorter, explanation)
    threshold = float(sorter.thresholds[nearest]) if sorter.thresholds is not None else 0.0
    return (
        f"No label reaches its threshold; nearest: {sorter.labels[nearest]}, probability "
        f"{percent(float(explanation.probabilities[nearest]))}, threshold {percent(threshold)}."
    )


def _meaning(sorter: TrainedSorter, explanation: Explanation) -> str:
    """What the marks under the words mean."""
    if not isinstance(explanation.how, Additive):
        return legend()
    label = sorter.labels[explanation.label]
    return legend(f"for {label}", f"for {sorter.labels[explanation.second]}" if explanation.given is None else f"against {label}")


def _show_how(sorter: TrainedSorter, explained_document: ExplainedDocument, top: int, whole: bool, view: View) -> None:
    """How the scores come about. whole: of all labels that are given."""
    explanation = explained_document.explanation
    match explanation.how:
        case Additive():
            exact = True
            every = explanation_page.explained_labels(sorter, explanation)
            for labels in every if whole else every[:1]:
                formatted, is_exact = explanation_page.sum_table(sorter, explanation, explanation.how, labels, top)
                exact = exact and is_exact
                _table(formatted, view)
            if len(every) > 1:
                view.more[f"the sums of {counted(len(every) - 1, 'other label')}"] = None
            if not exact:
                with view.at(Detail.FULL):
                    view.add_sentence("Every number is rounded; the row rounding is the remainder.")
        case insight.TreePath():
            _table(explanation_page.path_table(explanation.how), view)
            view.add_sentence(
                f"{explanation.how.documents.sum():,.6g} training documents gave the same answers, "
                f"{explanation.how.documents[explanation.label]:,.6g} of them {sorter.labels[explanation.label]}."
            )
        case NeighbourVotes():
            _show_votes(sorter, explained_document, explanation.how, view)
        case PriorOnly() if family(sorter.plan.classifier).looks_at_text:
            view.add_sentence("The probabilities are the labels' shares of the training documents.")
        case PriorOnly():
            view.add_sentence(
                f"A sorter of kind {sorter.plan.classifier.kind} does not look at the text: "
                f"{family(sorter.plan.classifier).summary}."
            )
        case Unexplained():
            view.add_sentence(f"A sorter of kind {sorter.plan.classifier.kind} does not show how its scores come about.")
        case _:
            assert_never(explanation.how)


def _show_votes(sorter: TrainedSorter, explained_document: ExplainedDocument, how: NeighbourVotes, view: View) -> None:
    if not how.voters:
        view.add_sentence("No training document has a term in common with it: the scores are the labels' shares of all of them.")
        return
    formatted = explanation_page.votes_table(how, explained_document.voters)
    rows = [[*row[:-1], shortened(row[-1])] for row in formatted.rows] if explained_document.voters else formatted.rows
    _table(explanation_page.FormattedTable(heads=formatted.heads, rows=rows, texts=formatted.texts, prose=formatted.prose), view)
    view.add_sentence("The score of a label is the sum of its documents' votes.")


def _table(formatted: explanation_page.FormattedTable, view: View) -> None:
    view.add_table([_column(head, place, formatted) for place, head in enumerate(formatted.heads)], formatted.rows, whole=True)


def _column(head: str, place: int, formatted: explanation_page.FormattedTable) -> Column:
    if place == 0:
        return col.name(head)
    if head == "text":
        return col.quote("text")
    if place < formatted.texts or place >= len(formatted.heads) - formatted.prose:
        return col.text(head)
    return col.number(head, {"times": 1, "value": 2}.get(head, 0))


def _show_arithmetic(sorter: TrainedSorter, worked: Sequence[LabelArithmetic], view: View) -> None:
    """The sums of all labels, the shares that follow from them, and the probabilities that calibration makes of those."""
    for label_sum in worked:
        view.add_sentence()
        view.add_sentence(f"{label_sum.label}:")
        _show_sum(label_sum, sorter.plan.classifier.prior == "data", view)
    whole = sum(label_sum.exponential for label_sum in worked)
    slope = sorter.calibration.slopes[0] if sorter.calibration.kind == "temperature" else None
    view.add_sentence()
    view.add_sentence(
        f"The exponentials of the scores, less the highest, add up to {whole:.{explanation_page.DIGITS}f}; divided by that they "
        "are the plain shares. Every number is rounded; rows called rounding are the remainders."
    )
    if slope is not None:
        view.add_sentence(f"Calibrated, the same is done with {slope:.{explanation_page.DIGITS}f} times the scores.")
    elif sorter.calibration.kind != "none":
        view.add_sentence(f"Calibration ({sorter.calibration.kind}) makes the probabilities of the scores.")
    view.add_table(
        (
            col.name("label"),
            col.number("score"),
            col.number("e^(score − highest)", 2),
            col.number("plain share", 1),
            *([col.number("times the slope", 3)] if slope is not None else []),
            col.number("probability"),
        ),
        [
            (
                label_sum.label,
                explanation_page.signed(label_sum.score),
                f"{label_sum.exponential:.6f}",
                f"{label_sum.plain:.6f}",
                *([explanation_page.signed(slope * label_sum.score)] if slope is not None else []),
                f"{label_sum.probability:.6f}",
            )
            for label_sum in worked
        ],
    )


def _show_sum(label_sum: LabelArithmetic, from_data: bool, view: View) -> None:
    """The sum of one label. from_data: whether the prior is the share of its documents."""

    prior = f"{label_sum.documents:,.0f} of {label_sum.of:,.0f} documents" if from_data else "as the plan says"
    heads = [("log prior", "", prior, f"{exp(label_sum.log_prior):.6f}")]
    addends = [[label_sum.log_prior]]
    if label_sum.absent is not None:
        heads.append((f"{label_sum.absent.terms:,} absent terms", "", "sum of ln(1 − P)", ""))
        addends.append([label_sum.absent.log])
    for estimate in label_sum.terms:
        fraction = f"({estimate.above - label_sum.smoothing:,.6g} + {label_sum.smoothing:g}) / {estimate.denominator:,.6g}"
        heads.append((estimate.term, str(estimate.times), fraction, f"{estimate.share:.6f}"))
        addends.append([estimate.log])
    sums = written(addends, [label_sum.score], explanation_page.DIGITS)
    rows = [(*head, explanation_page.signed(value)) for head, (value,) in zip(heads, sums.rows.tolist(), strict=True)]
    if not sums.is_exact:
        rows.append(("rounding", "", "", "", explanation_page.signed(float(sums.rounding[0]))))
    rows.append(("score", "", "", "", explanation_page.signed(float(sums.total[0]))))
    view.add_table(
        (col.name(""), col.count("times"), col.number("estimate"), col.number("P", 1), col.number("times · ln P")), rows
    )
