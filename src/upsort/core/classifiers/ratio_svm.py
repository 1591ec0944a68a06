"""The linear support vector machine on naive Bayes log-count ratios (Wang & Manning 2012, *Baselines and bigrams*), one label
against the rest.

With p the label's weighted sums of term values plus 1 divided by their total, and q the same of all other labels, each term is
multiplied by r = ln(p / q) before a support vector machine (see `svm`) is trained on it. The machine's weights v are drawn
towards their mean size, v' = (1 − β) · mean |v| + β · v with β = `interpolation` (their section 2.3); the rule's weights are
r · v'.
"""

import numpy as np
from scipy.sparse import csr_array

from upsort.core import plan
from upsort.core.arrays import Floats
from upsort.core.classifiers import penalised
from upsort.core.classifiers.family import Family, Penalised, intercept
from upsort.core.classifiers.linear import Linear
from upsort.core.classifiers.losses import SquaredHinge
from upsort.core.classifiers.newton import Objective, Stopping, minimise
from upsort.core.classifiers.sides import PartitionStates
from upsort.core.classifiers.targets import Targets
from upsort.core.parted import PartitionedMatrix, Sliced


def train(matrix: csr_array | PartitionedMatrix, targets: Targets, settings: plan.Classifier, penalty: float) -> Linear:
    """Train to the optimum. matrix: (n, n_terms) CSR, float64, ≥ 0, usually presence."""
    ratios = label_ratios(matrix, targets)
    parameters, ended = minimise(
        Objective(
            partitions=PartitionStates(matrix, SquaredHinge(targets.own, targets.weights), ratios),
            n_labels=targets.n_labels,
            ridge=penalty,
        ),
        Stopping(settings.tolerance, settings.most_iterations),
    )
    beta = settings.interpolation
    size = np.abs(parameters[:-1]).mean(axis=0)
    parameters[:-1] = (1.0 - beta) * size + beta * parameters[:-1]
    return Linear.of(parameters, ended, scale=ratios)


def label_ratios(matrix: csr_array | PartitionedMatrix, targets: Targets) -> Floats:
    """(n_terms, k) ln(p / q) of each term and label."""
    own, weights = targets.own, targets.weights
    inside, outside = own * weights[:, None], ~own * weights[:, None]
    values, rest = (
        np.asarray(matrix.sum(_sums, Sliced(part)) if isinstance(matrix, PartitionedMatrix) else _sums(matrix, part))
        for part in (inside, outside)
    )
    p, q = values + 1.0, rest + 1.0
    ratios: Floats = np.log(p / p.sum(axis=0)) - np.log(q / q.sum(axis=0))
    return ratios


def _sums(matrix: csr_array, weights: Floats) -> Floats:
    return np.asarray(matrix.T @ weights)


_PENALISED = Penalised()
FAMILY = Family(
    kind="ratio-svm",
    summary="a linear support vector machine on terms weighted by the log ratios of their counts in and outside the label",
    settings=(*penalised.SETTINGS, "interpolation"),
    train=lambda data, settings, penalty: train(data.matrix, data.targets, settings, penalty),
    weighting="presence",
    not_negative=True,
    restore=penalised.restored,
    arrays=penalised.ARRAYS,
    sets=True,
    penalised=_PENALISED,
    restraint=penalised.RESTRAINT,
    begins=intercept,
)
