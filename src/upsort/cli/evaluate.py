"""upsort evaluate."""

import argparse
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Any

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.recording import Recorded, record_result
from upsort.cli.request import incoming_of, inputs_of, rows_json, set_aside_of, tell_set_aside
from upsort.cli.requirements import check_written, met
from upsort.cli.status import Exit
from upsort.cli.verdicts import calibration_told, dominated, headline, left_out, units_of
from upsort.cli.wording import (
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

if TYPE_CHECKING:
    from collections.abc import Sequence

    from upsort.core.judging.intervals import Rate
    from upsort.core.judging.measure import Evidence
    from upsort.core.judging.measures import Judgement
    from upsort.jobs.judged import Judged

DESCRIPTION = "Judge a sorter on labelled documents that it was not trained on."
EXAMPLE = "upsort evaluate desk.sorter parts/held-out.csv -o mistakes.csv"
OPTIONS = (
    options.Group(
        "what to judge",
        (
            options.SORTER,
            options.INPUT,
            options.option("-o", "--output", metavar="FILE", help="write the documents it got wrong to a table"),
            options.option(
                "--mistakes", type=options.whole_number(0), default=5, metavar="N", help="how many mistakes to show"
            ),
            options.option("--figures", metavar="FOLDER", help="write figures into a folder"),
            options.option("--by", metavar="COLUMN", default="", help="the results for each value of a column"),
            options.option(
                "--training", nargs="+", metavar="TABLE", help="what it was trained on: its near copies are left out, and told"
            ),
            options.option(
                "--per-document", choices=("mean", "median", "trimmed", "product"), default="",
                help="add up the passages of each document",
            ),
            options.option("--document-column", default="document", metavar="COLUMN", help="names a passage's document"),
            options.COST,
            options.option("--undecided-below", type=options.share, metavar="P", help="leave less probable ones undecided"),
            options.option(
                "--shares", choices=("row", "column"), default="", help="confusions as shares of the true or given label"
            ),
            options.MEASURES,
            options.REQUIRE,
            options.NO_LEDGER,
        ),
    ),
    options.COLUMNS,
    options.READING,
    options.COMMON,
)  # fmt: skip

_MOST_CONFUSED = 12  # labels, above which the matrix in the terminal gives way to a list
RULES: tuple[options.Rule, ...] = (
    options.Need("--document-column", ("--per-document",)),
    options.Clash("--json", ("--shares", "--measures"), "JSON holds all counts and measures"),
)


def run(request: argparse.Namespace, console: Console) -> Exit:
    """Judge and show."""
    from upsort.core.judging.measure_list import rates_of
    from upsort.files.sorter_file import load_sorters
    from upsort.jobs.decisions import deciding
    from upsort.jobs.evaluate import Wanted, evaluate
    from upsort.jobs.score import Passages

    check_written(request.require)
    sorters = deciding(load_sorters(Path(request.sorter)), request.cost, request.undecided_below)
    inputs = inputs_of(request, console)
    training = inputs_of(request, console, names=request.training) if request.training else None
    output = Path(request.output) if request.output else None
    passages = Passages(request.per_document, request.document_column) if request.per_document else None
    with set_aside_of(request, output) as aside, console.progress("documents judged") as advance:
        incoming = incoming_of(request, sorters[0], inputs, aside, advance, labels=True)
        found = evaluate(sorters, incoming, output, Wanted(request.by, passages, training))
    used = incoming.read
    written = []
    if request.figures:
        from upsort.jobs.judgement_figures import draw_judgement

        written = draw_judgement(found, Path(request.figures))
    if console.as_json:
        answers = {one.sorter.answer: _as_json(one, request.mistakes) for one in found}
        whole = {"answers": answers} if len(found) > 1 else next(iter(answers.values()))
        console.json(whole | {"written": [str(path) for path in written], "rows": rows_json(aside, used)})
    else:
        for one in found:
            _show(one, incoming.reader.columns.group, request, console)
        if output is not None:
            console.say(f"All {sum(len(one.mistakes) for one in found):,} mistakes: {output}.")
        if written:
            console.say(f"Written: {', '.join(map(str, written))}.")
        tell_set_aside(aside, used, console)
    for one in found:
        what = Recorded("evaluate", _named(request.sorter, one), one.sorter.plan)
        record_result(request, console, what, one.evidence)
    return met(request.require, {one.sorter.answer: rates_of(one.evidence) for one in found}, console)


def _named(sorter: str, one: "Judged") -> str:
    return f"{sorter}: {one.sorter.answer}" if one.sorter.answer else sorter


def _as_json(one: "Judged", mistakes: int) -> dict[str, Any]:
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


def _show(one: "Judged", group: str, request: argparse.Namespace, console: Console) -> None:
    if one.sorter.answer:
        console.say(f"── {one.sorter.answer}")
    for line in headline(
        one.judgement, one.training_accuracy, "" if request.per_document and units_of(group) == "passages" else group
    ):
        console.say(line)
    for line in dominated(one.judgement, one.probability):
        console.say(line)
    for label, count in one.unknown_labels.items():
        console.warn(
            f"{count:,} documents have the label {label!r}, which the sorter does not know; they count as wrong."
        )
    if one.undecided is not None:
        left = (one.judgement.accuracy.of or 0) - (one.undecided.of or 0)
        console.say(
            f"{number(left)} are left undecided; of the {number(one.undecided.of)} others {percent(one.undecided.value)} are "
            f"right ({interval(one.undecided)})."
        )
    if one.cost is not None:
        console.say(f"A document costs {one.cost:.3f} on average by the table of costs.")
    if one.not_copies is not None:
        console.say(f"Without copies of training documents: {_said(one.not_copies)}.")
    if one.new_words.of and one.known_words.of:
        console.say(f"Where all words are known: {_said(one.known_words)}; where some are not: {_said(one.new_words)}.")
    if one.by:
        console.say()
        console.table(
            (request.by, "right", "of", "accuracy", "95 % interval"),
            [
                (value or "(empty)", rate.right, rate.of, percent(rate.value), interval(rate))
                for value, rate in one.by.items()
            ],
            numeric=range(1, 5),
        )
    console.say()
    show_labels(one.judgement, console, request.shares)
    show_measures(one.evidence, one.sorter.labels, console, request.measures)
    for line in _before_calibration(one):
        console.say(line)
    if not request.measures:
        console.say("More with --measures.")
    if request.undecided_below:
        _show_coverage(one, console)
    _show_mistakes(one, request.mistakes, console)


def _before_calibration(one: "Judged") -> list[str]:
    if one.before is None or one.probability is None:
        return []
    log_loss, brier = one.before
    kind = one.sorter.calibration.kind
    return [f"Before calibration ({kind}) the log loss would be {log_loss:.3f} and the Brier score {brier:.3f}."]


def _said(rate: "Rate") -> str:
    return f"{percent(rate.value)} ({number(rate.right)} of {number(rate.of)})"


def _show_coverage(one: "Judged", console: Console) -> None:
    found = one.coverage
    console.say()
    console.say("What leaving the less certain ones undecided brings:")
    console.table(
        ("undecided below", "decided", "share", "right of them"),
        [
            (f"{bound:.2f}", f"{decided:,}", percent(decided / max(found.documents, 1)), percent(right / decided))
            for bound, decided, right in zip(found.bounds, found.decided, found.right, strict=True)
            if decided
        ],
        numeric=range(4),
    )


def _show_mistakes(one: "Judged", most: int, console: Console) -> None:
    if not one.mistakes[:most]:
        return
    console.say()
    console.say("Wrong, and most sure of it:")
    console.table(
        ("document", "true label", "given label", "probability", "because of", "text"),
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
        numeric=(3,),
    )


def show_labels(judgement: "Judgement", console: Console, shares: str = "") -> None:
    """The table by label, the confusion matrix, and the largest confusions in words."""
    console.table(label_columns(), label_rows(judgement), numeric=range(1, len(label_columns())))
    console.say()
    if len(judgement.labels) <= _MOST_CONFUSED or not console.drawn:
        unit = {"row": ", in percent of the true label", "column": ", in percent of the given label"}.get(shares, "")
        console.say(f"True labels in rows, given labels in columns{unit}:")
        console.table(
            ("true \\ given", *judgement.labels),
            confusion_rows(judgement, shares),
            numeric=range(1, len(judgement.labels) + 1),
        )
    for confusion in judgement.largest_confusions():
        were, count = "was" if confusion.documents == 1 else "were", number(confusion.documents)
        console.say(f"{count} of {confusion.of:,} {confusion.true!r} documents {were} taken for {confusion.given!r}.")


def show_measures(evidence: "Evidence", labels: "Sequence[str]", console: Console, whole: bool) -> None:
    """The measures of the whole, and those of the probabilities: as tables, or the most telling ones as sentences. labels: of
    the probabilities."""
    probability = evidence.probability
    console.say()
    if whole:
        console.table(("measure", "value", "95 % interval"), measure_rows(evidence), numeric=(1, 2))
        if probability is not None:
            console.say()
            console.table(RELIABILITY_COLUMNS, reliability_rows(probability.reliability), numeric=range(1, 5))
            console.say()
            console.table(OWN_COLUMNS, own_rows(probability, labels), numeric=range(1, 4))
            console.say()
    else:
        console.say(leading_measures(evidence))
    if probability is not None:
        for line in calibration_told(probability.reliability):
            console.say(line)
    for line in left_out(evidence.judgement, probability, whole):
        console.say(line)
