"""The linear support vector machine with squared hinge loss, one label against the rest.

Minimises for each label, with y = ±1,

    Σ over documents of weight · max(0, 1 − y (x·w + b))² + penalty / 2 · ‖w‖²

(Cortes & Vapnik 1995 with squared slack variables; Keerthi & DeCoste 2005 for Newton's method on it). The intercept is not
penalised. Trained by `newton`, all labels side by side.
"""

from upsort.core.classifiers.losses import SquaredHinge
from upsort.core.classifiers.targets import Targets


def loss_of(targets: Targets) -> SquaredHinge:
    """The loss for documents and their labels."""
    return SquaredHinge(targets.own, targets.weights)
