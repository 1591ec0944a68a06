"""How the result grows with the number of labelled documents."""

from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from upsort.core.judging.growth import Growth, fitted_growth
from upsort.core.judging.protocol import outcome_of
from upsort.core.learning.apart import Split
from upsort.core.learning.dealing import shuffled
from upsort.core.plan import Plan
from upsort.draw.judgements import growth_figure
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.jobs.corpus import Keeping, read_labelled_corpus
from upsort.jobs.figures import save
from upsort.jobs.judging import Kept, prepared
from upsort.jobs.progress import Advance, no_progress

_SHARES = (0.05, 0.1, 0.2, 0.35, 0.5, 0.7, 1.0)


@dataclass(frozen=True, kw_only=True)
class Point:
    """So many documents trained on: mean, lowest and highest accuracy on held-out documents; mean on the training ones."""

    documents: int
    held_out: float
    lowest: float
    highest: float
    training: float


@dataclass(frozen=True)
class CurveResult:
    """growth: the curve fitted to the points, where one fits. labelled: all documents that there are. kept: how copies and
    groups were kept on one side."""

    points: list[Point]
    growth: Growth | None
    labelled: int
    kept: Kept


def curve(inputs: Inputs, plan: Plan, aside: SetAside, advance: Advance = no_progress, workers: int = 1) -> CurveResult:
    """Train on growing parts of each fold's training documents, drawn at random, and judge on its held-out ones."""
    corpus = read_labelled_corpus(inputs, plan, aside, advance, workers, Keeping(at_least=1))
    ready = prepared(corpus, plan, corpus.only_answer("curve"))
    documents = ready.documents
    rows: dict[float, list[tuple[int, float, float]]] = {}
    for number, split in enumerate(ready.splits.each):
        keys = documents.keys[split.training] if documents.keys is not None else None
        drawn = split.training[shuffled(split.training.size, plan.judge.seed + number, keys)]
        for share in _SHARES:
            members = np.sort(drawn[: max(round(share * drawn.size), 1)])
            if np.unique(documents.labels[members]).size < 2:
                continue
            least = min(plan.features.in_at_least, max(1, members.size // 50))  # tiny parts would be left without terms
            tried = replace(plan, features=replace(plan.features, in_at_least=least))
            found = outcome_of(documents, Split(members, split.held_out), corpus.method_of(tried))
            right = found.right(documents) / split.held_out.size
            training = (found.sorter.trained.right or 0) / members.size
            rows.setdefault(share, []).append((members.size, right, training))
    points = [_point(rows[share]) for share in _SHARES if share in rows]
    growth = fitted_growth(
        np.array([point.documents for point in points], dtype=np.float64),
        np.array([point.held_out for point in points]),
    )
    return CurveResult(points, growth, documents.documents, ready.kept)


def _point(found: list[tuple[int, float, float]]) -> Point:
    """What so many documents come to over the folds."""
    sizes, rights, trainings = zip(*found, strict=True)
    return Point(
        documents=round(float(np.mean(sizes))),
        held_out=float(np.mean(rights)),
        lowest=min(rights),
        highest=max(rights),
        training=float(np.mean(trainings)),
    )


def draw_curve(result: CurveResult, path: Path) -> Path:
    """The figure of a curve."""
    last = result.points[-1].documents
    further = []
    if result.growth is not None:
        sizes = np.geomspace(result.points[0].documents, 2 * last, 40)
        further = [(float(size), result.growth.at(float(size))) for size in sizes]
    return save(
        growth_figure(
            [point.documents for point in result.points],
            [(point.held_out, point.lowest, point.highest) for point in result.points],
            [point.training for point in result.points],
            further,
        ),
        path,
    )
