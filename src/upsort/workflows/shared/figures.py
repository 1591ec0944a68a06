"""Write the figures of evaluations and surveys."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from upsort.core.arrays import Ints
from upsort.core.evaluation.probability_measures import Reliability
from upsort.core.text.word_lists import greetings
from upsort.io.outputs.atomic import check_writable, make_folder, replacing
from upsort.plots import evaluation_figures
from upsort.plots.canvas import content_of, kind_of
from upsort.plots.confusions import confusion_figure
from upsort.plots.term_figures import CloudWord, label_bars, length_histograms, month_bars, term_bars, word_cloud
from upsort.workflows.shared.evaluation import Evaluation
from upsort.workflows.survey import SurveyResult

if TYPE_CHECKING:
    from matplotlib.figure import Figure

Made = TypeVar("Made")
Drawing = Callable[[], "Figure"]


def save(figure: Drawing, path: Path) -> Path:
    """Draw a figure and write it as PNG or SVG, whole or not at all. Raises UsageProblem for another ending."""
    save_all([(figure, path)])
    return path


_collected: ContextVar[tuple[Path, dict[str, Drawing]] | None] = ContextVar("_collected", default=None)


@contextmanager
def collected_figures(folder: Path) -> Iterator[dict[str, Drawing]]:
    """A block in which figures are collected by their names; those of a folder are not drawn."""
    drawings: dict[str, Drawing] = {}
    token = _collected.set((folder, drawings))
    try:
        yield drawings
    finally:
        _collected.reset(token)


def save_all(figures: Sequence[tuple[Drawing, Path]]) -> list[Path]:
    """The same for several. Returns where they are, or would be, where they are only collected."""
    folder, collected = _collected.get() or (None, {})
    collected.update((path.stem, drawing) for drawing, path in figures)
    if folder is not None and all(path.parent == folder for _, path in figures):
        return [path for _, path in figures]
    kinds = [kind_of(path.name) for _, path in figures]

    def content(number: int) -> bytes:
        return content_of(figures[number][0](), kinds[number])

    for number, (_, path) in enumerate(figures):
        with replacing(path) as stream:
            stream.write(content(number))
    return [path for _, path in figures]


def draw_judgement(evaluations: Sequence[Evaluation], folder: Path) -> list[Path]:
    """Write the figures of every answer into `folder`, which is made."""
    make_folder(folder)
    drawings: list[tuple[Drawing, Path]] = []
    for evaluation in evaluations:
        begin = f"{evaluation.sorter.answer}-" if evaluation.sorter.answer else ""
        figures: dict[str, Drawing] = {}
        if evaluation.judgement.sets is None:
            figures["confusion"] = partial(confusion_figure, evaluation.judgement.table, evaluation.judgement.labels)
        if evaluation.probability is not None:
            labels = evaluation.sorter.labels
            own = evaluation.own
            roc = [area.roc.value for area in evaluation.probability.areas.labels]
            average = [area.precision_recall.value for area in evaluation.probability.areas.labels]
            figures |= {
                "roc": partial(evaluation_figures.roc_figure, own, evaluation.probabilities, labels, roc),
                "precision-recall": partial(
                    evaluation_figures.precision_recall_figure, own, evaluation.probabilities, labels, average
                ),
                "reliability": partial(evaluation_figures.reliability_figure, reliabilities(evaluation)),
                "probabilities": partial(evaluation_figures.probability_histograms, own, evaluation.probabilities, labels),
                "coverage": partial(evaluation_figures.coverage_figure, evaluation.coverage),
            }
        if evaluation.by_similarity is not None:
            figures["similarity"] = partial(evaluation_figures.similarity_figure, evaluation.by_similarity)
        drawings += [(figure, folder / f"{begin}{name}.png") for name, figure in figures.items()]
    return save_all(drawings)


def reliabilities(evaluation: Evaluation) -> dict[str, Reliability]:
    """How often a sorter that gives probabilities is right, as calibrated and before."""
    assert evaluation.probability is not None
    if evaluation.reliability_before is None:
        return {"as trained": evaluation.probability.reliability}
    return {"before calibration": evaluation.reliability_before, "calibrated": evaluation.probability.reliability}


def draw_survey(result: SurveyResult, lengths: Mapping[str, Ints], folder: Path, kind: str = "png") -> list[Path]:
    """Write the figures of a survey into `folder`, which is made. lengths: words of every document. kind: `png` or `svg`."""
    make_folder(folder)
    check_writable(folder / f"labels.{kind}")
    figures: list[tuple[Drawing, Path]] = []
    labels = list(result.labels)
    if labels:
        counts = [(label, of.documents) for label, of in result.labels.items()]
        figures.append((partial(label_bars, counts, result.documents - result.unlabelled), folder / f"labels.{kind}"))
    figures.append((partial(length_histograms, lengths), folder / f"lengths.{kind}"))
    for name, by_label in (("terms", result.terms_by_label), ("all-terms", result.terms_by_label_with_stop_words)):
        lists = by_label or {"all documents": result.terms_without_stop_words[:12]}
        panels = {label: [(term.term, term.documents) for term in lists[label]] for label in _in_order(result, lists)}
        title = "Terms in most documents, by label"
        title += ", stop words left out" if name == "terms" else ", stop words among them"
        figures.append((partial(term_bars, panels, title, labels), folder / f"{name}.{kind}"))
    greeting = greetings(result.language)
    words = [
        CloudWord(term.term, term.documents, term.label if term.leans else "")
        for term in result.terms_without_stop_words
        if term.term not in greeting
    ]
    figures.append(
        (
            partial(word_cloud, words, labels, "Terms in most documents, stop words and greetings left out"),
            folder / f"words.{kind}",
        )
    )
    for column in result.columns:
        if column.kind == "date" and column.values:
            figures.append((partial(month_bars, column.values, column.name), folder / f"months.{kind}"))
            break
    return save_all(figures)


def _in_order(result: SurveyResult, lists: Iterable[str]) -> list[str]:
    """Labels with the most documents first."""
    place = {label: number for number, label in enumerate(result.labels)}
    return sorted(lists, key=lambda label: place.get(label, 0))
