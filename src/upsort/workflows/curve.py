"""How the result grows with the number of labelled documents."""

from functools import partial
from pathlib import Path

import numpy as np

from upsort.core.errors import DataProblem
from upsort.core.evaluation.learning_curve import LearningCurve, fit_learning_curve, measure_learning_curve
from upsort.core.lazy import record
from upsort.plots.curves import GrowthPoint, growth_figure
from upsort.workflows.context import RunContext
from upsort.workflows.corpus import CorpusOptions, read_labelled_corpus
from upsort.workflows.cross_validate import DuplicateHandling, prepare_folds
from upsort.workflows.figures import save


@record(frozen=True)
class CurveResult:
    """growth: the curve fitted to the points, where there are enough. labelled: all documents that there are. kept: how copies
    and groups were kept on one side."""

    points: list[GrowthPoint]
    growth: LearningCurve | None
    labelled: int
    duplicates: DuplicateHandling


def curve(work: RunContext) -> CurveResult:
    """Train on growing parts of each fold's training documents, drawn at random, and judge on its held-out ones."""
    corpus = read_labelled_corpus(work, CorpusOptions(at_least=1, with_readers=True))
    ready = prepare_folds(corpus, work.plan, corpus.only_answer("curve"))
    ready.documents.present()  # with fewer than two labels there is nothing to grow
    curve_data = measure_learning_curve(ready.parts, corpus.method_of(work.plan), work.parallel(ready.documents))
    if not curve_data.sizes.size:
        raise DataProblem(
            "In every fold the documents to learn from are of one label.", "Use fewer folds, or give more documents."
        )
    points = [
        GrowthPoint(
            documents=round(float(size)),
            held_out=float(held_out.mean()),
            lowest=float(held_out.min()),
            highest=float(held_out.max()),
            training=float(training.mean()),
        )
        for size, held_out, training in zip(curve_data.sizes, curve_data.held_out.T, curve_data.training.T, strict=True)
    ]
    growth = fit_learning_curve(curve_data.sizes, curve_data.held_out, curve_data.judged)
    return CurveResult(points, growth, ready.documents.documents, ready.duplicates)


def draw_curve(result: CurveResult, path: Path) -> Path:
    """The figure of a curve, with the prediction interval from the last point to twice as many documents."""
    last = result.points[-1].documents
    wedge: list[tuple[float, float, float]] = []
    if result.growth is not None:
        now = result.points[-1].held_out
        wedge = _wedge(result.growth, last, now)
    return save(partial(growth_figure, result.points, wedge), path)


def _wedge(growth: LearningCurve, last: int, now: float) -> list[tuple[float, float, float]]:
    """Documents, low and high from what was found at the last point to the prediction interval of twice as many: the middle goes
    over to the curve, the width grows with the square root."""
    low, high = growth.between(2.0 * last)
    end, at_end = growth.at(2.0 * last), now - growth.at(float(last))
    intervals = []
    for share in np.linspace(0.0, 1.0, 25).tolist():
        size = last * 2.0**share
        middle = growth.at(size) + at_end * (1.0 - share)
        intervals.append((size, middle - (end - low) * share**0.5, middle + (high - end) * share**0.5))
    return intervals
