"""What the linear classifiers with a penalty share: a loss, minimised by `newton`."""

from upsort.core import plan
from upsort.core.classifiers.linear import Linear
from upsort.core.classifiers.losses import Loss
from upsort.core.classifiers.newton import Objective, Stopping, minimise
from upsort.core.classifiers.products import Products


def objective_of(products: Products, loss: Loss, n_labels: int, settings: plan.Classifier, penalty: float) -> Objective:
    """What a plan minimises. The lasso part is logistic regression's alone."""
    lasso = settings.sparsity if settings.kind == "logistic" else 0.0
    return Objective(
        products=products, loss=loss, n_labels=n_labels, ridge=penalty * (1.0 - lasso), lasso=penalty * lasso
    )


def trained(
    objective: Objective, settings: plan.Classifier, start: Linear | None = None, reference: float | None = None
) -> Linear:
    """Train to the optimum.

    start: weights to begin with, of the same terms and labels. reference: the norm of the gradient at zero weights, where it
    is at hand. The result's `ended.reached` says whether the tolerance was met within the iterations allowed.
    """
    parameters, ended = minimise(
        objective,
        Stopping(settings.tolerance, settings.most_iterations, reference),
        start.parameters if start is not None else None,
    )
    return Linear.of(parameters, ended)
