"""What every linear classifier comes down to: a weight for each term and label, and an intercept for each label."""

from dataclasses import field

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import AnyArray, Floats
from upsort.core.classifiers.newton import OptimiserReport
from upsort.core.records import record


@record(frozen=True)
class LinearRule:
    """score(document, label) = intercept[label] + Σ over terms of weight[term, label] · value[document, term].

    weights: (n_terms, n_labels) float64. intercept: (n_labels,) float64.
    """

    weights: Floats
    intercept: Floats

    def scores(self, matrix: csr_array) -> Floats:
        """(n, n_terms) CSR of values → (n, n_labels) scores."""
        scores: Floats = matrix @ self.weights + self.intercept
        return scores


@record(frozen=True)
class Linear:
    """A classifier that is nothing but its rule: logistic regression, support vector machines, ridge, centroids."""

    rule: LinearRule
    ended: OptimiserReport = field(default_factory=OptimiserReport, compare=False)

    def scores(self, matrix: csr_array) -> Floats:
        """The rule's scores."""
        return self.rule.scores(matrix)

    def arrays(self) -> dict[str, AnyArray]:
        """What the sorter file keeps."""
        return {"weights": self.rule.weights, "intercept": self.rule.intercept}

    @staticmethod
    def of(parameters: Floats, ended: OptimiserReport, scale: Floats | None = None) -> "Linear":
        """parameters: (n_terms + 1, k) weights with the intercepts in the last row. scale: what the weights are multiplied by."""
        weights = parameters[:-1] if scale is None else parameters[:-1] * scale
        return Linear(LinearRule(np.ascontiguousarray(weights), parameters[-1].copy()), ended)

    @property
    def parameters(self) -> Floats:
        """(n_terms + 1, k), as `of` takes them."""
        return np.vstack((self.rule.weights, self.rule.intercept))
