"""How the result grows with the number of labelled documents."""

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from upsort.core.judging.growth import Growth, fitted_growth
from upsort.core.plan import Plan
from upsort.core.training import fit, represented
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.jobs.corpus import read_labelled_corpus
from upsort.jobs.judging import prepared
from upsort.jobs.progress import Advance, no_progress

_SHARES = (0.05, 0.1, 0.2, 0.35, 0.5, 0.7, 1.0)


@dataclass(frozen=True)
class Point:
    """So many documents trained on: mean, lowest and highest accuracy on held-out documents; mean on the training ones."""

    documents: int
    held_out: float
    lowest: float
    highest: float
    training: float


@dataclass(frozen=True)
class CurveResult:
    """growth: the curve fitted to the points, where one fits. labelled: all documents that there are."""

    points: list[Point]
    growth: Growth | None
    labelled: int


def curve(
    inputs: Inputs,
    plan: Plan,
    aside: SetAside,
    advance: Advance = no_progress,
    workers: int = 1,
    done: Callable[[int], None] | None = None,
) -> CurveResult:
    """Train on growing parts of each fold's training documents, drawn at random, and judge on its held-out ones."""
    corpus = read_labelled_corpus(inputs, plan, aside, advance, workers, at_least=1)
    ready = prepared(corpus, plan)
    documents = ready.documents
    rows: dict[float, list[tuple[int, float, float]]] = {}
    for number, split in enumerate(ready.splits):
        shuffled = np.random.default_rng(plan.judge.seed + number).permutation(split.training)
        outside = documents.measured.rows(split.held_out)
        for share in _SHARES:
            members = np.sort(shuffled[: max(round(share * shuffled.size), 1)])
            part = documents.rows(members)
            if np.unique(part.labels).size < 2:
                continue
            least = min(plan.features.in_at_least, max(1, members.size // 50))  # tiny parts would be left without terms
            tried = replace(plan, features=replace(plan.features, in_at_least=least))
            sorter, seen = fit(part, tried, corpus.resources)
            scores = sorter.classifier.scores(represented(seen.space, seen.kept, outside))
            best = sorter.decisions(scores, outside.tokens, np.zeros(split.held_out.size)).best
            names = np.array([documents.names.index(label) for label in sorter.labels])
            right = float((names[best] == documents.labels[split.held_out]).mean())
            own = sorter.classifier.scores(seen.matrix).argmax(axis=1)
            training = float((names[own] == part.labels).mean())
            rows.setdefault(share, []).append((members.size, right, training))
        if done is not None:
            done(number + 1)
    points = []
    for share in _SHARES:
        found = rows.get(share, [])
        if found:
            sizes, rights, trainings = zip(*found, strict=True)
            points.append(
                Point(
                    round(float(np.mean(sizes))),
                    float(np.mean(rights)),
                    min(rights),
                    max(rights),
                    float(np.mean(trainings)),
                )
            )
    growth = fitted_growth(
        np.array([point.documents for point in points], dtype=np.float64),
        np.array([point.held_out for point in points]),
    )
    return CurveResult(points, growth, documents.measured.documents)


def draw_curve(result: CurveResult, path: Path) -> Path:
    """The figure of a curve."""
    from upsort.draw.canvas import save
    from upsort.draw.judgements import growth_figure

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
