"""What a trained classifier can do, the linear rule, and the record that each family fills in; everything else reads it."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import field
from typing import NamedTuple, Protocol

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import AnyArray, Floats, Ints
from upsort.core.classifiers.losses import Loss
from upsort.core.classifiers.newton import OptimiserReport
from upsort.core.classifiers.problem_arrays import Targets
from upsort.core.lazy import record
from upsort.core.matrices.partitioned import PartitionedMatrix
from upsort.core.plan import Classifier, EventModel


@record(frozen=True)
class LinearRule:
    """score(document, label) = intercept[label] + Σ over terms of weight[term, label] · value[document, term].

    weights: (n_terms, n_labels) float64. intercept: (n_labels,) float64."""

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
        """parameters: (n_terms + 1, k) weights with the intercepts in the last row. scale: factors of the weights."""
        weights = parameters[:-1] if scale is None else parameters[:-1] * scale
        return Linear(LinearRule(np.ascontiguousarray(weights), parameters[-1].copy()), ended)

    @property
    def parameters(self) -> Floats:
        """(n_terms + 1, k), as `of` takes them."""
        return np.vstack((self.rule.weights, self.rule.intercept))


class FittedClassifier(Protocol):
    """A trained classifier."""

    @property
    def rule(self) -> LinearRule | None:
        """Its linear rule, where it has one."""

    @property
    def ended(self) -> OptimiserReport:
        """How its training ended."""

    def scores(self, matrix: csr_array) -> Floats:
        """(n, n_terms) CSR of values → (n, n_labels) scores; the largest decides."""

    def arrays(self) -> dict[str, AnyArray]:
        """All that is needed to have it back."""


def scores_of(fitted: FittedClassifier, matrix: csr_array | PartitionedMatrix) -> Floats:
    """(n, n_labels) the scores of documents, whoever keeps their rows."""
    return np.asarray(matrix.map_rows(_scores, fitted)) if isinstance(matrix, PartitionedMatrix) else fitted.scores(matrix)


def _scores(matrix: csr_array, fitted: FittedClassifier) -> Floats:
    return fitted.scores(matrix)


@record(frozen=True)
class TrainingData:
    """matrix: (n, n_terms) CSR, float64, in one piece or in parts. names: of the labels."""

    matrix: csr_array | PartitionedMatrix
    targets: Targets
    names: tuple[str, ...]


@record(frozen=True, kw_only=True)
class StoredClassifier:
    """What a sorter file holds of a classifier: its settings, its arrays by name, and how many terms and labels there are."""

    settings: Classifier
    arrays: Mapping[str, AnyArray]
    terms: int
    labels: int


@record(frozen=True)
class ArraySpec:
    """What an array of the sorter file must be like.

    dimensions: their names; those of one name are of one size. least: the least number that it may hold. points_into: the
    dimension whose places its numbers are. optional: whether it may be missing."""

    dimensions: tuple[str, ...]
    least: float | None = None
    points_into: str = ""
    optional: bool = False


@record(frozen=True, kw_only=True)
class Penalised:
    """Of a family whose weights are held down by a penalty.

    usual: the penalty where nobody names one. loss: what is minimised next to it, where that is a function of the scores alone,
    so that a training may begin with earlier weights. lasso: the share of the penalty on the sizes of the weights."""

    usual: float = 1.0
    loss: Callable[[Targets, Classifier], Loss] | None = None
    lasso: Callable[[Classifier], float] = field(default=lambda _: 0.0)


class Estimates(NamedTuple):
    """P(term | label) of some terms for one label, as fractions. above: (t,). absent: how many terms are absent from the
    document, and Σ ln(1 − P) over them, where they count."""

    above: Floats
    denominator: float
    absent: tuple[int, float] | None = None


@record(frozen=True)
class Question:
    """A question that a tree asks a document. term: that it asks for. there: whether the document has it. documents: of the
    training that were asked."""

    term: int
    there: bool
    documents: float


@record(frozen=True, kw_only=True)
class Vote:
    """A training document that has a say about another one. label: its label's number. similarity: their cosine. weight: how much
    the training document counts. says: what it adds to the score of its label."""

    label: int
    similarity: float
    weight: float
    says: float


@record(frozen=True, kw_only=True)
class Family:
    """A kind of classifier.

    kind: its name in a plan. told: what it is, in one line. settings: the keys of [classifier] that it reads, beside those that
    every kind does. train: data, settings and penalty to a classifier. restore: the classifier whose `arrays` these were; raises
    ValueError where they make no sense. arrays: what they must be like, by name.

    Traits: weighting, calibration: what `auto` represents. not_negative: whether values below 0 make no sense. on_presence:
    whether it sees of a value only that it is not 0. sets: whether a document may have several labels. penalised: where it is.
    additive: the array of counts that are added up when documents are added, which makes that exact; its settings are then those
    of naive Bayes. second_opinion: the kind that errs in other ways. searched: whether `upsort choose` tries it.

    Explaining: begins: what scores begin with, by name, where they are sums of pulls. weight: what a weight is. estimates: the
    fractions behind the weights of some terms for a label; estimates_need: the weighting without which they are none. questions:
    those that a document, (1, n_terms), is asked, and the training documents of each label that answered alike. leaves: the
    answers that lead to each leaf, as terms and whether they are there, and its training documents of each label. votes: the
    training documents whose labels such a document gets, most similar first, and their values, (votes, n_terms). looks_at_text:
    whether the document makes a difference.

    event_models: records of their own for the values of `classifier.event_model`, where the kind has several."""

    kind: str
    summary: str
    settings: tuple[str, ...] = ()
    train: Callable[[TrainingData, Classifier, float], FittedClassifier]
    restore: Callable[[StoredClassifier], FittedClassifier]
    arrays: Mapping[str, ArraySpec]
    weighting: str = "tfidf"
    calibration: str = "temperature"
    not_negative: bool = False
    on_presence: bool = False
    sets: bool = False
    penalised: Penalised | None = None
    additive: str = ""
    second_opinion: str = "naive-bayes"
    searched: bool = False
    begins: Callable[[FittedClassifier], Sequence[tuple[str, Floats]]] | None = None
    weight: str = "weight"
    estimates: Callable[[FittedClassifier, int, Ints], Estimates] | None = None
    estimates_need: str = ""
    questions: Callable[[FittedClassifier, csr_array], tuple[Sequence[Question], Floats]] | None = None
    leaves: Callable[[FittedClassifier], list[tuple[list[tuple[int, bool]], Floats]]] | None = None
    votes: Callable[[FittedClassifier, csr_array], tuple[Sequence[Vote], csr_array]] | None = None
    looks_at_text: bool = True
    event_models: Mapping[EventModel, "Family"] = field(default_factory=dict)


def intercept(fitted: FittedClassifier) -> list[tuple[str, Floats]]:
    """The beginnings of the scores of a linear rule."""
    return [("intercept", fitted.rule.intercept)] if fitted.rule is not None else []
