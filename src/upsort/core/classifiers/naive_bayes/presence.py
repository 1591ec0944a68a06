"""Bernoulli naive Bayes, in which absent terms count too (McCallum & Nigam 1998; Manning, Raghavan & Schütze 2008, section
13.3).

P(term present | label) = (documents of the label with the term + s) / (documents of the label + 2 s)
score(document, label) = ln P(label) + Σ over present terms of ln P(present) + Σ over absent terms of ln(1 − P(present))

The sum over absent terms is that over all terms, worked out once, with the present ones taken out again: a linear rule.
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
from upsort.core.features.weighting import presence
from upsort.core.parted import PartitionedMatrix
from upsort.core.records import record


@record(frozen=True, kw_only=True)
class NaiveBayesOnPresence:
    """Counts kept as they are, so that more documents can be added exactly.

    term_documents: (n_terms, n_labels) float64, documents of each label with each term. label_documents, log_prior:
    (n_labels,).
    """

    term_documents: Floats
    label_documents: Floats
    log_prior: Floats
    smoothing: float
    ended: OptimiserReport = field(default_factory=OptimiserReport, compare=False)

    @cached_property
    def rule(self) -> LinearRule:
        """On presence: ln(P / (1 − P)) for each term, and the prior with all terms absent."""
        present = (self.term_documents + self.smoothing) / (self.label_documents + 2.0 * self.smoothing)
        absent = np.log1p(-present)
        return LinearRule(np.log(present) - absent, self.log_prior + absent.sum(axis=0))

    def scores(self, matrix: csr_array) -> Floats:
        """Logarithms of unnormalised probabilities; any value but 0 is presence."""
        return self.rule.scores(presence(matrix))

    def arrays(self) -> dict[str, AnyArray]:
        """What the sorter file keeps."""
        return {
            "term_documents": self.term_documents,
            "label_documents": self.label_documents,
            "log_prior": self.log_prior,
        }


def train(
    matrix: csr_array | PartitionedMatrix, targets: Targets, log_prior: Floats, smoothing: float
) -> NaiveBayesOnPresence:
    """Estimate from documents. matrix: (n, n_terms) CSR; any value but 0 is presence."""
    return NaiveBayesOnPresence(
        term_documents=label_sums(presence(matrix), targets),
        label_documents=label_totals(targets),
        log_prior=log_prior,
        smoothing=smoothing,
    )


def _begins(fitted: FittedClassifier) -> list[tuple[str, Floats]]:
    """All terms are absent to begin with; those present take their share of that back."""
    assert isinstance(fitted, NaiveBayesOnPresence)
    return [("log prior", fitted.log_prior), ("all terms absent", fitted.rule.intercept - fitted.log_prior)]


def _estimates(fitted: FittedClassifier, label: int, columns: Ints) -> Estimates:
    assert isinstance(fitted, NaiveBayesOnPresence)
    with_term, s = fitted.term_documents[:, label], fitted.smoothing
    denominator = float(fitted.label_documents[label]) + 2.0 * s
    rest = np.ones(with_term.size, dtype=bool)
    rest[columns] = False
    absent = float(np.log1p(-(with_term[rest] + s) / denominator).sum())
    return Estimates(with_term[columns] + s, denominator, (int(rest.sum()), absent))


EVENT_MODEL = Family(
    kind="naive-bayes",
    summary="naive Bayes on which terms are there, absent ones counting too",
    settings=sums.SETTINGS,
    train=sums.trained_by(train),
    restore=sums.restored_as(NaiveBayesOnPresence, "term_documents"),
    arrays={"term_documents": ArraySpec(("terms", "labels"), least=0.0), **sums.OF_LABELS},
    weighting="presence",
    not_negative=True,
    on_presence=True,
    additive="term_documents",
    restraint=sums.RESTRAINT,
    second_opinion="logistic",
    begins=_begins,
    weight="log odds",
    estimates=_estimates,
)
