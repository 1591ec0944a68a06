"""What a classifier learns from: the label of each document, and how much each document counts."""

import numpy as np

from upsort.core import plan
from upsort.core.arrays import Bools, Floats, Ints
from upsort.core.records import record


@record(frozen=True)
class Targets:
    """labels: (n,) numbers below n_labels. weights: (n,) > 0, how much each document counts; 1 on average as a rule.

    sets: (n, n_labels) where a document may have several labels or none; the labels then tell nothing.
    """

    labels: Ints
    n_labels: int
    weights: Floats
    sets: Bools | None = None

    @property
    def own(self) -> Bools:
        """(n, n_labels) which labels a document has."""
        return self.sets if self.sets is not None else as_sets(self.labels, self.n_labels)

    def rows(self, chosen: Ints | Bools) -> "Targets":
        """The targets of some of the documents."""
        sets = self.sets[chosen] if self.sets is not None else None
        return Targets(self.labels[chosen], self.n_labels, self.weights[chosen], sets)


def as_sets(labels: Ints, n_labels: int) -> Bools:
    """(n, n_labels) the sets that hold one label each. labels: (n,) numbers."""
    sets: Bools = labels[:, None] == np.arange(n_labels)
    return sets


def targets_of(
    labels: Ints,
    names: tuple[str, ...],
    settings: plan.Classifier,
    row_weights: Floats | None = None,
    sets: Bools | None = None,
) -> Targets:
    """Labels with the weights that a plan gives to documents and to labels.

    Balanced label weights are n / (k · documents of the label) (King & Zeng 2001). row_weights: (n,), scaled to a mean of 1.
    """
    n, k = labels.size, len(names)
    weights = np.ones(n) if row_weights is None else row_weights * (n / row_weights.sum())
    if sets is None:
        if settings.label_weights == "even":
            sizes = np.maximum(np.bincount(labels, minlength=k), 1)
            weights = weights * (n / (k * sizes))[labels]
        elif isinstance(settings.label_weights, dict):
            for name, weight in settings.label_weights.items():
                if name in names:
                    weights = np.where(labels == names.index(name), weights * weight, weights)
    return Targets(labels, k, weights, sets)
