"""The kinds of classifier by name: how each is trained, and how each comes back from the arrays of a sorter file."""

from collections.abc import Mapping
from typing import Protocol

import numpy as np
from scipy.sparse import csr_array

from upsort.core import plan
from upsort.core.arrays import AnyArray, Floats, Ints
from upsort.core.classifiers import logistic, multinomial_nb
from upsort.core.classifiers.linear import LinearRule


class Fitted(Protocol):
    """A trained classifier."""

    @property
    def rule(self) -> LinearRule:
        """Its linear rule; the scores are logarithms of unnormalised probabilities."""

    def arrays(self) -> dict[str, Floats | Ints]:
        """All that is needed to have it back."""


ARRAY_NAMES: dict[str, tuple[str, ...]] = {
    "multinomial-nb": ("term_counts", "label_documents"),
    "logistic": ("weights", "intercept"),
}


SHAPES: dict[str, tuple[str, ...]] = {
    "term_counts": ("terms", "labels"),
    "label_documents": ("labels",),
    "weights": ("terms", "labels"),
    "intercept": ("labels",),
}
"""The dimensions of each array by name; those of one name are of one size."""


def train(matrix: csr_array, labels: Ints, n_labels: int, settings: plan.Classifier) -> Fitted:
    """Train the kind that `settings` names. matrix: (n, n_terms) CSR, float64; labels: (n,) numbers below n_labels."""
    match settings.kind:
        case "multinomial-nb":
            return multinomial_nb.train(matrix, labels, n_labels, settings)
        case "logistic":
            return logistic.train(matrix, labels, n_labels, settings)


def restored(settings: plan.Classifier, arrays: Mapping[str, AnyArray]) -> Fitted:
    """The classifier that `arrays` (named as in ARRAY_NAMES) were taken from."""
    match settings.kind:
        case "multinomial-nb":
            return multinomial_nb.MultinomialNaiveBayes(
                arrays["term_counts"].astype(np.float64), arrays["label_documents"].astype(np.int64), settings.smoothing
            )
        case "logistic":
            return logistic.Logistic(LinearRule(arrays["weights"], arrays["intercept"]))
