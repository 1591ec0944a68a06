"""Multinomial naive Bayes (McCallum & Nigam 1998; Manning, Raghavan & Schütze 2008, section 13.2).

    P(label) = documents of the label / documents
    P(term | label) = (count of the term in the label's documents + s) / (count of all terms there + s · number of terms)
    score(document, label) = ln P(label) + Σ over terms of tf · ln P(term | label)

with the smoothing s added to each count (Laplace for s = 1). The estimates are in closed form: one pass over the matrix.
"""

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import AnyArray, Floats
from upsort.core.classifiers.linear import LinearRule
from upsort.core.classifiers.newton import Ended
from upsort.core.classifiers.targets import Targets
from upsort.core.sparse import group_sums


@dataclass(frozen=True, kw_only=True)
class MultinomialNaiveBayes:
    """Counts kept as they are, so that more documents can be added exactly.

    term_counts: (n_terms, n_labels) float64, each term's values added up over each label's documents.
    label_documents: (n_labels,) float64, training documents of each label. log_prior: (n_labels,).
    """

    term_counts: Floats
    label_documents: Floats
    log_prior: Floats
    smoothing: float
    ended: Ended = field(default_factory=Ended, compare=False)

    @cached_property
    def rule(self) -> LinearRule:
        """The logarithms of the estimates, as a linear rule."""
        smoothed = self.term_counts + self.smoothing
        return LinearRule(np.log(smoothed) - np.log(smoothed.sum(axis=0)), self.log_prior)

    def scores(self, matrix: csr_array) -> Floats:
        """Logarithms of unnormalised probabilities."""
        return self.rule.scores(matrix)

    def arrays(self) -> dict[str, AnyArray]:
        """What the sorter file keeps."""
        return {
            "term_counts": self.term_counts,
            "label_documents": self.label_documents,
            "log_prior": self.log_prior,
        }


def label_sums(matrix: csr_array, targets: Targets) -> Floats:
    """(n_terms, k) each term's values added up over each label's documents, in one pass."""
    return group_sums(matrix, targets.labels, targets.n_labels, targets.weights)


def label_totals(targets: Targets) -> Floats:
    """(k,) the weights of each label's documents."""
    totals = np.bincount(targets.labels, weights=targets.weights, minlength=targets.n_labels)
    return totals.astype(np.float64, copy=False)


def train(matrix: csr_array, targets: Targets, log_prior: Floats, smoothing: float) -> MultinomialNaiveBayes:
    """Estimate from documents. matrix: (n, n_terms) CSR of non-negative values, usually counts."""
    return MultinomialNaiveBayes(
        term_counts=label_sums(matrix, targets),
        label_documents=label_totals(targets),
        log_prior=log_prior,
        smoothing=smoothing,
    )
