"""The kinds of classifier by name: how each is trained, and how each comes back from the arrays of a sorter file."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TypedDict

import numpy as np
from scipy.sparse import csr_array

from upsort.core import plan
from upsort.core.arrays import AnyArray
from upsort.core.classifiers import (
    baselines,
    bernoulli_nb,
    centroid,
    complement_nb,
    logistic,
    multinomial_nb,
    neighbours,
    ridge,
    svm,
    tree,
    weighted_svm,
)
from upsort.core.classifiers.fitted import Fitted
from upsort.core.classifiers.linear import Linear, LinearRule
from upsort.core.classifiers.losses import Loss
from upsort.core.classifiers.newton import Ended, reference_norm
from upsort.core.classifiers.penalised import objective_of, trained
from upsort.core.classifiers.priors import log_priors
from upsort.core.classifiers.products import Products
from upsort.core.classifiers.targets import Targets
from upsort.core.errors import UsageProblem

_LINEAR = ("weights", "intercept")
_COUNTS = ("term_counts", "label_documents", "log_prior")
ARRAY_NAMES: dict[str, tuple[str, ...]] = {
    "multinomial-nb": _COUNTS,
    "complement-nb": _COUNTS,
    "bernoulli-nb": ("term_documents", "label_documents", "log_prior"),
    "logistic": _LINEAR,
    "svm": _LINEAR,
    "ridge": _LINEAR,
    "weighted-svm": _LINEAR,
    "centroid": ("sums",),
    "neighbours": ("neighbour_values", "neighbour_terms", "neighbour_starts", "neighbour_labels"),
    "tree": ("term", "present", "absent", "support"),
    "majority": ("label_documents",),
    "chance": ("label_documents",),
}
SHAPES: dict[str, tuple[str, ...]] = {
    "term_counts": ("terms", "labels"),
    "term_documents": ("terms", "labels"),
    "label_documents": ("labels",),
    "log_prior": ("labels",),
    "weights": ("terms", "labels"),
    "intercept": ("labels",),
    "sums": ("terms", "labels"),
    "neighbour_values": ("values",),
    "neighbour_terms": ("values",),
    "neighbour_starts": ("documents and one",),
    "neighbour_labels": ("documents",),
    "neighbour_weights": ("documents",),
    "term": ("nodes",),
    "present": ("nodes",),
    "absent": ("nodes",),
    "support": ("nodes", "labels"),
    "calibration_slopes": ("slopes",),
    "calibration_offsets": ("slopes",),
    "calibration_knots": ("knots", "knot columns"),
    "thresholds": ("labels",),
    "decision": ("labels", "labels"),
}
"""The dimensions of each array by name; those of one name are of one size."""

PENALTIES = tuple(float(10.0 ** (exponent / 3)) for exponent in range(4, -6, -1))
"""The penalties that `auto` chooses from: ten, from about 21 down to about 0.02."""


USUAL_PENALTY = {"logistic": 0.1}
"""The penalty where nobody names one; 1 for kinds not named here. bench/penalties.py shows how good it is."""


@dataclass(frozen=True)
class TrainingData:
    """matrix: (n, n_terms) CSR, float64. names: of the labels."""

    matrix: csr_array
    targets: Targets
    names: tuple[str, ...]


def train(data: TrainingData, settings: plan.Classifier, penalty: float = 1.0) -> Fitted:
    """Train the kind that `settings` names, from nothing.

    Raises UsageProblem for values below 0 where the kind cannot take them.
    """
    matrix, targets = data.matrix, data.targets
    if settings.kind in plan.NOT_NEGATIVE_KINDS and matrix.nnz and matrix.data.min() < 0:
        raise UsageProblem(
            f"{settings.kind} needs values that are not below 0; number columns, vectors and hashed terms have some.",
            "Leave those out, or use --set classifier.kind=logistic or svm.",
        )
    match settings.kind:
        case "multinomial-nb" | "complement-nb":
            prior = log_priors(multinomial_nb.label_totals(targets), settings, data.names)
            if settings.kind == "multinomial-nb":
                return multinomial_nb.train(matrix, targets, prior, settings.smoothing)
            return complement_nb.train(matrix, targets, prior, settings.smoothing)
        case "bernoulli-nb":
            prior = log_priors(multinomial_nb.label_totals(targets), settings, data.names)
            return bernoulli_nb.train(matrix, targets, prior, settings.smoothing)
        case "logistic" | "svm" | "ridge":
            loss = loss_of(targets, settings)
            return trained(objective_of(Products(matrix), loss, targets.n_labels, settings, penalty), settings)
        case "weighted-svm":
            return weighted_svm.train(matrix, targets, settings, penalty)
        case "centroid":
            return centroid.train(matrix, targets)
        case "neighbours":
            return neighbours.train(matrix, targets, settings.nearest)
        case "tree":
            return tree.train(matrix, targets, settings.depth, settings.least_in_leaf)
        case "majority":
            return baselines.train_majority(targets)
        case "chance":
            return baselines.train_chance(targets)


def loss_of(targets: Targets, settings: plan.Classifier) -> Loss:
    """The loss of a linear kind with a penalty."""
    match settings.kind:
        case "svm":
            return svm.loss_of(targets)
        case "ridge":
            return ridge.loss_of(targets)
        case _:
            return logistic.loss_of(targets, settings)


def path(data: TrainingData, settings: plan.Classifier, penalties: Sequence[float] = PENALTIES) -> list[Fitted]:
    """The classifiers of a descending grid of penalties, evenly apart on a logarithmic scale.

    Without a lasso part each begins where the ones before point to: their weights are taken as a curve over the logarithm of
    the penalty, whose last three points are continued by a parabola (two by a line). With one, each begins where the last
    ended.
    """
    if settings.kind == "weighted-svm":
        return [train(data, settings, penalty) for penalty in penalties]
    fitted: list[Linear] = []
    products = Products(data.matrix)
    loss = loss_of(data.targets, settings)
    k = data.targets.n_labels
    smooth = settings.kind != "logistic" or settings.sparsity == 0.0
    reference = reference_norm(objective_of(products, loss, k, settings, 0.0)) if smooth else None
    for penalty in penalties:
        start = _continued(fitted[-3:] if smooth else fitted[-1:])
        fitted.append(trained(objective_of(products, loss, k, settings, penalty), settings, start, reference))
    return [*fitted]


def _continued(before: Sequence[Linear]) -> Linear | None:
    """Where the weights of up to three consecutive penalties point to."""
    if not before:
        return None
    shares = {1: (1.0,), 2: (-1.0, 2.0), 3: (1.0, -3.0, 3.0)}[len(before)]
    weights = sum(share * one.parameters for share, one in zip(shares, before, strict=True))
    return Linear.of(np.asarray(weights), Ended())


def restored(settings: plan.Classifier, arrays: Mapping[str, AnyArray], n_terms: int, n_labels: int) -> Fitted:
    """The classifier that `arrays` (named as in ARRAY_NAMES) were taken from. Raises ValueError where they make no sense."""
    match settings.kind:
        case "multinomial-nb":
            return multinomial_nb.MultinomialNaiveBayes(
                term_counts=_counts(arrays, "term_counts"), **_sizes(arrays), smoothing=settings.smoothing
            )
        case "complement-nb":
            return complement_nb.ComplementNaiveBayes(
                term_counts=_counts(arrays, "term_counts"), **_sizes(arrays), smoothing=settings.smoothing
            )
        case "bernoulli-nb":
            return bernoulli_nb.BernoulliNaiveBayes(
                term_documents=_counts(arrays, "term_documents"), **_sizes(arrays), smoothing=settings.smoothing
            )
        case "logistic" | "svm" | "ridge" | "weighted-svm":
            return Linear(LinearRule(arrays["weights"], arrays["intercept"]))
        case "centroid":
            return centroid.Centroids(arrays["sums"])
        case "neighbours":
            return _neighbours(settings, arrays, n_terms, n_labels)
        case "tree":
            return _tree(arrays, n_terms)
        case "majority":
            return baselines.Majority(arrays["label_documents"])
        case "chance":
            return baselines.Chance(arrays["label_documents"])


class _Sizes(TypedDict):
    label_documents: AnyArray
    log_prior: AnyArray


def _sizes(arrays: Mapping[str, AnyArray]) -> _Sizes:
    return {"label_documents": arrays["label_documents"], "log_prior": arrays["log_prior"]}


def _counts(arrays: Mapping[str, AnyArray], name: str) -> AnyArray:
    if (arrays[name] < 0).any():
        raise ValueError("counts below 0")
    return arrays[name]


def _neighbours(
    settings: plan.Classifier, arrays: Mapping[str, AnyArray], n_terms: int, n_labels: int
) -> neighbours.Neighbours:
    starts, terms, labels = (arrays[f"neighbour_{name}"] for name in ("starts", "terms", "labels"))
    sound = (
        starts.size == labels.size + 1
        and labels.size > 0
        and starts[0] == 0
        and starts[-1] == terms.size
        and (np.diff(starts) >= 0).all()
        and (terms.size == 0 or (terms.min() >= 0 and terms.max() < n_terms))
        and labels.min() >= 0
        and labels.max() < n_labels
    )
    if not sound:
        raise ValueError("neighbours that point nowhere")
    documents = csr_array((arrays["neighbour_values"], terms, starts), shape=(labels.size, n_terms))
    weights = arrays.get("neighbour_weights", np.ones(labels.size))
    if (weights < 0).any() or not weights.any():
        raise ValueError("weights below 0")
    return neighbours.Neighbours(
        documents=documents,
        labels=labels.astype(np.int64),
        weights=weights,
        n_labels=n_labels,
        nearest=settings.nearest,
    )


def _tree(arrays: Mapping[str, AnyArray], n_terms: int) -> tree.Tree:
    term, present, absent = (arrays[name].astype(np.int64) for name in ("term", "present", "absent"))
    asks = term != tree.LEAF
    places = np.arange(term.size)
    sound = term.size > 0 and bool((term >= tree.LEAF).all() and (term < n_terms).all())
    for following in (present, absent):
        sound = sound and bool((following[asks] > places[asks]).all() and (following[asks] < term.size).all())
    if not sound:
        raise ValueError("a tree whose nodes point nowhere")
    return tree.Tree(term=term, present=present, absent=absent, support=arrays["support"])
