"""Multinomial naive Bayes (McCallum & Nigam 1998; Manning, Raghavan & Schütze 2008, section 13.2).

    P(label) = documents of the label / documents
    P(term | label) = (count of the term in the label's documents + s) / (count of all terms there + s · number of terms)
    score(document, label) = ln P(label) + Σ over terms of tf · ln P(term | label)

with the smoothing s added to each count (Laplace for s = 1). The estimates are in closed form: one pass over the matrix.
"""

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.sparse import csr_array

from upsort.core import plan
from upsort.core.arrays import Floats, Ints
from upsort.core.classifiers.linear import LinearRule


@dataclass(frozen=True)
class MultinomialNaiveBayes:
    """Counts kept as they are, so that more documents can be added exactly.

    term_counts: (n_terms, n_labels) float64, each term's values added up over each label's documents.
    label_documents: (n_labels,) int64, training documents of each label.
    """

    term_counts: Floats
    label_documents: Ints
    smoothing: float

    @cached_property
    def rule(self) -> LinearRule:
        """The logarithms of the estimates, as a linear rule."""
        smoothed = self.term_counts + self.smoothing
        log_conditional = np.log(smoothed) - np.log(smoothed.sum(axis=0))
        log_prior = np.log(self.label_documents / self.label_documents.sum())
        return LinearRule(log_conditional, log_prior)

    def arrays(self) -> dict[str, Floats | Ints]:
        """What the sorter file keeps."""
        return {"term_counts": self.term_counts, "label_documents": self.label_documents}


def train(matrix: csr_array, labels: Ints, n_labels: int, settings: plan.Classifier) -> MultinomialNaiveBayes:
    """Estimate from documents.

    matrix: (n, n_terms) CSR of non-negative values, usually counts. labels: (n,) label numbers below `n_labels`, each
    occurring at least once.
    """
    indicator = csr_array(
        (np.ones(labels.size), labels, np.arange(labels.size + 1)), shape=(labels.size, n_labels), dtype=np.float64
    )
    term_counts = np.ascontiguousarray((matrix.T @ indicator).toarray())
    label_documents = np.bincount(labels, minlength=n_labels).astype(np.int64)
    return MultinomialNaiveBayes(term_counts, label_documents, settings.smoothing)
