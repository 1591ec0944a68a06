"""Logistic regression: multinomial, or one label against the rest.

Minimises over the weights W (n_terms, k) and the intercepts b (k,)

Σ over documents of weight · loss(own label) + penalty · ((1 − sparsity) / 2 · Σ W² + sparsity · Σ |W|)

with the loss −ln softmax(x·W + b)[own label] (multinomial; Hastie, Tibshirani & Friedman 2009, section 4.4), or for each
label ln(1 + exp(−y (x·w + b))) with y = ±1 (one against the rest). The intercepts are not penalised; the mixed penalty is the
elastic net of Zou & Hastie 2005. The penalty is the inverse variance of a normal prior of mean 0 on each weight, so that its
meaning does not change with the number of documents. Trained by `newton`, whose stopping rule is the gradient's norm relative
to its norm at zero weights.
"""

from upsort.core import plan
from upsort.core.classifiers import penalised
from upsort.core.classifiers.family import Family, Penalised, intercept
from upsort.core.classifiers.losses import Logistic, Softmax
from upsort.core.classifiers.targets import Targets


def loss_of(targets: Targets, settings: plan.Classifier) -> Softmax | Logistic:
    """The loss for documents and their labels. Where documents may have several labels each is told from the rest."""
    if settings.contrast == "multinomial" and targets.sets is None:
        return Softmax(labels=targets.labels, weights=targets.weights, n_labels=targets.n_labels)
    return Logistic(targets.own, targets.weights)


_PENALISED = Penalised(usual=0.1, loss=loss_of, lasso=lambda settings: settings.sparsity)
FAMILY = Family(
    kind="logistic",
    summary="logistic regression",
    settings=(*penalised.SETTINGS, "sparsity", "contrast"),
    train=penalised.trained_by(_PENALISED),
    restore=penalised.restored,
    arrays=penalised.ARRAYS,
    sets=True,
    penalised=_PENALISED,
    restraint=penalised.RESTRAINT,
    begins=intercept,
)
