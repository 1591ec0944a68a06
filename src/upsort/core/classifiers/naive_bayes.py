"""Naive Bayes with one of three event models (McCallum & Nigam 1998; Rennie, Shih, Teevan & Karger 2003): counts, presence,
complement. The estimates are in closed form: one pass over the matrix."""

from abc import abstractmethod
from dataclasses import field, replace
from functools import cached_property
from typing import Any, ClassVar, Self

import numpy as np
from scipy.sparse import csr_array

from upsort.core import plan
from upsort.core.arrays import AnyArray, Floats, Ints
from upsort.core.classifiers import family
from upsort.core.classifiers.newton import OptimiserReport
from upsort.core.classifiers.problem_arrays import Targets
from upsort.core.features.weighting import presence
from upsort.core.lazy import record
from upsort.core.matrices.partitioned import PartitionedMatrix
from upsort.core.matrices.sparse import group_sums


def log_priors(label_documents: Floats, settings: plan.Classifier, names: tuple[str, ...]) -> Floats:
    """(k,) ln P(label): from the documents of each label, uniform, or as given; given ones need not sum to 1.

    label_documents: (k,) > 0."""
    if isinstance(settings.prior, dict):
        given = settings.prior
        shares = np.array([given.get(name, 0.0) for name in names])
        shares = np.where(shares > 0, shares, min(given.values(), default=1.0))
    elif settings.prior == "uniform":
        shares = np.ones(len(names))
    else:
        shares = label_documents
    logs: Floats = np.log(shares / shares.sum())
    return logs


def label_sums(matrix: csr_array | PartitionedMatrix, targets: Targets) -> Floats:
    """(n_terms, k) each term's values added up over each label's documents, in one pass."""
    return group_sums(matrix, targets.labels, targets.n_labels, targets.weights)


def label_totals(targets: Targets) -> Floats:
    """(k,) the weights of each label's documents."""
    totals = np.bincount(targets.labels, weights=targets.weights, minlength=targets.n_labels)
    return totals.astype(np.float64, copy=False)


@record(frozen=True, kw_only=True)
class NaiveBayes:
    """Counts kept as they are, so that more documents can be added exactly.

    counts: (n_terms, n_labels) float64, each term's values added up over each label's documents. label_documents: (n_labels,)
    float64, training documents of each label. log_prior: (n_labels,). smoothing: s, added to each count (Laplace for s = 1)."""

    ARRAY: ClassVar[str] = "term_counts"
    """The name of the counts in a sorter file."""

    counts: Floats
    label_documents: Floats
    log_prior: Floats
    smoothing: float
    ended: OptimiserReport = field(default_factory=OptimiserReport, compare=False)

    @classmethod
    def train(cls, data: family.TrainingData, settings: plan.Classifier, penalty: float) -> Self:
        """Estimate from documents, (n, n_terms) of values that are not negative."""
        del penalty
        totals = label_totals(data.targets)
        return cls(
            counts=label_sums(cls.values_of(data.matrix), data.targets),
            label_documents=totals,
            log_prior=log_priors(totals, settings, data.names),
            smoothing=settings.smoothing,
        )

    @classmethod
    def restore(cls, stored: family.StoredClassifier) -> Self:
        """From the arrays of a sorter file."""
        arrays: dict[str, Any] = {name: stored.arrays[name] for name in ("label_documents", "log_prior")}
        return cls(counts=stored.arrays[cls.ARRAY], smoothing=stored.settings.smoothing, **arrays)

    @staticmethod
    def values_of(matrix: Any) -> Any:
        """The values of documents that are added up."""
        return matrix

    @property
    @abstractmethod
    def rule(self) -> family.LinearRule:
        """The logarithms of the estimates, as a linear rule."""

    def scores(self, matrix: csr_array) -> Floats:
        """Logarithms of unnormalised probabilities."""
        return self.rule.scores(self.values_of(matrix))

    def arrays(self) -> dict[str, AnyArray]:
        """What the sorter file keeps."""
        return {self.ARRAY: self.counts, "label_documents": self.label_documents, "log_prior": self.log_prior}


class NaiveBayesOnCounts(NaiveBayes):
    """Multinomial naive Bayes (McCallum & Nigam 1998; Manning, Raghavan & Schütze 2008, section 13.2).

    P(label) = documents of the label / documents

    P(term | label) = (count of the term in the label's documents + s) / (count of all terms there + s · number of terms)

    score(document, label) = ln P(label) + Σ over terms of tf · ln P(term | label)"""

    @cached_property
    def rule(self) -> family.LinearRule:
        smoothed = self.counts + self.smoothing
        return family.LinearRule(np.log(smoothed) - np.log(smoothed.sum(axis=0)), self.log_prior)


class NaiveBayesOnPresence(NaiveBayes):
    """Bernoulli naive Bayes, in which absent terms count too (McCallum & Nigam 1998; Manning, Raghavan & Schütze 2008, section
    13.3). counts: documents of each label with each term.

        P(term present | label) = (documents of the label with the term + s) / (documents of the label + 2 s)
        score(document, label) = ln P(label) + Σ over present terms of ln P(present) + Σ over absent terms of ln(1 − P(present))

    The sum over absent terms is that over all terms, worked out once, with the present ones taken out again: a linear rule on
    presence."""

    ARRAY = "term_documents"

    @staticmethod
    def values_of(matrix: Any) -> Any:
        """1 for any value but 0."""
        return presence(matrix)

    @cached_property
    def rule(self) -> family.LinearRule:
        present = (self.counts + self.smoothing) / (self.label_documents + 2.0 * self.smoothing)
        absent = np.log1p(-present)
        return family.LinearRule(np.log(present) - absent, self.log_prior + absent.sum(axis=0))


class ComplementNaiveBayes(NaiveBayes):
    """Complement naive Bayes (Rennie, Shih, Teevan & Karger 2003): a label is judged by how little the other labels are like it.

        P(term | not label) = (count of the term outside the label + s) / (count of all terms outside it + s · number of terms)
        score(document, label) = ln P(label) − Σ over terms of tf · ln P(term | not label)

    Since every estimate rests on the documents of all other labels, labels with few documents are not at a disadvantage."""

    @cached_property
    def rule(self) -> family.LinearRule:
        outside = self.counts.sum(axis=1, keepdims=True) - self.counts + self.smoothing
        return family.LinearRule(np.log(outside.sum(axis=0)) - np.log(outside), self.log_prior)


def _begins(fitted: family.FittedClassifier) -> list[tuple[str, Floats]]:
    """What the scores begin with."""
    return [("log prior", fitted.arrays()["log_prior"])]


def _begins_absent(fitted: family.FittedClassifier) -> list[tuple[str, Floats]]:
    """All terms are absent to begin with; those present take their share of that back."""
    assert isinstance(fitted, NaiveBayesOnPresence)
    return [("log prior", fitted.log_prior), ("all terms absent", fitted.rule.intercept - fitted.log_prior)]


def _estimates(fitted: family.FittedClassifier, label: int, columns: Ints) -> family.Estimates:
    assert isinstance(fitted, NaiveBayesOnCounts)
    counts = fitted.counts[:, label]
    return family.Estimates(counts[columns] + fitted.smoothing, float(counts.sum()) + fitted.smoothing * counts.size)


def _presence_estimates(fitted: family.FittedClassifier, label: int, columns: Ints) -> family.Estimates:
    assert isinstance(fitted, NaiveBayesOnPresence)
    with_term, s = fitted.counts[:, label], fitted.smoothing
    denominator = float(fitted.label_documents[label]) + 2.0 * s
    rest = np.ones(with_term.size, dtype=bool)
    rest[columns] = False
    absent = float(np.log1p(-(with_term[rest] + s) / denominator).sum())
    return family.Estimates(with_term[columns] + s, denominator, (int(rest.sum()), absent))


def _array_specs(counts: str) -> dict[str, family.ArraySpec]:
    return {
        counts: family.ArraySpec(("terms", "labels"), least=0.0),
        "label_documents": family.ArraySpec(("labels",), least=0.0),
        "log_prior": family.ArraySpec(("labels",)),
    }


COUNTS_MODEL = family.Family(
    kind="naive-bayes",
    searched=True,
    summary="naive Bayes on how often terms occur",
    settings=("event_model", "smoothing", "prior"),
    train=NaiveBayesOnCounts.train,
    restore=NaiveBayesOnCounts.restore,
    arrays=_array_specs("term_counts"),
    weighting="count",
    not_negative=True,
    additive="term_counts",
    second_opinion="logistic",
    begins=_begins,
    weight="log odds",
    estimates=_estimates,
    estimates_need="count",
)
PRESENCE_MODEL = replace(
    COUNTS_MODEL,
    summary="naive Bayes on which terms are there, absent ones counting too",
    train=NaiveBayesOnPresence.train,
    restore=NaiveBayesOnPresence.restore,
    arrays=_array_specs("term_documents"),
    weighting="presence",
    on_presence=True,
    additive="term_documents",
    begins=_begins_absent,
    estimates=_presence_estimates,
    estimates_need="",
)
COMPLEMENT_MODEL = replace(
    COUNTS_MODEL,
    summary="naive Bayes on the counts of all other labels; for labels of very different size",
    train=ComplementNaiveBayes.train,
    restore=ComplementNaiveBayes.restore,
    estimates=None,
    estimates_need="",
)
NAIVE_BAYES = replace(
    COUNTS_MODEL,
    summary="naive Bayes: from how often each term occurs in each label",
    event_models={"counts": COUNTS_MODEL, "presence": PRESENCE_MODEL, "complement": COMPLEMENT_MODEL},
)
