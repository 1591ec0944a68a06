"""Multinomial naive Bayes (McCallum & Nigam 1998; Manning, Raghavan & Schütze 2008, section 13.2).

    P(label) = documents of the label / documents
    P(term | label) = (count of the term in the label's documents + s) / (count of all terms there + s · number of terms)
    score(document, label) = ln P(label) + Σ over terms of tf · ln P(term | label)

with the smoothing s added to each count (Laplace for s = 1). The estimates are in closed form: one pass over the matrix.
"""

from dataclasses import field
from functools import cached_property

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import AnyArray, Floats, Ints
from upsort.core.classifiers.family import ArraySpec, Estimates, Family
from upsort.core.classifiers.fitted import FittedClassifier
from upsort.core.classifiers.linear import LinearRule
from upsort.core.classifiers.naive_bayes import sums
from upsort.core.classifiers.naive_bayes.sums import label_sums, label_totals
from upsort.core.classifiers.newton import OptimiserReport
from upsort.core.classifiers.targets import Targets
from upsort.core.parted import PartitionedMatrix
from upsort.core.records import record


@record(frozen=True, kw_only=True)
class NaiveBayesOnCounts:
    """Counts kept as they are, so that more documents can be added exactly.

    term_counts: (n_terms, n_labels) float64, each term's values added up over each label's documents.
    label_documents: (n_labels,) float64, training documents of each label. log_prior: (n_labels,).
    """

    term_counts: Floats
    label_documents: Floats
    log_prior: Floats
    smoothing: float
    ended: OptimiserReport = field(default_factory=OptimiserReport, compare=False)

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


def train(
    matrix: csr_array | PartitionedMatrix, targets: Targets, log_prior: Floats, smoothing: float
) -> NaiveBayesOnCounts:
    """Estimate from documents. matrix: (n, n_terms) CSR of non-negative values, usually counts."""
    return NaiveBayesOnCounts(
        term_counts=label_sums(matrix, targets),
        label_documents=label_totals(targets),
        log_prior=log_prior,
        smoothing=smoothing,
    )


def _estimates(fitted: FittedClassifier, label: int, columns: Ints) -> Estimates:
    assert isinstance(fitted, NaiveBayesOnCounts)
    counts = fitted.term_counts[:, label]
    return Estimates(counts[columns] + fitted.smoothing, float(counts.sum()) + fitted.smoothing * counts.size)


EVENT_MODEL = Family(
    kind="naive-bayes",
    summary="naive Bayes on how often terms occur",
    settings=sums.SETTINGS,
    train=sums.trained_by(train),
    restore=sums.restored_as(NaiveBayesOnCounts, "term_counts"),
    arrays={"term_counts": ArraySpec(("terms", "labels"), least=0.0), **sums.OF_LABELS},
    weighting="count",
    not_negative=True,
    additive="term_counts",
    restraint=sums.RESTRAINT,
    second_opinion="logistic",
    begins=sums.begins,
    weight="log odds",
    estimates=_estimates,
    estimates_need="count",
)
