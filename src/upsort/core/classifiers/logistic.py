"""Multinomial logistic regression with an L2 penalty.

Minimises over the weights W (n_terms, k) and the intercepts b (k,)

    F(W, b) = Σ over documents of −ln p(own label) + penalty / 2 · Σ W²,      p = softmax(x·W + b)

(Hastie, Tibshirani & Friedman 2009, section 4.4; the intercepts are not penalised). The penalty is the inverse variance
of a normal prior of mean 0 on each weight, so that its meaning does not change with the number of documents. Trained by
the truncated Newton method of `newton`, whose stopping rule is the gradient's norm relative to its norm at zero weights.
"""

from dataclasses import dataclass, field

import numpy as np
from scipy.sparse import csr_array

from upsort.core import plan
from upsort.core.arrays import Floats, Ints
from upsort.core.classifiers.linear import LinearRule, log_probabilities
from upsort.core.classifiers.newton import Minimum, Vector, minimise


@dataclass(frozen=True)
class Logistic:
    """The trained rule, and how training ended (None when read from a file)."""

    rule: LinearRule
    minimum: Minimum | None = field(default=None, compare=False)

    def arrays(self) -> dict[str, Floats | Ints]:
        """What the sorter file keeps."""
        return {"weights": self.rule.weights, "intercept": self.rule.intercept}


class SoftmaxLoss:
    """F and its derivatives, as a function of the vector that holds W row by row, then b.

    gradient: Xᵀ(P − Y) + penalty · W, and Σ (P − Y) for b, with P the probabilities and Y the 0/1 labels.
    Hessian times (D, d): with U = X·D + d and R = P ∘ (U − (P ∘ U)·1), it is Xᵀ·R + penalty · D, and Σ R for b.
    """

    def __init__(self, matrix: csr_array, labels: Ints, n_labels: int, penalty: float) -> None:
        self.matrix = matrix
        self.transposed = matrix.T.tocsr()
        self.labels = labels
        self.rows = np.arange(labels.size)
        self.shape = (matrix.shape[1], n_labels)
        self.penalty = penalty
        self.probabilities = np.zeros((labels.size, n_labels))

    def value_and_gradient(self, at: Vector) -> tuple[float, Vector]:
        weights, intercept = self.unpacked(at)
        logs = log_probabilities(self.matrix @ weights + intercept)
        value = -float(logs[self.rows, self.labels].sum()) + 0.5 * self.penalty * float(
            np.einsum("ij,ij->", weights, weights)
        )
        self.probabilities = np.exp(logs)
        residuals = self.probabilities.copy()
        residuals[self.rows, self.labels] -= 1.0
        return value, self._packed(self.transposed @ residuals + self.penalty * weights, residuals.sum(axis=0))

    def hessian_product(self, direction: Vector) -> Vector:
        weights, intercept = self.unpacked(direction)
        scores = self.matrix @ weights + intercept
        mean = np.einsum("ij,ij->i", self.probabilities, scores)
        spread = self.probabilities * (scores - mean[:, None])
        return self._packed(self.transposed @ spread + self.penalty * weights, spread.sum(axis=0))

    def unpacked(self, at: Vector) -> tuple[Floats, Floats]:
        """The weights and the intercepts in a vector."""
        size = self.shape[0] * self.shape[1]
        return at[:size].reshape(self.shape), at[size:]

    def _packed(self, weights: Floats, intercept: Floats) -> Vector:
        return np.concatenate((weights.reshape(-1), intercept))


def train(matrix: csr_array, labels: Ints, n_labels: int, settings: plan.Classifier) -> Logistic:
    """Train to the optimum.

    matrix: (n, n_terms) CSR, float64. labels: (n,) label numbers below `n_labels`.
    The result's `minimum.reached` says whether the tolerance was met within the iterations allowed.
    """
    objective = SoftmaxLoss(matrix, labels, n_labels, settings.penalty)
    start = np.zeros((matrix.shape[1] + 1) * n_labels)
    minimum = minimise(objective, start, settings.tolerance, settings.most_iterations)
    weights, intercept = objective.unpacked(minimum.at)
    return Logistic(LinearRule(np.ascontiguousarray(weights), intercept.copy()), minimum)
