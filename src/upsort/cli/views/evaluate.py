"""What upsort evaluate shows."""

from collections.abc import Sequence
from dataclasses import asdict
from pathlib import Path
from typing import Any

from upsort.cli import columns as col
from upsort.cli.console import Console
from upsort.cli.recording import Recorded, record_result
from upsort.cli.request import (
    JUDGED,
    coming_in,
    inputs_of,
    others_of,
    tell_set_aside,
)
from upsort.cli.requirements import check_written, met
from upsort.cli.specs.evaluate import EvaluateOptions
from upsort.cli.status import Exit
from upsort.cli.verdicts import calibration_told, dominated, headline, left_out, units_of
from upsort.cli.view import View, Where
from upsort.cli.wording import (
    MEASURE_COLUMNS,
    OWN_COLUMNS,
    RELIABILITY_COLUMNS,
    confusion_rows,
    interval,
    judgement_json,
    label_columns,
    label_rows,
    leading_measures,
    measure_rows,
    number,
    own_rows,
    percent,
    rate_json,
    reliability_rows,
    shortened,
)
from upsort.core.judging.intervals import Rate
from upsort.core.judging.measure import Evidence
from upsort.core.judging.measure_list import rates_of
from upsort.core.judging.measures import Judgement
from upsort.files.sorter_loading import load_sorters
from upsort.jobs.decisions import deciding
from upsort.jobs.evaluate import Wanted, evaluate
from upsort.jobs.judged import Judged
from upsort.jobs.judgement_figures import draw_judgement
from upsort.jobs.score import Passages

_MOST_CONFUSED = 12  # labels, above which the matrix in the terminal gives way to a list


def run(options: EvaluateOptions, console: Console) -> Exit:
    """Judge and show."""
    check_written(options.require)
    sorters = deciding(load_sorters(Path(options.sorter)), options.cost, options.undecided_below)
    inputs = inputs_of(options, console, options.input)
    training = others_of(options, console, options.training) if options.training else None
    output = Path(options.output) if options.output else None
    passages = Passages(options.per_document, options.document_column) if options.per_document else None
    with coming_in(options, console, sorters[0], inputs, output, JUDGED) as incoming:
        found = evaluate(sorters, incoming, output, Wanted(options.by, passages, training))
    written = draw_judgement(found, Path(options.figures)) if options.figures else []
    answers = {one.sorter.answer: _as_json(one, options.mistakes) for one in found}
    view = View({"answers": answers} if len(found) > 1 else next(iter(answers.values())))
    view.values["written"] = [str(path) for path in written]
    for one in found:
        _show(one, incoming.reader.columns.group, options, view)
    if output is not None:
        view.say(f"All {sum(len(one.mistakes) for one in found):,} mistakes: {output}.")
    if written:
        view.say(f"Written: {', '.join(map(str, written))}.")
    tell_set_aside(incoming.aside, incoming.read, view)
    for one in found:
        what = Recorded("evaluate", _named(options.sorter, one), one.sorter.plan, options.input)
        record_result(options, what, one.evidence, view)
    console.show(view)
    return met(options.require, {one.sorter.answer: rates_of(one.evidence) for one in found}, console)


def _named(sorter: str, one: Judged) -> str:
    return f"{sorter}: {one.sorter.answer}" if one.sorter.answer else sorter


def _as_json(one: Judged, mistakes: int) -> dict[str, Any]:
    return {
        **judgement_json(one.evidence, one.sorter.labels),
        "training_accuracy": rate_json(one.training_accuracy),
        "unknown_labels": one.unknown_labels,
        "by": {value: rate_json(rate) for value, rate in one.by.items()},
        "all_words_known": rate_json(one.known_words),
        "some_words_unknown": rate_json(one.new_words),
        "without_copies_of_training": rate_json(one.not_copies) if one.not_copies is not None else None,
        "before_calibration": {"log_loss": one.before[0], "brier": one.before[1]} if one.before else None,
        "mean_cost": one.cost,
        "decided": rate_json(one.undecided) if one.undecided is not None else None,
        "coverage": [
            {"undecided_below": bound, "decided": decided, "right": right, "of": one.coverage.documents}
            for bound, decided, right in zip(one.coverage.bounds, one.coverage.decided, one.coverage.right, strict=True)
        ],
        "mistakes": [asdict(mistake) for mistake in one.mistakes[:mistakes]],
    }


def _show(one: Judged, group: str, options: EvaluateOptions, view: View) -> None:
    if one.sorter.answer:
        view.say(f"── {one.sorter.answer}")
    for line in headline(
        one.judgement, one.training_accuracy, "" if options.per_document and units_of(group) == "passages" else group
    ):
        view.say(line)
    for line in dominated(one.judgement, one.probability):
        view.say(line)
    for label, count in one.unknown_labels.items():
        view.warn(f"{count:,} documents have the label {label!r}, which the sorter does not know; they count as wrong.")
    if one.undecided is not None:
        left = (one.judgement.accuracy.of or 0) - (one.undecided.of or 0)
        view.say(
            f"{number(left)} are left undecided; of the {number(one.undecided.of)} others {percent(one.undecided.value)} are "
            f"right ({interval(one.undecided)})."
        )
    if one.cost is not None:
        view.say(f"A document costs {one.cost:.3f} on average by the table of costs.")
    if one.not_copies is not None:
        view.say(f"Without copies of training documents: {_said(one.not_copies)}.")
    if one.new_words.of and one.known_words.of:
        view.say(f"Where all words are known: {_said(one.known_words)}; where some are not: {_said(one.new_words)}.")
    if one.by:
        view.say()
        view.table(
            (col.name(options.by), col.count("right", 1), col.count("of", 2), col.share("accuracy"), col.interval()),
            [
                (value or "(empty)", number(rate.right), number(rate.of), percent(rate.value), interval(rate))
                for value, rate in one.by.items()
            ],
        )
    view.say()
    show_labels(one.judgement, view, options.shares)
    show_measures(one.evidence, one.sorter.labels, view, options.measures)
    for line in _before_calibration(one):
        view.say(line)
    if not options.measures:
        view.say("More with --measures.")
    if options.undecided_below:
        _show_coverage(one, view)
    _show_mistakes(one, options.mistakes, view)


def _before_calibration(one: Judged) -> list[str]:
    if one.before is None or one.probability is None:
        return []
    log_loss, brier = one.before
    kind = one.sorter.calibration.kind
    return [f"Before calibration ({kind}) the log loss would be {log_loss:.3f} and the Brier score {brier:.3f}."]


def _said(rate: Rate) -> str:
    return f"{percent(rate.value)} ({number(rate.right)} of {number(rate.of)})"


def _show_coverage(one: Judged, view: View) -> None:
    found = one.coverage
    view.say()
    view.say("What leaving the less certain ones undecided brings:")
    view.table(
        (col.number("undecided below"), col.count("decided"), col.share("share"), col.share("right of them")),
        [
            (f"{bound:.2f}", decided, percent(decided / max(found.documents, 1)), percent(right / decided))
            for bound, decided, right in zip(found.bounds, found.decided, found.right, strict=True)
            if decided
        ],
    )


def _show_mistakes(one: Judged, most: int, view: View) -> None:
    if not one.mistakes[:most]:
        return
    view.say()
    view.say("Wrong, and most sure of it:")
    view.table(
        (
            col.name("document"),
            col.name("true label"),
            col.name("given label"),
            col.number("probability"),
            col.text("because of", 1),
            col.text("text"),
        ),
        [
            (
                mistake.reference,
                mistake.true,
                mistake.given,
                f"{mistake.probability:.3f}",
                ", ".join(mistake.pulled_by),
                shortened(mistake.text, 120),
            )
            for mistake in one.mistakes[:most]
        ],
    )


def show_labels(judgement: Judgement, view: View, shares: str = "") -> None:
    """The table by label, the confusion matrix, and the largest confusions in words."""
    view.table(label_columns(), label_rows(judgement))
    view.say()
    where = Where.EVERYWHERE if len(judgement.labels) <= _MOST_CONFUSED else Where.PIPED
    unit = {"row": ", in percent of the true label", "column": ", in percent of the given label"}.get(shares, "")
    view.say(f"True labels in rows, given labels in columns{unit}:", where)
    view.table(
        (col.name("true \\ given"), *(col.count(label) for label in judgement.labels)),
        confusion_rows(judgement, shares),
        square=True,
        where=where,
    )
    for confusion in judgement.largest_confusions():
        were, count = "was" if confusion.documents == 1 else "were", number(confusion.documents)
        view.say(f"{count} of {confusion.of:,} {confusion.true!r} documents {were} taken for {confusion.given!r}.")


def show_measures(evidence: Evidence, labels: Sequence[str], view: View, whole: bool) -> None:
    """The measures of the whole, and those of the probabilities: as tables, or the most telling ones as sentences. labels: of
    the probabilities."""
    probability = evidence.probability
    view.say()
    if whole:
        view.table(MEASURE_COLUMNS, measure_rows(evidence))
        if probability is not None:
            view.say()
            view.table(RELIABILITY_COLUMNS, reliability_rows(probability.reliability))
            view.say()
            view.table(OWN_COLUMNS, own_rows(probability, labels))
            view.say()
    else:
        view.say(leading_measures(evidence))
    if probability is not None:
        for line in calibration_told(probability.reliability):
            view.say(line)
    for line in left_out(evidence.judgement, probability, whole):
        view.say(line)
