"""Ridge regression on labels coded ±1, one label against the rest.

Minimises for each label, with y = ±1,

    Σ over documents of weight · (y − x·w − b)² + penalty / 2 · ‖w‖²

(Hoerl & Kennard 1970; Hastie, Tibshirani & Friedman 2009, sections 3.4.1 and 4.2). The intercept is not
penalised. Trained by `newton`, all labels side by side; a quadratic, so that a few steps suffice.
"""

from upsort.core import plan
from upsort.core.classifiers import penalised
from upsort.core.classifiers.family import Family, Penalised, intercept
from upsort.core.classifiers.losses import Squares
from upsort.core.classifiers.targets import Targets


def loss_of(targets: Targets, _: plan.Classifier) -> Squares:
    """The loss for documents and their labels."""
    return Squares(targets.own, targets.weights)


_PENALISED = Penalised(loss=loss_of)
FAMILY = Family(
    kind="ridge",
    summary="ridge regression on labels coded ±1",
    settings=penalised.SETTINGS,
    train=penalised.trained_by(_PENALISED),
    restore=penalised.restored,
    arrays=penalised.ARRAYS,
    sets=True,
    penalised=_PENALISED,
    restraint=penalised.RESTRAINT,
    begins=intercept,
)
