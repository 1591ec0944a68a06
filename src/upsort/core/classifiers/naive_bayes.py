"""Naive Bayes with one of three event models (McCallum & Nigam 1998; Rennie, Shih, Teevan & Karger 2003): counts, presence,
complement."""

from collections.abc import Callable
from dataclasses import field, replace
from functools import cached_property
from typing import Any

import numpy as np
from scipy.sparse import csr_array

from upsort.core import plan
from upsort.core.arrays import AnyArray, Floats, Ints
from upsort.core.classifiers.family import (
    ArraySpec,
    Estimates,
    Family,
    FittedClassifier,
    LinearRule,
    StoredClassifier,
    TrainingData,
)
from upsort.core.classifiers.newton import OptimiserReport
from upsort.core.classifiers.problem_arrays import Targets
from upsort.core.features.weighting import presence
from upsort.core.lazy import record
from upsort.core.matrices.partitioned import PartitionedMatrix
from upsort.core.matrices.sparse import group_sums
from upsort.core.plan import Classifier


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


SETTINGS = ("event_model", "smoothing", "prior")
RESTRAINT = "more classifier.smoothing"
OF_LABELS = {"label_documents": ArraySpec(("labels",), least=0.0), "log_prior": ArraySpec(("labels",))}


def label_sums(matrix: csr_array | PartitionedMatrix, targets: Targets) -> Floats:
    """(n_terms, k) each term's values added up over each label's documents, in one pass."""
    return group_sums(matrix, targets.labels, targets.n_labels, targets.weights)


def label_totals(targets: Targets) -> Floats:
    """(k,) the weights of each label's documents."""
    totals = np.bincount(targets.labels, weights=targets.weights, minlength=targets.n_labels)
    return totals.astype(np.float64, copy=False)


def begins(fitted: FittedClassifier) -> list[tuple[str, Floats]]:
    """What the scores begin with."""
    return [("log prior", fitted.arrays()["log_prior"])]


def trained_by(
    train: Callable[[csr_array | PartitionedMatrix, Targets, Floats, float], FittedClassifier],
) -> Callable[[TrainingData, Classifier, float], FittedClassifier]:
    """What a record's `train` is: the event model's own, with the priors of the settings."""

    def trained(data: TrainingData, settings: Classifier, penalty: float) -> FittedClassifier:
        prior = log_priors(label_totals(data.targets), settings, data.names)
        return train(data.matrix, data.targets, prior, settings.smoothing)

    return trained


def restored_as(made: Callable[..., FittedClassifier], counts: str) -> Callable[[StoredClassifier], FittedClassifier]:
    """What a record's `restore` is. counts: the name of the array of counts, and of the field for it."""

    def restored(stored: StoredClassifier) -> FittedClassifier:
        names: dict[str, AnyArray] = {name: stored.arrays[name] for name in (counts, *OF_LABELS)}
        settings: dict[str, Any] = {"smoothing": stored.settings.smoothing}
        return made(**names, **settings)

    return restored


@record(frozen=True, kw_only=True)
class NaiveBayesOnCounts:
    """Counts kept as they are, so that more documents can be added exactly.

    term_counts: (n_terms, n_labels) float64, each term's values added up over each label's documents. label_documents:
    (n_labels,) float64, training documents of each label. log_prior: (n_labels,).

    Multinomial naive Bayes (McCallum & Nigam 1998; Manning, Raghavan & Schütze 2008, section 13.2).

        P(label) = documents of the label / documents
        P(term | label) = (count of the term in the label's documents + s) / (count of all terms there + s · number of terms)
        score(document, label) = ln P(label) + Σ over terms of tf · ln P(term | label)

    with the smoothing s added to each count (Laplace for s = 1). The estimates are in closed form: one pass over the matrix."""

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
        return {"term_counts": self.term_counts, "label_documents": self.label_documents, "log_prior": self.log_prior}


def train_on_counts(
    matrix: csr_array | PartitionedMatrix, targets: Targets, log_prior: Floats, smoothing: float
) -> NaiveBayesOnCounts:
    """Estimate from documents. matrix: (n, n_terms) CSR of non-negative values, usually counts."""
    return NaiveBayesOnCounts(
        term_counts=label_sums(matrix, targets), label_documents=label_totals(targets), log_prior=log_prior, smoothing=smoothing
    )


def _estimates(fitted: FittedClassifier, label: int, columns: Ints) -> Estimates:
    assert isinstance(fitted, NaiveBayesOnCounts)
    counts = fitted.term_counts[:, label]
    return Estimates(counts[columns] + fitted.smoothing, float(counts.sum()) + fitted.smoothing * counts.size)


COUNTS_MODEL = Family(
    kind="naive-bayes",
    summary="naive Bayes on how often terms occur",
    settings=SETTINGS,
    train=trained_by(train_on_counts),
    restore=restored_as(NaiveBayesOnCounts, "term_counts"),
    arrays={"term_counts": ArraySpec(("terms", "labels"), least=0.0), **OF_LABELS},
    weighting="count",
    not_negative=True,
    additive="term_counts",
    restraint=RESTRAINT,
    second_opinion="logistic",
    begins=begins,
    weight="log odds",
    estimates=_estimates,
    estimates_need="count",
)


@record(frozen=True, kw_only=True)
class NaiveBayesOnPresence:
    """Counts kept as they are, so that more documents can be added exactly.

    term_documents: (n_terms, n_labels) float64, documents of each label with each term. label_documents, log_prior: (n_labels,).

    Bernoulli naive Bayes, in which absent terms count too (McCallum & Nigam 1998; Manning, Raghavan & Schütze 2008, section
    13.3).

    P(term present | label) = (documents of the label with the term + s) / (documents of the label + 2 s) score(document, label) =
    ln P(label) + Σ over present terms of ln P(present) + Σ over absent terms of ln(1 − P(present))

    The sum over absent terms is that over all terms, worked out once, with the present ones taken out again: a linear rule."""

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
        return {"term_documents": self.term_documents, "label_documents": self.label_documents, "log_prior": self.log_prior}


def train_on_presence(
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


def _presence_estimates(fitted: FittedClassifier, label: int, columns: Ints) -> Estimates:
    assert isinstance(fitted, NaiveBayesOnPresence)
    with_term, s = fitted.term_documents[:, label], fitted.smoothing
    denominator = float(fitted.label_documents[label]) + 2.0 * s
    rest = np.ones(with_term.size, dtype=bool)
    rest[columns] = False
    absent = float(np.log1p(-(with_term[rest] + s) / denominator).sum())
    return Estimates(with_term[columns] + s, denominator, (int(rest.sum()), absent))


PRESENCE_MODEL = Family(
    kind="naive-bayes",
    summary="naive Bayes on which terms are there, absent ones counting too",
    settings=SETTINGS,
    train=trained_by(train_on_presence),
    restore=restored_as(NaiveBayesOnPresence, "term_documents"),
    arrays={"term_documents": ArraySpec(("terms", "labels"), least=0.0), **OF_LABELS},
    weighting="presence",
    not_negative=True,
    on_presence=True,
    additive="term_documents",
    restraint=RESTRAINT,
    second_opinion="logistic",
    begins=_begins,
    weight="log odds",
    estimates=_presence_estimates,
)


@record(frozen=True, kw_only=True)
class ComplementNaiveBayes:
    """As `NaiveBayesOnCounts`, with the estimates of the other labels together.

    Complement naive Bayes (Rennie, Shih, Teevan & Karger 2003): a label is judged by how little the other labels are like it.

        P(term | not label) = (count of the term outside the label + s) / (count of all terms outside it + s · number of terms)
        score(document, label) = ln P(label) − Σ over terms of tf · ln P(term | not label)

    Since every estimate rests on the documents of all other labels, labels with few documents are not at a disadvantage."""

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
        return {"term_counts": self.term_counts, "label_documents": self.label_documents, "log_prior": self.log_prior}


def train_complement(
    matrix: csr_array | PartitionedMatrix, targets: Targets, log_prior: Floats, smoothing: float
) -> ComplementNaiveBayes:
    """Estimate from documents. matrix: (n, n_terms) CSR of non-negative values, usually counts."""
    return ComplementNaiveBayes(
        term_counts=label_sums(matrix, targets), label_documents=label_totals(targets), log_prior=log_prior, smoothing=smoothing
    )


COMPLEMENT_MODEL = Family(
    kind="naive-bayes",
    summary="naive Bayes on the counts of all other labels; for labels of very different size",
    settings=SETTINGS,
    train=trained_by(train_complement),
    restore=restored_as(ComplementNaiveBayes, "term_counts"),
    arrays={"term_counts": ArraySpec(("terms", "labels"), least=0.0), **OF_LABELS},
    weighting="count",
    not_negative=True,
    additive="term_counts",
    restraint=RESTRAINT,
    second_opinion="logistic",
    begins=begins,
    weight="log odds",
)


NAIVE_BAYES = replace(
    COUNTS_MODEL,
    summary="naive Bayes: from how often each term occurs in each label",
    event_models={"counts": COUNTS_MODEL, "presence": PRESENCE_MODEL, "complement": COMPLEMENT_MODEL},
)
