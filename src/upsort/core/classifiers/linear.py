"""What every linear classifier comes down to: a weight for each term and label, and an intercept for each label."""

from dataclasses import dataclass

from scipy.sparse import csr_array
from scipy.special import logsumexp

from upsort.core.arrays import Floats


@dataclass(frozen=True)
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


def log_probabilities(scores: Floats) -> Floats:
    """Scores that are logarithms of unnormalised probabilities, (n, k), to log probabilities whose rows sum to 1."""
    logs: Floats = scores - logsumexp(scores, axis=1, keepdims=True)
    return logs
