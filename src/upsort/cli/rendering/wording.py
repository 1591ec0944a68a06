"""Rates, intervals and counts as text, as rows of tables and as JSON."""

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, assert_never

import numpy as np
from msgspec import structs

from upsort.cli.rendering.view import Bold, Column, Zero, col, values_of
from upsort.core.evaluation.intervals import FEW, Rate
from upsort.core.evaluation.leaks import Leak
from upsort.core.evaluation.measure_list import LABEL_MEASURES, MEASURES, JudgedEvidence, Measure, Unit, shown_measures
from upsort.core.evaluation.measures import Judgement, LabelMeasures, LabelSets
from upsort.core.evaluation.novelty import SimilarityRates
from upsort.core.evaluation.probability_measures import ProbabilityMeasures, Reliability
from upsort.core.plan import Plan
from upsort.workflows.shared import results

_LEAKS_SHOWN = 3


def leak_warnings(leaks: Sequence[Leak]) -> list[str]:
    """What gives away labels, with the figures."""
    lines = [f"{results.leak_sentence(leak)}." for leak in leaks[:_LEAKS_SHOWN]]
    if lines:
        more = len(leaks) - len(lines)
        lines[-1] += f" {more:,} more {'is' if more == 1 else 'are'} like that." if more else ""
        lines[-1] += " If that is not known of new documents, do not train on it."
    return lines


def percent(value: float | None) -> str:
    """A share as a percentage with one decimal; a dash where it is not defined."""
    return "–" if value is None else f"{100 * value:.1f}%"


def interval(rate: Rate) -> str:
    """The two ends of a 95% interval."""
    return "–" if rate.low is None or rate.high is None else f"{100 * rate.low:.1f}–{100 * rate.high:.1f}%"


def _decisions_by_label(judgement: Judgement) -> dict[str, results.LabelDecisions]:
    return {
        label.label: results.LabelDecisions(
            documents=label.documents,
            sorted_as=label.sorted_as,
            right=label.right,
            missed=label.missed,
            false=label.false,
            **{key: measure.of(label) for key, measure in LABEL_MEASURES.items()},
        )
        for label in judgement.per_label
    }


def _confusion_table(judgement: Judgement) -> dict[str, dict[str, float]]:
    rows = judgement.table.tolist() if judgement.sets is None else []
    return {true: dict(zip(judgement.labels, row, strict=True)) for true, row in zip(judgement.labels, rows, strict=False)}


def _label_sets(sets: LabelSets) -> results.LabelSetsResult:
    pairs = [results.GivenInstead(pair.true, pair.sorted_as, pair.documents, pair.of) for pair in sets.given_instead]
    return results.LabelSetsResult(missed_together=sets.pairs_missed, given_instead=pairs)


def number(count: float | None) -> str:
    """A count; a mean of counts with one decimal."""
    return f"{count or 0:,}" if isinstance(count, int) or count is None else f"{count:,.1f}"


def decimal(rate: Rate) -> str:
    """A measure that is no share of documents, with its interval; a dash where it is not defined."""
    return "–" if rate.value is None else f"{rate.value:.3f} ({decimal_interval(rate)})"


def decimal_interval(rate: Rate) -> str:
    """The two ends of its 95% interval."""
    return "–" if rate.low is None or rate.high is None else f"{rate.low:.3f}{' to ' if rate.low < 0 else '–'}{rate.high:.3f}"


def p_value(p: float) -> str:
    """A p value with three decimals."""
    return "p < 0.001" if p < 0.001 else f"p = {p:.3f}"


def label_columns(undecided: bool = False, sets: bool = False) -> list[Column]:
    """The columns of the table by label: how many documents have it, were sorted as it, and both; its measures with their
    intervals. undecided: whether documents are left so, which have a column then. sets: whether documents may have several
    labels; what was sorted wrongly then is there instead of all that was sorted so."""

    columns = [col.name("label"), *([col.count("undecided", 1)] if undecided else [])]
    columns += [col.count("decided" if undecided else "documents", 1)]
    columns += (
        [col.count("right", 2), col.count("missed", 2), col.count("false", 2)]
        if sets
        else [col.count("sorted as", 2), col.count("right", 3)]
    )
    for measure in LABEL_MEASURES.values():
        if measure.shown:
            columns += [col.share(measure.name), *([col.interval()] if measure.with_interval else [])]
    return columns


def label_rows(judgement: Judgement, undecided: Mapping[str, float] | None = None) -> list[list[str]]:
    """A row for each label, under `label_columns`. undecided: documents that were left so."""

    rows = []
    for label in judgement.per_label:
        row = [label.label, *([number(undecided.get(label.label, 0))] if undecided is not None else [])]
        counts = (label.sorted_as, label.right) if judgement.sets is None else (label.right, label.missed, label.false)
        row += map(number, (label.documents, *counts))
        for measure in LABEL_MEASURES.values():
            if measure.shown:
                rate = measure.of(label)
                row += [percent(rate.value), interval(rate)] if measure.with_interval else [percent(rate.value)]
        rows.append(row)
    return rows


def measure_rows(evidence: JudgedEvidence) -> list[tuple[str, str, str]]:
    """Measure, value and interval of the measures of all decisions together, without their accuracy."""

    return [(measure.name, *value_and_interval(measure, rate)) for measure, rate in shown_measures(evidence)]


def leading_measures(evidence: JudgedEvidence) -> str:
    """The most important ones in a sentence; of a mean over labels, how many labels there are."""

    sentences = []
    occurring = sum(label.documents + label.sorted_as > 0 for label in evidence.judgement.per_label)
    for measure, rate in shown_measures(evidence):
        if measure.leading:
            value, ends = value_and_interval(measure, rate)
            small = f"no interval: a label has fewer than {FEW} documents"
            of = f" of the {occurring} labels that occur:" if measure.key == "macro_f1" else ""
            sentences.append(f"{measure.name}{of} {value} ({small if rate.low is None else ends})")
    line = "; ".join(sentences)
    return f"{line[:1].upper()}{line[1:]}."


def rate_text(rate: Rate) -> str:
    """A share with its counts."""
    return f"{percent(rate.value)} ({number(rate.right)} of {number(rate.of)})"


def aim_sentence(plan: Plan, chosen: bool = True) -> str:
    """What the thresholds of sets of labels are chosen for. chosen: whether there were folds to choose them on."""
    if not chosen:
        return "Thresholds of the labels: 50%; too few independent documents to choose others."
    return f"Aim of the thresholds of the labels: {plan.decide.aim.replace('f1', 'F1')} (decide.aim)."


def value_and_interval(measure: Measure, rate: Rate) -> tuple[str, str]:
    """A value and its interval as they are written."""

    match measure.unit:
        case Unit.PERCENT:
            return percent(rate.value), interval(rate)
        case Unit.NUMBER:
            return _decimals(rate), decimal_interval(rate)
        case _:
            assert_never(measure.unit)


def confusion_rows(judgement: Judgement, shares: str = "") -> list[list[str]]:
    """A row for each true label: how many of its documents were sorted as each label, then how many it has, and the share right.

    shares: `row` or `column` for percentages of the documents of the row or of the column."""
    table = judgement.table
    sums = {"": np.ones((1, 1)), "row": table.sum(axis=1, keepdims=True), "column": table.sum(axis=0, keepdims=True)}[shares]
    rows = []
    for place, (label, counts, whole) in enumerate(zip(judgement.labels, table, sums + 0 * table, strict=True)):
        row_counts = [
            (f"{100 * count / total:.0f}%" if shares else number(count)) if count else Zero("0")
            for count, total in zip(counts.tolist(), whole.tolist(), strict=True)
        ]
        row_counts[place] = Bold(row_counts[place]) if counts[place] else row_counts[place]
        of = counts.sum().item()
        rows.append([label, *row_counts, number(of), percent(counts[place] / of if of else None)])
    return rows


def confusion_columns(judgement: Judgement) -> list[Column]:
    """The columns of `confusion_rows`."""
    return [
        col.name("true ↓ sorted as →"),
        *(col.count(label) for label in judgement.labels),
        col.count("of", 2),
        col.share("right", 1),
    ]


def duplicates_sentences(duplicates: results.SplitCounts, plan: Plan) -> list[str]:
    """How copies and groups were kept on one side of every split."""
    lines = []
    if duplicates.group_count is not None:
        lines.append(
            f"Documents with the same {plan.columns.group!r} stay on one side of every split ({duplicates.group_count:,} groups)."
        )
    if duplicates.copies and not plan.judge.allow_copies:
        lines.append(
            f"{duplicates.copies:,} documents resemble an earlier one; similar ones stay in the same fold (the largest set has "
            f"{duplicates.largest_set:,})."
        )
    return lines


def unused_sentences(duplicates: results.SplitCounts) -> list[str]:
    """Which documents were neither trained on nor judged, or not trained on, and why."""
    lines = []
    if duplicates.divided:
        lines.append(
            f"{duplicates.divided:,} documents are in sets of similar ones that are divided: whole, a set would hold more than a "
            "tenth of all documents, or all of a label."
        )
    if duplicates.taken_out_of_training:
        lines.append(
            f"Left out of training parts, counted over all splits: {duplicates.taken_out_of_training:,} documents that belong "
            "together with a held-out one."
        )
    if duplicates.dates:
        lines.append(duplicates.dates)
    if duplicates.without_date:
        lines.append(f"{duplicates.without_date:,} documents have no date; they are neither trained on nor judged.")
    return lines


def _decimals(rate: Rate) -> str:
    return "–" if rate.value is None else f"{rate.value:.3f}"


def own_rows(probability: ProbabilityMeasures, labels: Sequence[str]) -> list[list[str]]:
    """For each label its documents, and the mean and the median of the probability that they got for it."""
    return [
        [label, number(own.documents), "–" if own.mean is None else f"{own.mean:.3f}", _middle(own.median)]
        for label, own in zip(labels, probability.own, strict=True)
    ]


def _middle(median: float | None) -> str:
    return "–" if median is None else f"{median:.3f}"


OWN_COLUMNS = (col.name("label"), col.count("documents", 1), col.number("mean probability"), col.number("median"))


def reliability_rows(reliability: Reliability) -> list[list[str]]:
    """For each tenth of probability: documents, mean probability, share right and its interval."""
    return [
        [
            f"{100 * reliability_bin.low:.0f}–{100 * reliability_bin.high:.0f}%",
            number(reliability_bin.right.of),
            percent(reliability_bin.probability),
            percent(reliability_bin.right.value),
            interval(reliability_bin.right),
        ]
        for reliability_bin in reliability.bins
    ]


RELIABILITY_COLUMNS = (col.name("predicted"), col.count("documents", 1), col.share("mean"), col.share("right"), col.interval())
MEASURE_COLUMNS = (col.name("measure"), col.number("value"), col.interval())


def with_rates(record: results.Rated, evidence: JudgedEvidence) -> dict[str, Any]:
    """The values of a record, and a rate for each measure that is defined."""
    rates = {key: rate for key, measure in MEASURES.items() if (rate := measure.of(evidence)) is not None}
    return values_of(rates) | values_of(record)


def judgement_values(evidence: JudgedEvidence, labels: Sequence[str]) -> dict[str, Any]:
    """The fields of a `JudgementResult`. labels: of the probabilities."""
    judgement, probability, undecided = evidence.judgement, evidence.probability, evidence.undecided
    decided = undecided.judgement if undecided is not None else None
    values: dict[str, Any] = {}
    if probability is not None:
        values = {
            "areas": {
                label: results.CurveAreas(areas.roc, areas.precision_recall)
                for label, areas in zip(labels, probability.areas.labels, strict=True)
            },
            "own_probability": dict(zip(labels, probability.own, strict=True)),
            "calibration_error": probability.reliability.error,
            "calibration_error_by_chance": probability.reliability.by_chance,
            "reliability": probability.reliability.bins,
        }
    return values | {
        "baseline": results.Baseline(**structs.asdict(judgement.baseline), label=judgement.majority or None),
        "p_against_baseline": judgement.against_baseline,
        "repeats": judgement.repeats,
        "groups": judgement.groups,
        "labels": _decisions_by_label(judgement),
        "confusion": _confusion_table(judgement),
        "label_sets": _label_sets(judgement.sets) if judgement.sets is not None else None,
        "costs": evidence.costs,
        "undecided": None
        if undecided is None
        else results.UndecidedResult(
            documents=undecided.by_label,
            labels=_decisions_by_label(decided) if decided is not None else {},
            confusion=_confusion_table(decided) if decided is not None else {},
        ),
    }


def written_sentence(paths: Sequence[str | Path]) -> str:
    """Which files were written; of many in one folder, how many."""
    folders = {Path(path).parent for path in paths}
    if len(paths) > _MOST_PATHS and len(folders) == 1:
        return f"Written: {len(paths):,} files in {folders.pop()}/."
    return f"Written: {', '.join(map(str, paths))}."


_MOST_PATHS = 3


def bar(share: float, width: int) -> str:
    """A bar of up to `width` characters, in eighths."""
    eighths = round(share * width * 8)
    return "█" * (eighths // 8) + ("" if eighths % 8 == 0 else "▏▎▍▌▋▊▉"[eighths % 8 - 1])


def wrong_set_sentences(labels: Sequence[LabelMeasures], sets: LabelSets, most: int) -> list[str]:
    """The labels that are missed or given wrongly most often, and what is given instead of which."""
    wrong = sorted(labels, key=lambda label: -(label.missed + label.false))
    return [
        *(
            f"{wrong_label.label!r}: {number(wrong_label.missed)} of {number(wrong_label.documents)} documents missed, "
            f"{number(wrong_label.false)} given it wrongly."
            for wrong_label in wrong[:most]
            if wrong_label.missed or wrong_label.false
        ),
        *(
            f"{confusion.true!r} missed and {confusion.sorted_as!r} given wrongly: {number(confusion.documents)} of "
            f"{confusion.of:,} documents."
            for confusion in sets.given_instead[:most]
        ),
    ]


SIMILARITY_COLUMNS = (
    col.name("word pairs in common with the nearest training document"),
    col.count("right", 1),
    col.count("of", 2),
    col.share("accuracy"),
    col.interval(),
)


def similarity_rows(rates: SimilarityRates) -> list[list[str]]:
    """A row for near-duplicates of training documents, similar and new documents, where there are any."""
    upper, lower = percent(rates.near_from), percent(rates.new_below)
    named = (
        (f"near-duplicates (≥ {upper})", rates.near),
        (f"similar ({lower} to {upper})", rates.similar),
        (f"new (< {lower})", rates.new),
    )
    return [[name, number(rate.right), number(rate.of), percent(rate.value), interval(rate)] for name, rate in named if rate.of]


_OVERLAP = 0.05  # share of documents with the text of training documents, from which on there is a warning


def overlap_warnings(rates: SimilarityRates | None) -> list[str]:
    """That documents were trained on, if the accuracy depends on them."""
    every = (rates.near.of or 0) + (rates.without_near.of or 0) if rates is not None else 0
    if rates is None or (rates.same.of or 0) <= _OVERLAP * every:
        return []
    rest = f"without near-duplicates: {percent(rates.without_near.value)}" if rates.without_near.of else "evaluate on others"
    return [f"{number(rates.same.of)} of {number(every)} have the text of a training document: accuracy is too high; {rest}."]


_NOTED = 0.02  # share of near-duplicates of training documents, up to which they are in the table alone


def similarity_sentences(rates: SimilarityRates | None, near: bool) -> list[str]:
    """What near-duplicates of training documents do to the accuracy, and whether new documents fare otherwise. near: whether
    there may be such."""
    lines = list[str]()
    if rates is None:
        return lines
    every = (rates.near.of or 0) + (rates.without_near.of or 0)
    if near and (rates.near.of or 0) > _NOTED * every:
        without = rates.without_near
        rest = f"without them: {percent(without.value)} ({interval(without)})" if without.of else "there are no others"
        lines.append(
            f"Near-duplicates of training documents: {number(rates.near.of)} ({percent(rates.near.value)} right); {rest}."
        )
    if rates.differ:
        lines.append(
            f"Similar to training documents: {percent(rates.not_new.value)} of {number(rates.not_new.of)} right; new: "
            f"{percent(rates.new.value)} of {number(rates.new.of)}."
        )
    return lines
