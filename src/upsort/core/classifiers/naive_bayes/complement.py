"""Complement naive Bayes (Rennie, Shih, Teevan & Karger 2003): a label is judged by how little the other labels are like it.

    P(term | not label) = (count of the term outside the label + s) / (count of all terms outside it + s · number of terms)
    score(document, label) = ln P(label) − Σ over terms of tf · ln P(term | not label)

Since every estimate rests on the documents of all other labels, labels with few documents are not at a disadvantage.
"""

from dataclasses import field
from functools import cached_property

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import AnyArray, Floats
from upsort.core.classifiers.family import ArraySpec, Family
from upsort.core.classifiers.linear import LinearRule
from upsort.core.classifiers.naive_bayes import sums
from upsort.core.classifiers.naive_bayes.sums import label_sums, label_totals
from upsort.core.classifiers.newton import OptimiserReport
from upsort.core.classifiers.targets import Targets
from upsort.core.parted import PartitionedMatrix
from upsort.core.records import record


@record(frozen=True, kw_only=True)
class ComplementNaiveBayes:
    """As `NaiveBayesOnCounts`, with the estimates of the other labels together."""

    term_counts: Floats
    label_documents: Floats
    log_prior: Floats
    smoothing: float
    ended: OptimiserReport = field(default_factory=OptimiserReport, compare=False)

    @cached_property
    def rule(self) -> LinearRule:
        """The negative logarithms of the estimates, as a linear rule."""
        outside = self.term_counts.sum(axis=1, keepdims=True) - self.term_counts + self.smoothing
        return LinearRule(np.log(outside.sum(axis=0)) - np.log(outside), self.log_prior)

    def scores(self, matrix: csr_array) -> Floats:
        """How unlike the other labels a document is."""
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
) -> ComplementNaiveBayes:
    """Estimate from documents. matrix: (n, n_terms) CSR of non-negative values, usually counts."""
    return ComplementNaiveBayes(
        term_counts=label_sums(matrix, targets),
        label_documents=label_totals(targets),
        log_prior=log_prior,
        smoothing=smoothing,
    )


EVENT_MODEL = Family(
    kind="naive-bayes",
    summary="naive Bayes on the counts of all other labels; for labels of very different size",
    settings=sums.SETTINGS,
    train=sums.trained_by(train),
    restore=sums.restored_as(ComplementNaiveBayes, "term_counts"),
    arrays={"term_counts": ArraySpec(("terms", "labels"), least=0.0), **sums.OF_LABELS},
    weighting="count",
    not_negative=True,
    additive="term_counts",
    restraint=sums.RESTRAINT,
    second_opinion="logistic",
    begins=sums.begins,
    weight="log odds",
)
