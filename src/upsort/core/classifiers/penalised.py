"""What the linear classifiers with a penalty share: a loss, minimised by `newton`, and what their records have in common."""

from collections.abc import Callable, Iterator, Sequence

import numpy as np

from upsort.core.classifiers.dual import DualAscent
from upsort.core.classifiers.family import ArraySpec, Penalised, StoredClassifier, TrainingData
from upsort.core.classifiers.fitted import FittedClassifier
from upsort.core.classifiers.linear import Linear, LinearRule
from upsort.core.classifiers.newton import Objective, OptimiserReport, Stopping, ascent_on, minimise, reference_norm
from upsort.core.classifiers.sides import PartitionStates
from upsort.core.plan import Classifier

SETTINGS = ("penalty", "tolerance", "most_iterations")
RESTRAINT = "a larger classifier.penalty"
ARRAYS = {"weights": ArraySpec(("terms", "labels")), "intercept": ArraySpec(("labels",))}


def restored(stored: StoredClassifier) -> Linear:
    """The classifier whose arrays these were."""
    return Linear(LinearRule(stored.arrays["weights"], stored.arrays["intercept"]))


def trained_by(penalised: Penalised) -> Callable[[TrainingData, Classifier, float], FittedClassifier]:
    """What a record's `train` is where a loss of the scores is minimised."""
    assert penalised.loss is not None
    loss_of = penalised.loss

    def train(data: TrainingData, settings: Classifier, penalty: float) -> FittedClassifier:
        loss, k = loss_of(data.targets, settings), data.targets.n_labels
        return trained(
            objective_of(PartitionStates(data.matrix, loss), k, penalty, penalised.lasso(settings)), settings
        )

    return train


def path(
    data: TrainingData, settings: Classifier, penalised: Penalised, penalties: Sequence[float]
) -> Iterator[Linear]:
    """The classifiers of a descending grid of penalties, evenly apart on a logarithmic scale, of a loss that is a function of the
    scores alone.

    Without a lasso part each begins where the ones before point to: their weights are taken as a curve over the logarithm of
    the penalty, whose last three points are continued by a parabola (two by a line). With one, each begins where the last
    ended. On a large problem the passes over the documents go on from penalty to penalty.
    """
    assert penalised.loss is not None
    fitted: list[Linear] = []
    k, lasso = data.targets.n_labels, penalised.lasso(settings)
    partitions = PartitionStates(data.matrix, penalised.loss(data.targets, settings))
    smooth = lasso == 0.0
    reference = reference_norm(objective_of(partitions, k, 0.0, lasso)) if smooth else None
    ascent = ascent_on(objective_of(partitions, k, penalties[0], lasso))
    for penalty in penalties:
        objective = objective_of(partitions, k, penalty, lasso)
        if ascent is not None:
            ascent.with_penalty(penalty)
            fitted = [trained(objective, settings, None, reference, ascent)]
        else:
            fitted = [*fitted[-2 if smooth else 1 :], trained(objective, settings, _extrapolated(fitted), reference)]
        yield fitted[-1]


def _extrapolated(before: Sequence[Linear]) -> Linear | None:
    """Where the weights of up to three consecutive penalties point to."""
    if not before:
        return None
    shares = {1: (1.0,), 2: (-1.0, 2.0), 3: (1.0, -3.0, 3.0)}[len(before)]
    weights = sum(share * model.parameters for share, model in zip(shares, before, strict=True))
    return Linear.of(np.asarray(weights), OptimiserReport())


def objective_of(partitions: PartitionStates, n_labels: int, penalty: float, lasso: float) -> Objective:
    """What is minimised. lasso: the share of the penalty on the sizes of the weights."""
    return Objective(partitions=partitions, n_labels=n_labels, ridge=penalty * (1.0 - lasso), lasso=penalty * lasso)


def trained(
    objective: Objective,
    settings: Classifier,
    start: Linear | None = None,
    reference: float | None = None,
    ascent: DualAscent | None = None,
) -> Linear:
    """Train to the optimum.

    start: weights to begin with, of the same terms and labels. reference: the norm of the gradient at zero weights, where it
    is at hand. ascent: passes to go on with. The result's `ended.reached` says whether the tolerance was met within the
    iterations allowed.
    """
    parameters, ended = minimise(
        objective,
        Stopping(settings.tolerance, settings.most_iterations, reference),
        start.parameters if start is not None else None,
        ascent,
    )
    return Linear.of(parameters, ended)
