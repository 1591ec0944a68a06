"""How the result grows with the number of labelled documents, and what more of them would give.

To the mean accuracies y(m) of sorters trained on m documents the curve a − b · m^(−c), b, c > 0, a ≤ 1, is fitted by least
squares, weighted by m (the inverse power law of learning curves; Figueroa et al. 2012). For each c of a grid the best a and b are
those of a linear regression on m^(−c).

What so many documents more would give is reported with a prediction interval, by a parametric bootstrap (Efron & Tibshirani 1993,
section 6.5): the curve is fitted again to points drawn around it, and the value of each such curve gets the error of a
measurement too. Points err in two ways: each for itself, by the documents drawn for its training and by what the curve cannot
follow, and all alike, by the documents that they are judged on, which are the same. `bench/growth.py` shows how often the
interval holds what the doubled size brings.

Sorters trained on growing parts of each fold's training documents, judged on the fold's held-out ones."""

from dataclasses import replace

import numpy as np

from upsort.core.arrays import Bools, Floats
from upsort.core.evaluation.cross_validation import SplitParts, outcome_of
from upsort.core.executors import ParallelMap, sequential
from upsort.core.lazy import record
from upsort.core.training.decision import PlanWithResources
from upsort.core.training.folds import Split
from upsort.core.training.stratified_split import shuffled

_RATES = np.geomspace(0.02, 3.0, 60)
_DRAWS = 1000
_LEAST_POINTS = 4


@record(frozen=True)
class PowerLaw:
    """ceiling, drop, rate: a, b and c."""

    ceiling: float
    drop: float
    rate: float

    def at(self, documents: float) -> float:
        """The accuracy expected from so many documents."""
        return float(self.ceiling - self.drop * documents**-self.rate)


@record(frozen=True, kw_only=True)
class LearningCurve:
    """curve: the best one. drawn: (r, 3) a, b and c of those fitted to drawn points. judged: how many documents the accuracies
    were measured on. noise: (r,) standard normal errors of a measurement. deviation: the standard deviation of the last point for
    itself."""

    curve: PowerLaw
    drawn: Floats
    judged: int
    noise: Floats
    deviation: float

    def at(self, documents: float) -> float:
        """The accuracy expected from so many documents."""
        return self.curve.at(documents)

    def between(self, documents: float) -> tuple[float, float]:
        """The 95% prediction interval of the accuracy that so many documents will be found to give, on as many others as these
        were judged on."""
        values = self.drawn[:, 0] - self.drawn[:, 1] * documents ** -self.drawn[:, 2]
        share = np.clip(values, 0.0, 1.0)
        errors = np.sqrt(share * (1.0 - share) / self.judged + self.deviation**2)
        low, high = np.quantile(np.clip(values + errors * self.noise, 0.0, 1.0), [0.025, 0.975])
        return float(low), float(high)


def fit_learning_curve(sizes: Floats, accuracies: Floats, judged: int) -> LearningCurve | None:
    """The curve through the means of accuracies, or None where there are fewer than four points.

    sizes: (p,) documents trained on. accuracies: (f, p) of each fold. judged: documents judged by all folds together."""
    folds, points = accuracies.shape
    if points < _LEAST_POINTS:
        return None
    means = accuracies.mean(axis=0)
    weights = sizes / sizes.max()
    parameters = _fits(sizes, means[None], weights)
    curve = PowerLaw(*parameters[0].tolist())
    fitted = curve.ceiling - curve.drop * sizes**-curve.rate
    residual = float((weights * (means - fitted) ** 2).sum()) / max(points - 3, 1)
    # what the folds' own ups and downs leave in the mean of a point, beyond those that a fold has at every size
    between = accuracies - accuracies.mean(axis=1, keepdims=True) - means + means.mean()
    within = float((weights * between**2).sum()) / max((folds - 1) * (points - 1), 1) / folds
    deviation = float(np.sqrt(max(residual, within)))
    level = float(np.sqrt(np.clip(means[-1] * (1.0 - means[-1]), 0.25 / judged, None) / judged))
    generator = np.random.default_rng(20191)
    shared = generator.normal(size=(_DRAWS, 1)) * level
    own = generator.normal(size=(_DRAWS, points)) * deviation / np.sqrt(weights)
    return LearningCurve(
        curve=curve,
        drawn=_fits(sizes, fitted + shared + own, weights),
        judged=judged,
        noise=generator.normal(size=_DRAWS),
        deviation=deviation,
    )


def _fits(sizes: Floats, values: Floats, weights: Floats) -> Floats:
    """(r, 3) a, b and c of the curves nearest to (r, p) values. weights: (p,) of the squares."""
    shares = weights / weights.sum()
    means = values @ shares
    best = np.full(len(values), np.inf)
    fits = np.zeros((len(values), 3))
    for rate in _RATES:
        x = sizes**-rate
        middle = float(x @ shares)
        centred = x - middle
        b = np.maximum(-(values - means[:, None]) @ (shares * centred) / float(shares @ centred**2), 0.0)
        a = means + b * middle
        over = a > 1.0  # then a is 1, and b what fits best below it
        b = np.where(over, np.maximum((1.0 - values) @ (shares * x) / float(shares @ x**2), 0.0), b)
        a = np.where(over, 1.0, a)
        errors = (values - a[:, None] + b[:, None] * x) ** 2 @ shares
        better = errors < best
        best[better] = errors[better]
        fits[better] = np.column_stack((a, b, np.full(len(values), rate)))[better]
    return fits


SHARES = (0.05, 0.1, 0.2, 0.35, 0.5, 0.7, 1.0)
"""Of the training documents of a fold."""


@record(frozen=True, kw_only=True)
class LearningCurveData:
    """sizes: (p,) mean number of documents trained on. held_out, training: (f, p) accuracies of each fold on its held-out and on
    its training documents. judged: documents held out in all. right: (m,) whether each held-out document, fold by fold, is given
    its own label by a sorter trained on all of the training part."""

    sizes: Floats
    held_out: Floats
    training: Floats
    judged: int
    right: Bools


def measure_learning_curve(parts: SplitParts, method: PlanWithResources, parallel: ParallelMap = sequential) -> LearningCurveData:
    """Parts are drawn at random, each containing the smaller ones. Those of one label are left out, in all folds.

    parallel: does the folds."""
    documents, plan = parts.documents, method.plan

    def of_fold(number: int) -> tuple[dict[float, tuple[int, float, float]], Bools]:
        split, accuracies = parts.splits[number], {}
        right = np.zeros(split.held_out.size, dtype=bool)
        keys = documents.keys[split.training] if documents.keys is not None else None
        drawn = split.training[shuffled(split.training.size, plan.judge.seed + number, keys)]
        for share in SHARES:
            members = np.sort(drawn[: max(round(share * drawn.size), 1)])
            if documents.few_labels(members):
                continue
            least = min(plan.features.in_at_least, max(1, members.size // 50))  # tiny parts would be left without terms
            tried = replace(method, plan=replace(plan, features=replace(plan.features, in_at_least=least)))
            made = outcome_of(documents, Split(members, split.held_out), tried.for_labels())
            right = documents.right(made.held_out, made.sorted_as, made.sets)
            training = (made.learned.right or 0) / members.size
            accuracies[share] = (members.size, float(right.mean()), training)
        return accuracies, right

    done = parallel(of_fold, len(parts.splits))
    folds = [accuracies for accuracies, _ in done]
    points = {share: [fold[share] for fold in folds if share in fold] for share in SHARES}
    rows = [rows for rows in points.values() if len(rows) == len(parts.splits)]
    table = np.array(rows, dtype=np.float64).reshape(len(rows), len(parts.splits), 3)
    return LearningCurveData(
        sizes=table[:, :, 0].mean(axis=1),
        held_out=table[:, :, 1].T,
        training=table[:, :, 2].T,
        judged=int(np.unique(np.concatenate([split.held_out for split in parts.splits])).size),
        right=np.concatenate([right for _, right in done]),
    )
