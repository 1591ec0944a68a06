"""Deciding otherwise than for the most probable label: by costs, by weights that raise F-beta, or not at all.

A decision rule is a matrix D (k, k): the label g is given for which Σ over labels t of p[t] · D[t, g] is largest. With costs
C (given × true) D = −Cᵀ, which has the least expected cost (Bayes' rule; Elkan 2001, equation 1). For F-beta D is diagonal:
each label's probability is multiplied by a weight of its own. The weights are chosen on held-out documents, one label after
the other, from a grid, as long as macro F-beta rises.
"""

from collections.abc import Sequence

import numpy as np

from upsort.core.arrays import Floats, Ints
from upsort.core.errors import DataProblem
from upsort.core.learning.method import Costs
from upsort.core.names import listed

_GRID = np.geomspace(0.2, 5.0, 21)
_MOST_ITERATIONS = 3


def cost_table(costs: Costs, labels: Sequence[str]) -> Floats | None:
    """(k given, k true) the costs of deciding among these labels; None where the costs are about none of them.

    Raises DataProblem where they are about some of the labels only.
    """
    missing = [label for label in labels if label not in costs]
    if len(missing) == len(labels):
        return None
    if missing:
        raise DataProblem(
            f"The table of costs has no label {missing[0]!r}; its labels are {listed(costs)}.",
            "Each label needs a row and a column.",
        )
    return np.array([[costs[given][true] for true in labels] for given in labels])


def cost_decision(costs: Floats) -> Floats:
    """(k, k) the decision rule of costs, (k given, k true)."""
    rule: Floats = -costs.T
    return rule


def values_of(probabilities: Floats, rule: Floats) -> Floats:
    """(n, k) what each label is worth by a rule, rounded so that what should be equal is."""
    values: Floats = np.round(probabilities @ rule, 12)
    return values


def ranking(values: Floats, label_documents: Ints) -> Ints:
    """(n, k) the labels of each document, that of the highest value first; of equals the one that more training documents have,
    then the one that sorts first. label_documents: (k,)."""
    common = np.argsort(-label_documents, kind="stable")
    order: Ints = common[np.argsort(-values[:, common], axis=1, kind="stable")]
    return order


def macro_f_beta(true: Ints, sorted_as: Ints, k: int, beta: float) -> float:
    """The mean over the labels that occur of (1 + β²) right / (β² · true + sorted_as)."""
    right = np.bincount(true[true == sorted_as], minlength=k)
    trues, sorted_counts = np.bincount(true, minlength=k), np.bincount(sorted_as, minlength=k)
    whole = beta**2 * trues + sorted_counts
    occurs = whole > 0
    return float(((1 + beta**2) * right[occurs] / whole[occurs]).mean())


def weights_for_f_beta(true: Ints, probabilities: Floats, beta: float) -> Floats:
    """(k, k) the diagonal rule with the highest macro F-beta found on held-out documents; of equals the one nearest to 1."""
    k = probabilities.shape[1]
    weights = np.ones(k)
    best = macro_f_beta(true, probabilities.argmax(axis=1), k, beta)
    for _ in range(_MOST_ITERATIONS):
        before = best
        for label in range(k):
            tried = sorted(_GRID.tolist(), key=lambda weight: abs(np.log(weight)))
            for weight in tried:
                changed = weights.copy()
                changed[label] = weight
                value = macro_f_beta(true, (probabilities * changed).argmax(axis=1), k, beta)
                if value > best + 1e-12:
                    best, weights = value, changed
        if best <= before:
            break
    return np.diag(weights)
