"""One page about a sorter: what it was made of, how good it is, what it uses, and how to make it again."""

import shlex
from collections.abc import Mapping, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from msgspec import Struct

from upsort.core import plan
from upsort.core.analysis.label_terms import informative_terms
from upsort.core.errors import DataProblem, UsageProblem
from upsort.core.evaluation.intervals import Rate
from upsort.core.evaluation.measures import Confusion
from upsort.core.evaluation.novelty import SimilarityRates
from upsort.core.lazy import record
from upsort.core.text.characters import labels_in
from upsort.core.training.sorter import IN_SORTER, TrainedSorter
from upsort.io.ledger import data_digest, plan_digest
from upsort.io.notices import RejectedRows
from upsort.io.outputs.atomic import replacing_text
from upsort.io.plan.plan_keys import plan_text
from upsort.io.sources.inputs import Inputs
from upsort.io.tables.documents import columns_for
from upsort.plots.confusions import confusion_figure
from upsort.plots.evaluation_figures import coverage_figure, drawn_labels, probability_histograms, reliability_figure
from upsort.plots.pages import beginning_of, for_both_widths, rendered
from upsort.version import __version__
from upsort.workflows.evaluate import evaluate
from upsort.workflows.shared.context import RunContext, ScoringContext
from upsort.workflows.shared.evaluation import Evaluation, Mistake
from upsort.workflows.shared.figures import Drawing, reliabilities
from upsort.workflows.suspects import SuspectsResult, suspects

_TERMS = 12
_MISTAKES, _SUSPECTS = 15, 12
_LABELS = 12  # that are shown at once
_CONFUSION_ROWS = 8
_CONFUSIONS = 3
_EXAMPLES = 2
_TEXT = 400


@record(frozen=True, kw_only=True)
class ReportWording:
    """How the page says what it shows; made where wording is made. good, against: a figure, and what it is."""

    headline: Sequence[str]
    good: tuple[str, str]
    against: tuple[str, str]
    confused: Sequence[str]
    advice: Sequence[str]
    label_heads: Sequence[str]
    label_rows: Sequence[Sequence[str]]
    measures: Sequence[Sequence[str]]
    remarks: Sequence[str]
    suspects: Sequence[str]


@record(frozen=True)
class ReportSources:
    """sorter: its file. judged, training: names of the tables, as they were given."""

    sorter: str
    judged: Sequence[str]
    training: Sequence[str]


class ReportResult(Struct, frozen=True):
    """upsort report. suspects: how many there are, where training documents were given to look for them in. by_similarity: as
    evaluate has it."""

    written: str
    bytes: int
    accuracy: Rate
    by_similarity: SimilarityRates | None
    suspects: int | None


def judged_for_report(sorter: TrainedSorter, incoming: ScoringContext) -> Evaluation:
    """Judge one answer of a sorter."""
    return evaluate([sorter], incoming)[0]


def suspects_for_report(sorter: TrainedSorter, training: Inputs, label: str) -> SuspectsResult:
    """What looks mislabelled among the training documents, judged by the sorter's own plan. Raises DataProblem for documents that
    cannot be judged so."""
    trained = sorter.plan.columns
    columns = replace(columns_for(sorter, trained, training), label=label, also=(), row_weight=trained.row_weight)
    if all(trained.fold in table.columns for table in training.tables):
        columns = replace(columns, fold=trained.fold)
    work = RunContext(inputs=training, plan=replace(sorter.plan, columns=columns), rejects=RejectedRows(), sorter=sorter)
    try:
        return suspects(work)
    except DataProblem as problem:
        raise DataProblem(f"Wrong labels cannot be looked for: {problem.what}", "Leave --training out.") from problem


def write_report(
    evaluation: Evaluation, wording: ReportWording, sources: ReportSources, suspects: SuspectsResult | None, path: Path
) -> None:
    """Write the page. suspects: suspects, where training documents were given to look for them in."""
    if path.suffix.lower() not in {".html", ".htm"}:
        raise UsageProblem(f"{path} is no page.", "Use a name that ends in .html.")
    sorter = evaluation.sorter
    linear = sorter.classifier.rule is not None
    digest, _ = plan_digest(sorter.plan)
    trained = f"{sorter.trained.documents:,}"
    weakest, other_labels = _label_rows(evaluation, wording.label_rows)
    page = rendered(
        "report.html",
        name=Path(sources.sorter).name,
        made=f"A {sorter.plan.classifier.kind} sorter with {len(sorter.labels)} labels, trained on {trained} documents.",
        headline=wording.headline,
        good=wording.good,
        against=wording.against,
        confused=wording.confused,
        advice=wording.advice,
        warnings=[
            f"{count:,} documents have the label {label}, which the sorter does not know."
            for label, count in evaluation.unknown_labels.items()
        ],
        cleaning=_cleaning(sorter.plan.clean),
        features=_features(sorter),
        label_heads=[wording.label_heads[0], "training documents", *wording.label_heads[1:]],
        label_rows=weakest,
        other_labels=other_labels,
        measures=wording.measures,
        remarks=wording.remarks,
        suspects_told=wording.suspects,
        figures=_figures(evaluation),
        undrawn=_undrawn(evaluation),
        shown_labels=_LABELS,
        confusion_rows=[
            [pair.true, pair.sorted_as, f"{pair.documents:,g}", f"{pair.of:,}"]
            for pair in (evaluation.judgement.confusions(_CONFUSION_ROWS) if evaluation.judgement.sets is None else [])
        ],
        mistake_heads=["document", "label", "sorted as", "probability", "terms for it", "text"],
        confusions=[_examples(evaluation, pair) for pair in evaluation.judgement.confusions(_CONFUSIONS)],
        deciding=_deciding(sorter),
        terms=_largest_first(sorter, informative_terms(sorter, _TERMS)) if linear else [],
        suspects=suspects.suspects if suspects is not None else None,
        suspect_rows=[
            (suspect.reference, suspect.label, suspect.rather, beginning_of(suspect.text))
            for suspect in (suspects.suspects[:_SUSPECTS] if suspects is not None else ())
        ],
        mistake_rows=[
            (
                wrong.reference,
                wrong.true,
                wrong.sorted_as,
                f"{100 * wrong.probability:.1f}%",
                ", ".join(wrong.pulled_by),
                beginning_of(wrong.text),
            )
            for wrong in evaluation.mistakes[:_MISTAKES]
        ],
        plan=plan_text(replace(sorter.plan, candidates={})),
        held=IN_SORTER,
        commands=_commands(sources, sorter),
        version=f"upsort {__version__}",
        plan_digest=digest,
        data_digest=data_digest(sources.judged),
        seed=sorter.plan.judge.seed,
    )
    with replacing_text(path) as text:
        text.write(page)


def _label_rows(evaluation: Evaluation, rows: Sequence[Sequence[str]]) -> tuple[list[list[str]], list[list[str]]]:
    """The rows by label with its training documents; of many labels, those with the lowest F1, and the others."""
    trained = dict(zip(evaluation.sorter.labels, evaluation.sorter.trained.label_documents.tolist(), strict=True))
    complete = [[row[0], f"{trained.get(row[0], 0):,}", *row[1:]] for row in rows]
    if len(complete) <= _LABELS:
        return complete, []
    f1 = [label.f1.value if label.documents and label.f1.value is not None else 2.0 for label in evaluation.judgement.per_label]
    order = sorted(range(len(complete)), key=lambda place: f1[place])
    return [complete[place] for place in order[:_LABELS]], [complete[place] for place in sorted(order[_LABELS:])]


def _largest_first(sorter: TrainedSorter, terms: Mapping[str, Any]) -> list[tuple[str, Any]]:
    """The terms of labels; of many labels, those with the most training documents first."""
    if len(terms) <= _LABELS:
        return list(terms.items())
    trained = dict(zip(sorter.labels, sorter.trained.label_documents.tolist(), strict=True))
    return sorted(terms.items(), key=lambda entry: -trained[entry[0]])


def _undrawn(evaluation: Evaluation) -> str:
    """The labels whose probabilities are not drawn."""
    labels = evaluation.sorter.labels
    drawn = drawn_labels(evaluation.own, len(labels))
    return ", ".join(label for place, label in enumerate(labels) if place not in drawn)


def _cleaning(settings: plan.Clean) -> str:
    return f"Language {settings.language}; steps in this order: {', '.join(settings.steps) or 'none'}."


def _features(sorter: TrainedSorter) -> str:
    features, space = sorter.plan.features, sorter.space
    shortest, longest = min(features.lengths), max(features.lengths)
    lengths = f"{features.units}" if longest == 1 else f"{shortest} to {longest} {features.units}"
    extra_terms = len(space.terms) - space.counted
    bounds = f"in at least {features.in_at_least} and at most {100 * features.in_at_most:.3g}% of the documents"
    terms = f"{space.counted:,} terms of {lengths}, {bounds}, weighted by {features.weighting}"
    return f"{terms}; {extra_terms} other columns." if extra_terms else f"{terms}."


def _deciding(sorter: TrainedSorter) -> str:
    parts = []
    if sorter.thresholds is not None:
        bounds = ", ".join(
            f"{label} from {bound:.2f}" for label, bound in zip(sorter.labels, sorter.thresholds.tolist(), strict=True)
        )
        return f"A document is given each label whose probability is high enough: {bounds}."
    if sorter.costs is not None:
        parts.append("Each document is sorted as the label of least expected cost.")
    elif sorter.decision is not None:
        weights = ", ".join(
            f"{label} × {weight:.2f}" for label, weight in zip(sorter.labels, np.diag(sorter.decision).tolist(), strict=True)
        )
        parts.append(f"Probabilities are weighted before the highest is taken: {weights}.")
    else:
        parts.append("Each document is sorted as the most probable label.")
    bound = sorter.plan.decide.undecided_below
    parts.append(f"Below a probability of {bound} it is left undecided." if bound else "None is left undecided.")
    if sorter.calibration.kind != "none":
        parts.append(f"Probabilities are calibrated ({sorter.calibration.kind}) on folds of the training documents.")
    return " ".join(parts)


def _figures(evaluation: Evaluation) -> dict[str, dict[str, str]]:
    table, names_of = evaluation.judgement.table, evaluation.judgement.labels
    drawings: dict[str, Drawing] = {}
    if evaluation.judgement.sets is None:
        drawings["confusion"] = partial(confusion_figure, table, names_of)
    if evaluation.probability is not None:
        drawings |= {
            "reliability": partial(reliability_figure, reliabilities(evaluation)),
            "probabilities": partial(probability_histograms, evaluation.own, evaluation.probabilities, evaluation.sorter.labels),
            "coverage": partial(coverage_figure, evaluation.coverage),
        }
    names = list(drawings)

    def widths(number: int) -> dict[str, str]:
        name = names[number]
        narrow = confusion_figure(table, names_of, narrow=True) if name == "confusion" else None
        return for_both_widths(drawings[name](), name, narrow)

    figures = {name: widths(number) for number, name in enumerate(names)}
    return {name: figures.get(name, {}) for name in ("confusion", "reliability", "probabilities", "coverage")}


def _examples(evaluation: Evaluation, pair: Confusion) -> dict[str, Any]:
    """Documents of the sorter's most common mistakes."""
    examples = [beginning_of(mistake.text, _TEXT) for mistake in evaluation.mistakes if _shows(evaluation.sorter, mistake, pair)]
    return {"true": pair.true, "sorted_as": pair.sorted_as, "examples": examples[:_EXAMPLES]}


def _shows(sorter: TrainedSorter, mistake: Mistake, pair: Confusion) -> bool:
    """Whether a mistake is of a kind."""
    if sorter.thresholds is None:
        return (mistake.true, mistake.sorted_as) == (pair.true, pair.sorted_as)
    own, given = (labels_in(cell, sorter.plan.columns.label_separator) for cell in (mistake.true, mistake.sorted_as))
    return pair.true in own - given and pair.sorted_as in given - own


def _commands(sources: ReportSources, sorter: TrainedSorter) -> list[str]:
    training = " ".join(map(shlex.quote, sources.training)) or "TRAINING.csv"
    judged = " ".join(map(shlex.quote, sources.judged))
    file = shlex.quote(sources.sorter)
    return [f"upsort train {training} --plan upsort.toml -o {file}", f"upsort evaluate {file} {judged}"]
