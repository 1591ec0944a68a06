"""The linear support vector machine with squared hinge loss, one label against the rest.

Minimises for each label, with y = ±1,

    Σ over documents of weight · max(0, 1 − y (x·w + b))² + penalty / 2 · ‖w‖²

(Cortes & Vapnik 1995 with squared slack variables; Keerthi & DeCoste 2005 for Newton's method on it). The intercept is not
penalised. Trained by `newton`, all labels side by side.
"""

from upsort.core import plan
from upsort.core.classifiers import penalised
from upsort.core.classifiers.family import Family, Penalised, intercept
from upsort.core.classifiers.losses import SquaredHinge
from upsort.core.classifiers.targets import Targets


def loss_of(targets: Targets, _: plan.Classifier) -> SquaredHinge:
    """The loss for documents and their labels."""
    return SquaredHinge(targets.own, targets.weights)


_PENALISED = Penalised(loss=loss_of)
FAMILY = Family(
    kind="svm",
    summary="a linear support vector machine, each label against the rest",
    settings=penalised.SETTINGS,
    train=penalised.trained_by(_PENALISED),
    restore=penalised.restored,
    arrays=penalised.ARRAYS,
    sets=True,
    penalised=_PENALISED,
    restraint=penalised.RESTRAINT,
    begins=intercept,
)
