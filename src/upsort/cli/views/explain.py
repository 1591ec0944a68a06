"""What upsort explain shows."""

from collections.abc import Sequence
from datetime import date
from functools import partial
from math import exp
from pathlib import Path
from typing import Any, assert_never

from upsort.cli import columns as col
from upsort.cli.console import Console
from upsort.cli.marking import legend, marked
from upsort.cli.request import incoming_of, inputs_of, others_of
from upsort.cli.specs.explain import ExplainOptions
from upsort.cli.status import Exit
from upsort.cli.view import View
from upsort.cli.wording import shortened
from upsort.core.classifiers.families import family
from upsort.core.errors import UsageProblem
from upsort.core.features.documents import Documents
from upsort.core.insight import explanation as insight
from upsort.core.insight.arithmetic import Arithmetic, arithmetic
from upsort.core.insight.explanation import Explanation, Shares, Sums, Untold, Votes
from upsort.core.insight.sums import written
from upsort.core.insight.without_words import MOST_OUT
from upsort.core.learning.sorter import Sorter
from upsort.core.names import listed
from upsort.files.set_aside import SetAside
from upsort.files.sorter_loading import load_sorter
from upsort.jobs.explain import Explained, document_of, document_of_text, explained
from upsort.jobs.explanation_page import Subject, write_page
from upsort.jobs.explanation_tables import (
    DIGITS,
    Told,
    explained_labels,
    in_percent,
    labels_told,
    nearest_to_threshold,
    path_told,
    signed,
    sum_told,
    votes_told,
)
from upsort.jobs.progress import no_progress

_SIMILAR = 3


def run(options: ExplainOptions, console: Console) -> Exit:
    """Explain and show."""
    sorter = load_sorter(Path(options.sorter), options.answer)
    document = _document(options, sorter, console)
    among = others_of(options, console, options.among) if options.among else None
    found = explained(sorter, document, among, _SIMILAR)
    how = found.explanation.how
    if not isinstance(how, Sums) and "--top" in options.given:
        raise UsageProblem(
            f"--top has no meaning for a sorter of kind {sorter.plan.classifier.kind}, which adds up no pulls of terms.",
            "Leave --top out.",
        )
    worked = arithmetic(sorter, found.explanation) if options.arithmetic else None
    view = View(_as_json(sorter, found, worked))
    _show(sorter, found, options.top, view)
    if worked is not None:
        _show_arithmetic(sorter, worked, view)
    if options.output:
        subject = Subject(Path(options.sorter).name, options.document or "", date.today())
        write_page(sorter, found, Path(options.output), options.top, subject)
        view.say(f"Written: {options.output}.")
    console.show(view)
    return Exit.DONE


def _document(options: ExplainOptions, sorter: Sorter, console: Console) -> Documents:
    text = options.text_or_table
    if options.document:
        inputs = inputs_of(options, console, [text])
        incoming = incoming_of(options, sorter, inputs, SetAside(), no_progress)
        return document_of(sorter, incoming.reader, inputs, options.document)
    if _is_file(text):
        raise UsageProblem(
            f"{text} is a file; what is explained here is a text.",
            f"To explain one of its documents: upsort explain {options.sorter} {text} --document ID",
        )
    return document_of_text(sorter, text)


def _is_file(text: str) -> bool:
    try:
        return Path(text).is_file()
    except (OSError, ValueError):  # longer than a name may be, or with a character that no name has
        return False


def _show(sorter: Sorter, found: Explained, top: int, view: View) -> None:
    one = found.explanation
    _head(sorter, one, view)
    view.say()
    view.lay(partial(marked, one, _meaning(sorter, one)))
    view.say()
    _show_how(sorter, found, top, view)
    if sorter.calibration.kind != "none" and not isinstance(one.how, Shares):
        view.say(f"Probabilities are those of the scores, calibrated ({sorter.calibration.kind}).")
    view.say()
    _table(labels_told(sorter, one), view)
    if one.unknown:
        view.say(f"Not among its terms, being new to it or outside the bounds: {listed(one.unknown, 20)}.")
    if found.flip is not None:
        words, other = found.flip
        view.say(f"Without {listed(words)} it would be {other}.")
    elif found.looked:
        view.say(f"Taking out its words one after the other, up to {MOST_OUT}, does not make it another label.")
    if found.neighbours and not found.voters:
        view.say()
        view.table(
            (col.name("similar document"), col.name("label"), col.number("cosine"), col.text("text")),
            [
                (near.reference, near.label, f"{near.similarity:.2f}", shortened(near.text, 100))
                for near in found.neighbours
            ],
        )


def _head(sorter: Sorter, one: Explanation, view: View) -> None:
    """The answer, and what is to be said of it."""
    label, second = sorter.labels[one.label], sorter.labels[one.second]
    mine = float(one.probabilities[one.label])
    if one.given is not None:
        view.say(_of_sets(sorter, one))
    else:
        view.say(f"{label}, with probability {mine:.3f}; next {second}, {one.probabilities[one.second]:.3f}.")
        if one.sorted_as != label:
            view.say(
                f"What it is sorted as: {one.sorted_as}, being below {in_percent(sorter.plan.decide.undecided_below)}."
            )
        likeliest = int(one.probabilities.argmax())
        if one.probabilities[likeliest] > mine and sorter.decision is not None:
            by = "costs of mistakes" if sorter.costs is not None else "weights of labels"
            view.say(
                f"By the sorter's {by}, {label} is better than {sorter.labels[likeliest]}, which is more probable "
                f"({one.probabilities[likeliest]:.3f})."
            )
    if one.remark:
        view.say(f"{one.remark[0].upper()}{one.remark[1:]}.")


def _of_sets(sorter: Sorter, one: Explanation) -> str:
    if one.given:
        return f"{listed(sorter.labels[label] for label in one.given)}: each label is decided by itself, by its own threshold."
    nearest = nearest_to_threshold(sorter, one)
    threshold = float(sorter.thresholds[nearest]) if sorter.thresholds is not None else 0.0
    return (
        f"No label: none reaches its threshold; nearest is {sorter.labels[nearest]}, with probability "
        f"{one.probabilities[nearest]:.3f} of {threshold:.3f}."
    )


def _meaning(sorter: Sorter, one: Explanation) -> str:
    """What the marks under the words mean."""
    if not isinstance(one.how, Sums):
        return legend()
    label = sorter.labels[one.label]
    return legend(f"for {label}", f"for {sorter.labels[one.second]}" if one.given is None else f"against {label}")


def _show_how(sorter: Sorter, found: Explained, top: int, view: View) -> None:
    """How the scores come about."""
    one = found.explanation
    match one.how:
        case Sums():
            exact = True
            for labels in explained_labels(sorter, one):
                told, is_exact = sum_told(sorter, one, one.how, labels, top)
                exact = exact and is_exact
                _table(told, view)
            if not exact:
                view.say("Every number is rounded by itself; the line rounding is what that leaves over.")
        case insight.Path():
            _table(path_told(one.how), view)
            view.say(
                f"{one.how.documents.sum():,.6g} training documents answered alike, {one.how.documents[one.label]:,.6g} of them "
                f"{sorter.labels[one.label]}."
            )
        case Votes():
            _show_votes(sorter, found, one.how, view)
        case Shares() if family(sorter.plan.classifier).looks_at_text:
            view.say("The probabilities are the labels' shares of the training documents.")
        case Shares():
            view.say(
                f"A sorter of kind {sorter.plan.classifier.kind} does not look at the text: "
                f"{family(sorter.plan.classifier).told}."
            )
        case Untold():
            view.say(f"A sorter of kind {sorter.plan.classifier.kind} does not tell how its scores come about.")
        case _:
            assert_never(one.how)


def _show_votes(sorter: Sorter, found: Explained, how: Votes, view: View) -> None:
    if not how.voters:
        view.say("No training document has a term in common with it: the scores are the labels' shares of all of them.")
        return
    told = votes_told(how, found.voters)
    rows = [[*row[:-1], shortened(row[-1], 100)] for row in told.rows] if found.voters else told.rows
    _table(Told(heads=told.heads, rows=rows, texts=told.texts, prose=told.prose), view)
    view.say("The score of a label is what its documents say, added up.")


def _table(told: Told, view: View) -> None:
    heads, last = told.heads, len(told.heads) - told.prose
    columns = [
        col.name(head) if place == 0 else col.text(head) if place < told.texts or place >= last else _number(head)
        for place, head in enumerate(heads)
    ]
    view.table(columns, told.rows)


def _number(head: str) -> Any:
    spare = {"times": 1, "value": 2}.get(head, 0)
    return col.number(head, spare)


def _show_arithmetic(sorter: Sorter, worked: Sequence[Arithmetic], view: View) -> None:
    """The sums of all labels, the shares that follow from them, and the probabilities that calibration makes of those."""
    for found in worked:
        view.say()
        view.say(f"{found.label}:")
        _show_sum(found, sorter.plan.classifier.prior == "data", view)
    whole = sum(found.exponential for found in worked)
    slope = sorter.calibration.slopes[0] if sorter.calibration.kind == "temperature" else None
    view.say()
    view.say(
        f"The exponentials of the scores, less the highest, add up to {whole:.{DIGITS}f}; divided by that they are the plain "
        "shares. Every number is rounded by itself; lines called rounding are what that leaves over."
    )
    if slope is not None:
        view.say(f"Calibrated, the same is done with {slope:.{DIGITS}f} times the scores.")
    elif sorter.calibration.kind != "none":
        view.say(f"Calibration ({sorter.calibration.kind}) makes the probabilities of the scores.")
    view.table(
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
                found.label,
                signed(found.score),
                f"{found.exponential:.6f}",
                f"{found.plain:.6f}",
                *([signed(slope * found.score)] if slope is not None else []),
                f"{found.probability:.6f}",
            )
            for found in worked
        ],
    )


def _show_sum(found: Arithmetic, from_data: bool, view: View) -> None:
    """The sum of one label. from_data: whether the prior is the share of its documents."""

    prior = f"{found.documents:,.0f} of {found.of:,.0f} documents" if from_data else "as the plan says"
    heads = [("log prior", "", prior, f"{exp(found.log_prior):.6f}")]
    addends = [[found.log_prior]]
    if found.absent is not None:
        heads.append((f"{found.absent[0]:,} absent terms", "", "sum of ln(1 − P)", ""))
        addends.append([found.absent[1]])
    for one in found.terms:
        fraction = f"({one.above - found.smoothing:,.6g} + {found.smoothing:g}) / {one.below:,.6g}"
        heads.append((one.term, str(one.times), fraction, f"{one.share:.6f}"))
        addends.append([one.log])
    sums = written(addends, [found.score], DIGITS)
    rows = [(*head, signed(value)) for head, (value,) in zip(heads, sums.rows.tolist(), strict=True)]
    if not sums.is_exact:
        rows.append(("rounding", "", "", "", signed(float(sums.rounding[0]))))
    rows.append(("score", "", "", "", signed(float(sums.total[0]))))
    view.table(
        (col.name(""), col.count("times"), col.number("estimate"), col.number("P", 1), col.number("times · ln P")), rows
    )


def _as_json(sorter: Sorter, found: Explained, worked: Sequence[Arithmetic] | None) -> dict[str, Any]:
    one = found.explanation

    def by_label(values: Any) -> dict[str, float]:
        return {label: float(value) for label, value in zip(sorter.labels, values, strict=True)}

    return {
        "label": one.sorted_as,
        "labels": [sorter.labels[label] for label in one.given] if one.given is not None else None,
        "probability": float(one.probabilities[one.label]),
        "second_label": sorter.labels[one.second],
        "remark": one.remark or None,
        "probabilities": by_label(one.probabilities),
        "scores": by_label(one.scores),
        "thresholds": by_label(sorter.thresholds) if sorter.thresholds is not None else None,
        "calibration": sorter.calibration.kind,
        "sum": _sum_json(one.how, by_label) if isinstance(one.how, Sums) else None,
        "path": _path_json(one.how, by_label) if isinstance(one.how, insight.Path) else None,
        "voters": _voters_json(found, one.how) if isinstance(one.how, Votes) else None,
        "training_documents": by_label(one.how.documents) if isinstance(one.how, Shares) else None,
        "words": [
            {"start": word.start, "end": word.end, "term": word.term, "known": word.known, "leaning": word.leaning}
            for word in one.words
        ],
        "unknown_words": one.unknown,
        "flip": {"without": found.flip[0], "label": found.flip[1]} if found.flip else None,
        "similar": [
            {"document": near.reference, "label": near.label, "similarity": near.similarity}
            for near in found.neighbours
        ],
        "arithmetic": [_arithmetic_json(each) for each in worked] if worked is not None else None,
    }


def _sum_json(how: Sums, by_label: Any) -> dict[str, Any]:
    return {
        "begins": [{"name": name, "adds": by_label(values)} for name, values in how.begins],
        "terms": [
            {
                "term": pull.term,
                "source": pull.source,
                "count": pull.count,
                "value": pull.value,
                "given": pull.given,
                "shares_with": list(pull.shares_with),
                "pulls": by_label(pull.pulls),
            }
            for pull in how.pulls
        ],
    }


def _path_json(how: insight.Path, by_label: Any) -> dict[str, Any]:
    return {
        "questions": [
            {"term": asked.term, "above": asked.bound, "answer": asked.answer, "documents": asked.documents}
            for asked in how.questions
        ],
        "documents": by_label(how.documents),
    }


def _voters_json(found: Explained, how: Votes) -> list[dict[str, Any]]:
    return [
        {
            "label": voter.label,
            "similarity": voter.similarity,
            "weight": voter.weight,
            "says": voter.says,
            "in_common": voter.in_common,
            "document": found.voters[place].reference if place in found.voters else None,
        }
        for place, voter in enumerate(how.voters)
    ]


def _arithmetic_json(found: Arithmetic) -> dict[str, Any]:
    return {
        "label": found.label,
        "documents": found.documents,
        "of": found.of,
        "log_prior": found.log_prior,
        "smoothing": found.smoothing,
        "terms": [
            {"term": one.term, "times": one.times, "above": one.above, "below": one.below, "log": one.log}
            for one in found.terms
        ],
        "absent": {"terms": found.absent[0], "log": found.absent[1]} if found.absent is not None else None,
        "score": found.score,
        "plain_share": found.plain,
        "probability": found.probability,
    }
