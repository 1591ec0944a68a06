"""The linear families: logistic regression, support vector machines, ridge regression, log-count ratios and centroids."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import field
from functools import cached_property

import numpy as np
from scipy.sparse import csr_array

from upsort.core import plan
from upsort.core.arrays import AnyArray, Floats
from upsort.core.classifiers.dual import DualAscent
from upsort.core.classifiers.family import (
    ArraySpec,
    Family,
    FittedClassifier,
    Linear,
    LinearRule,
    Penalised,
    StoredClassifier,
    TrainingData,
    intercept,
)
from upsort.core.classifiers.losses import Logistic, Softmax, SquaredHinge, Squares
from upsort.core.classifiers.naive_bayes import label_sums
from upsort.core.classifiers.newton import Objective, OptimiserReport, Stopping, ascent_on, minimise, reference_norm
from upsort.core.classifiers.optimiser_partitions import PartitionStates
from upsort.core.classifiers.problem_arrays import Targets
from upsort.core.lazy import record
from upsort.core.matrices.partitioned import PartitionedMatrix, Sliced, as_partitioned
from upsort.core.plan import Classifier

SETTINGS = ("penalty", "tolerance", "most_iterations")
ARRAYS = {"weights": ArraySpec(("terms", "labels")), "intercept": ArraySpec(("labels",))}


def restored(stored: StoredClassifier) -> Linear:
    """The classifier whose arrays these were."""
    return Linear(LinearRule(stored.arrays["weights"], stored.arrays["intercept"]))


class LinearTraining:
    """Trains the classifiers of one family on some documents, where what is minimised is a function of the scores alone.

    Of two labels that exclude each other one column of weights is trained, of the second label: those of the first are the same
    with the other sign, since the minimum is unique and does not change when the labels change places. A softmax of two scores
    is a function of their difference, u: with weights −u / 2 and u / 2 its penalty is half of that on u."""

    def __init__(self, data: TrainingData, settings: Classifier, penalised: Penalised) -> None:
        assert penalised.loss is not None
        loss = penalised.loss(data.targets, settings)
        self.settings, self.lasso = settings, penalised.lasso(settings)
        self.mirrored = data.targets.n_labels == 2 and data.targets.sets is None
        self.share = 1.0 if loss.separable or not self.mirrored else 0.5
        self.n_columns = 1 if self.mirrored else data.targets.n_labels
        self.partitions = PartitionStates(data.matrix, loss.of_second() if self.mirrored else loss)

    def objective(self, penalty: float) -> Objective:
        """What is minimised."""
        ridge = self.share * penalty * (1.0 - self.lasso)
        return Objective(partitions=self.partitions, n_labels=self.n_columns, ridge=ridge, lasso=penalty * self.lasso)

    def train(
        self, penalty: float, start: Floats | None = None, reference: float | None = None, ascent: DualAscent | None = None
    ) -> Linear:
        """Train to the optimum.

        start: (n_terms + 1, k) weights to begin with. reference: the norm of the gradient at zero weights, where it is at hand.
        ascent: passes to resume. The result's `ended.reached` says whether the tolerance was met within the iterations allowed.
        """
        if start is not None and self.mirrored:
            start = (start[:, 1:] - start[:, :1]) * (0.5 / self.share)
        stopping = Stopping(self.settings.tolerance, self.settings.most_iterations, reference)
        parameters, ended = minimise(self.objective(penalty), stopping, start, ascent)
        if self.mirrored:
            parameters = np.hstack((-self.share * parameters, self.share * parameters))
        return Linear.of(parameters, ended)


def trained_by(penalised: Penalised) -> Callable[[TrainingData, Classifier, float], FittedClassifier]:
    """What a record's `train` is where a loss of the scores is minimised."""
    return lambda data, settings, penalty: LinearTraining(data, settings, penalised).train(penalty)


def path(data: TrainingData, settings: Classifier, penalised: Penalised, penalties: Sequence[float]) -> Iterator[Linear]:
    """The classifiers of a descending grid of penalties, evenly apart on a logarithmic scale, of a loss that is a function of the
    scores alone.

    Without a lasso part each begins where the ones before point to: their weights are taken as a curve over the logarithm of the
    penalty, whose last three points are continued by a parabola (two by a line). With one, each begins where the last ended. On a
    large problem the passes over the documents go on from penalty to penalty."""
    training = LinearTraining(data, settings, penalised)
    fitted: list[Linear] = []
    smooth = training.lasso == 0.0
    reference = reference_norm(training.objective(0.0)) if smooth else None
    ascent = ascent_on(training.objective(penalties[0]))
    for penalty in penalties:
        if ascent is not None:
            ascent.with_penalty(training.objective(penalty).ridge)
            fitted = [training.train(penalty, None, reference, ascent)]
        else:
            fitted = [*fitted[-2 if smooth else 1 :], training.train(penalty, _extrapolated(fitted), reference)]
        yield fitted[-1]


def _extrapolated(before: Sequence[Linear]) -> Floats | None:
    """(n_terms + 1, k) where the weights of up to three consecutive penalties point to."""
    if not before:
        return None
    shares = {1: (1.0,), 2: (-1.0, 2.0), 3: (1.0, -3.0, 3.0)}[len(before)]
    return np.asarray(sum(share * model.parameters for share, model in zip(shares, before, strict=True)))


def logistic_loss(targets: Targets, settings: plan.Classifier) -> Softmax | Logistic:
    """The loss for documents and their labels. Where documents may have several labels each is reported from the rest.

    Logistic regression: multinomial, or one label against the rest.

    Minimises over the weights W (n_terms, k) and the intercepts b (k,)

    Σ over documents of weight · loss(own label) + penalty · ((1 − sparsity) / 2 · Σ W² + sparsity · Σ |W|)

    with the loss −ln softmax(x·W + b)[own label] (multinomial; Hastie, Tibshirani & Friedman 2009, section 4.4), or for each
    label ln(1 + exp(−y (x·w + b))) with y = ±1 (one against the rest). The intercepts are not penalised; the mixed penalty is the
    elastic net of Zou & Hastie 2005. The penalty is the inverse variance of a normal prior of mean 0 on each weight, so that its
    meaning does not change with the number of documents. Trained by `newton`, whose stopping rule is the gradient's norm relative
    to its norm at zero weights."""
    if settings.contrast == "multinomial" and targets.sets is None:
        return Softmax(labels=targets.labels, weights=targets.weights, n_labels=targets.n_labels)
    return Logistic(targets.own, targets.weights)


_PENALISED = Penalised(usual=0.1, loss=logistic_loss, lasso=lambda settings: settings.sparsity)
LOGISTIC = Family(
    kind="logistic",
    searched=True,
    summary="logistic regression",
    settings=(*SETTINGS, "sparsity", "contrast"),
    train=trained_by(_PENALISED),
    restore=restored,
    arrays=ARRAYS,
    sets=True,
    penalised=_PENALISED,
    begins=intercept,
)


def hinge_loss(targets: Targets, _: plan.Classifier) -> SquaredHinge:
    """The loss for documents and their labels.

    The linear support vector machine with squared hinge loss, one label against the rest.

    Minimises for each label, with y = ±1,

        Σ over documents of weight · max(0, 1 − y (x·w + b))² + penalty / 2 · ‖w‖²

    (Cortes & Vapnik 1995 with squared slack variables; Keerthi & DeCoste 2005 for Newton's method on it). The intercept is not
    penalised. Trained by `newton`, all labels side by side."""
    return SquaredHinge(targets.own, targets.weights)


_SVM_PENALISED = Penalised(loss=hinge_loss)
SVM = Family(
    kind="svm",
    searched=True,
    summary="a linear support vector machine, each label against the rest",
    settings=SETTINGS,
    train=trained_by(_SVM_PENALISED),
    restore=restored,
    arrays=ARRAYS,
    sets=True,
    penalised=_SVM_PENALISED,
    begins=intercept,
)


def squared_loss(targets: Targets, _: plan.Classifier) -> Squares:
    """The loss for documents and their labels.

    Ridge regression on labels coded ±1, one label against the rest.

    Minimises for each label, with y = ±1,

        Σ over documents of weight · (y − x·w − b)² + penalty / 2 · ‖w‖²

    (Hoerl & Kennard 1970; Hastie, Tibshirani & Friedman 2009, sections 3.4.1 and 4.2). The intercept is not penalised. Trained by
    `newton`, all labels side by side; a quadratic, so that a few steps suffice."""
    return Squares(targets.own, targets.weights)


_RIDGE_PENALISED = Penalised(loss=squared_loss)
RIDGE = Family(
    kind="ridge",
    searched=True,
    summary="ridge regression on labels coded ±1",
    settings=SETTINGS,
    train=trained_by(_RIDGE_PENALISED),
    restore=restored,
    arrays=ARRAYS,
    sets=True,
    penalised=_RIDGE_PENALISED,
    begins=intercept,
)


_FEW_LABELS, _MANY_LABELS = 0.25, 0.75
"""The usual interpolation with two labels and with more."""


def train_ratio_svm(matrix: csr_array | PartitionedMatrix, targets: Targets, settings: plan.Classifier, penalty: float) -> Linear:
    """Train to the optimum. matrix: (n, n_terms) CSR, float64, ≥ 0, usually presence.

    The linear support vector machine on naive Bayes log-count ratios (Wang & Manning 2012, *Baselines and bigrams*), one label
    against the rest.

    With p the label's weighted sums of term values plus 1 divided by their total, and q the same of all other labels, each term
    is multiplied by r = ln(p / q) before a support vector machine is trained on it. The machine's weights v are drawn towards
    their mean size, v' = (1 − β) · mean |v| + β · v with β = `interpolation` (their section 2.3); the rule's weights are r · v'.

    Their β, 0.25, is for two labels, whose machines are mirror images. With more labels each machine has a mean size of its own,
    and the scores of rare labels rise or fall against the others: there β is 0.75 (docs/methods.md has what that brings)."""
    ratios = label_ratios(matrix, targets)
    parameters, ended = minimise(
        Objective(
            partitions=PartitionStates(matrix, SquaredHinge(targets.own, targets.weights), ratios),
            n_labels=targets.n_labels,
            ridge=penalty,
        ),
        Stopping(settings.tolerance, settings.most_iterations),
    )
    beta = settings.interpolation
    if isinstance(beta, str):
        beta = _FEW_LABELS if targets.n_labels <= 2 else _MANY_LABELS
    size = np.abs(parameters[:-1]).mean(axis=0)
    parameters[:-1] = (1.0 - beta) * size + beta * parameters[:-1]
    return Linear.of(parameters, ended, scale=ratios)


def label_ratios(matrix: csr_array | PartitionedMatrix, targets: Targets) -> Floats:
    """(n_terms, k) ln(p / q) of each term and label."""
    own, weights = targets.own, targets.weights
    inside, outside = own * weights[:, None], ~own * weights[:, None]
    values, rest = (np.asarray(as_partitioned(matrix).sum(_sums, Sliced(part))) for part in (inside, outside))
    p, q = values + 1.0, rest + 1.0
    ratios: Floats = np.log(p / p.sum(axis=0)) - np.log(q / q.sum(axis=0))
    return ratios


def _sums(matrix: csr_array, weights: Floats) -> Floats:
    return np.asarray(matrix.T @ weights)


_RATIO_SVM_PENALISED = Penalised()
RATIO_SVM = Family(
    kind="ratio-svm",
    searched=True,
    summary="a linear support vector machine on terms weighted by the log ratios of their counts in and outside the label",
    settings=(*SETTINGS, "interpolation"),
    train=lambda data, settings, penalty: train_ratio_svm(data.matrix, data.targets, settings, penalty),
    weighting="presence",
    not_negative=True,
    restore=restored,
    arrays=ARRAYS,
    sets=True,
    penalised=_RATIO_SVM_PENALISED,
    begins=intercept,
)


@record(frozen=True)
class Centroids:
    """sums: (n_terms, n_labels) float64, each label's documents added up."""

    sums: Floats
    ended: OptimiserReport = field(default_factory=OptimiserReport, compare=False)

    @cached_property
    def rule(self) -> LinearRule:
        """Centroids of unit length, without intercepts."""
        lengths = np.sqrt(np.einsum("ij,ij->j", self.sums, self.sums))
        return LinearRule(self.sums / np.where(lengths > 0, lengths, 1.0), np.zeros(self.sums.shape[1]))

    def scores(self, matrix: csr_array) -> Floats:
        """Similarities to the centroids."""
        return self.rule.scores(matrix)

    def arrays(self) -> dict[str, AnyArray]:
        """What the sorter file keeps."""
        return {"sums": self.sums}


def train_centroids(matrix: csr_array | PartitionedMatrix, targets: Targets) -> Centroids:
    """Add up. matrix: (n, n_terms) CSR, rows of unit length for cosines.

    Nearest centroid (Rocchio 1971; Manning, Raghavan & Schütze 2008, section 14.2): the label whose mean document is most
    similar.

    A label's centroid is the sum of its documents; score(document, label) = Σ value · centroid / ‖centroid‖, which for documents
    of unit length is the cosine."""
    return Centroids(label_sums(matrix, targets))


CENTROID = Family(
    kind="centroid",
    searched=True,
    summary="the label whose mean document is most similar",
    train=lambda data, settings, penalty: train_centroids(data.matrix, data.targets),
    restore=lambda stored: Centroids(stored.arrays["sums"]),
    arrays={"sums": ArraySpec(("terms", "labels"))},
    begins=intercept,
)
