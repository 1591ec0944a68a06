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
    tell_costs,
    tell_set_aside,
)
from upsort.cli.requirements import check_written, met
from upsort.cli.specs.evaluate import EvaluateOptions
from upsort.cli.status import Exit
from upsort.cli.verdicts import (
    calibration_told,
    confusions_told,
    costs_told,
    costs_warned,
    dominated,
    headline,
    left_out,
    units_of,
)
from upsort.cli.view import View, Where
from upsort.cli.wording import (
    MEASURE_COLUMNS,
    OWN_COLUMNS,
    RELIABILITY_COLUMNS,
    confusion_columns,
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
from upsort.core.judging.measures import Judgement, LabelSets
from upsort.files.sorter_loading import load_sorters
from upsort.jobs.decisions import deciding
from upsort.jobs.evaluate import Wanted, evaluate
from upsort.jobs.judged import Judged
from upsort.jobs.judgement_figures import draw_judgement
from upsort.jobs.score import Passages

_MOST_CONFUSED = 12  # labels, above which a terminal shows a list of so many confusions in place of them all


def run(options: EvaluateOptions, console: Console) -> Exit:
    """Judge and show."""
    check_written(options.require)
    sorters = deciding(load_sorters(Path(options.sorter)), options.cost, options.undecided_below)
    tell_costs(options.cost, console)
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
    elif options.figures:
        view.say("No figure is drawn where cells hold several labels.")
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
    show_costs(one.evidence, view)
    for line in dominated(one.evidence):
        view.say(line)
    for label, count in one.unknown_labels.items():
        view.warn(f"{count:,} documents have the label {label!r}, which the sorter does not know; they count as wrong.")
    show_undecided(one.evidence, one.sorter.plan.decide.undecided_below, view)
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
    show_labels(one.evidence, view, options.shares)
    show_measures(one.evidence, one.sorter.labels, view, options.measures)
    for line in _before_calibration(one):
        view.say(line)
    if not options.measures:
        view.say("More with --measures.")
    if options.undecided_below or one.undecided is not None:
        _show_coverage(one, view)
    _show_mistakes(one, options.mistakes, view)


def show_costs(evidence: Evidence, view: View) -> None:
    """What decisions cost, where there is a table of costs."""
    if evidence.costs is None:
        return
    view.say(costs_told(evidence.costs))
    if evidence.costs.is_worse:
        view.warn(costs_warned(evidence.costs))


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
            col.name("label"),
            col.name("sorted as"),
            col.number("probability"),
            col.text("because of", 1),
            col.text("text"),
        ),
        [
            (
                mistake.reference,
                mistake.true,
                mistake.sorted_as,
                f"{mistake.probability:.3f}",
                ", ".join(mistake.pulled_by),
                shortened(mistake.text, 120),
            )
            for mistake in one.mistakes[:most]
        ],
    )


def show_undecided(evidence: Evidence, below: float | None, view: View) -> None:
    """How many documents are left undecided, and what is right of the others. below: the bound, where it is one."""
    found = evidence.undecided
    if found is None:
        return
    left = (found.share.of or 0) - (found.share.right or 0)
    bound = f", being below {below:.4g}" if below else ""
    view.say(
        f"{number(left)} are left undecided{bound}; {percent(found.share.value)} ({interval(found.share)}) are decided, and "
        f"{percent(found.right.value)} ({interval(found.right)}) of those are right."
    )


def show_labels(evidence: Evidence, view: View, shares: str = "") -> None:
    """The table by label, what its documents were sorted as, and the largest confusions in words; where some documents are left
    undecided, of the others."""
    undecided = evidence.undecided
    judgement = evidence.judgement
    if undecided is not None:
        if undecided.judgement is None:
            view.say("No document is decided.")
            return
        judgement = undecided.judgement
        view.say("Of the decided documents alone:")
    view.table(
        label_columns(undecided is not None, judgement.sets is not None),
        label_rows(judgement, undecided.by_label if undecided is not None else None),
    )
    view.say()
    if judgement.sets is not None:
        _show_sets(judgement, judgement.sets, view)
        return
    many = len(judgement.labels) > _MOST_CONFUSED
    where = Where.PIPED if many else Where.EVERYWHERE
    if shares:
        view.say(f"In percent of the {'true label' if shares == 'row' else 'label it was sorted as'}:", where)
    view.table(confusion_columns(judgement), confusion_rows(judgement, shares), square=True, where=where)
    if many:
        view.table(
            (col.name("label"), col.name("sorted as"), col.count("documents"), col.count("of")),
            [(one.true, one.sorted_as, number(one.documents), one.of) for one in judgement.confusions(_MOST_CONFUSED)],
            where=Where.TERMINAL,
        )
        return
    for line in confusions_told(judgement):
        view.say(line)


def _show_sets(judgement: Judgement, sets: LabelSets, view: View) -> None:
    """Which labels go wrong, and which together."""
    for line in confusions_told(judgement):
        view.say(line)
    if not sets.missed_together:
        return
    view.say()
    view.say("Missed together:")
    view.table(
        (col.name("label"), col.name("and"), col.count("documents missing both"), col.count("of")),
        [
            (one.first, one.second, number(one.documents), number(one.of))
            for one in sets.missed_together[:_MOST_CONFUSED]
        ],
    )


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
