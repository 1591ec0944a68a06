"""What the event models of naive Bayes share: sums by label, priors, and what their records have in common."""

from collections.abc import Callable
from typing import Any

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import AnyArray, Floats
from upsort.core.classifiers.family import ArraySpec, StoredClassifier, TrainingData
from upsort.core.classifiers.fitted import FittedClassifier
from upsort.core.classifiers.priors import log_priors
from upsort.core.classifiers.targets import Targets
from upsort.core.parted import PartitionedMatrix
from upsort.core.plan import Classifier
from upsort.core.sparse import group_sums

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
