"""The linear support vector machine with squared hinge loss, one label against the rest.

Minimises for each label, with y = ±1,

    Σ over documents of weight · max(0, 1 − y (x·w + b))² + penalty / 2 · ‖w‖²

(Cortes & Vapnik 1995 with squared slack variables; Keerthi & DeCoste 2005 for Newton's method on it). The intercept is not
penalised. Trained by `newton`, all labels side by side.
"""

from scipy.sparse import csr_array

from upsort.core import plan
from upsort.core.classifiers.linear import Linear
from upsort.core.classifiers.losses import SquaredHinge
from upsort.core.classifiers.newton import Stopping, minimise
from upsort.core.classifiers.products import Products
from upsort.core.classifiers.targets import Targets


def train(
    matrix: csr_array,
    targets: Targets,
    settings: plan.Classifier,
    penalty: float,
    start: Linear | None = None,
    products: Products | None = None,
) -> Linear:
    """Train to the optimum. The parameters are those of `logistic.train`."""
    parameters, ended = minimise(
        products or Products(matrix),
        SquaredHinge(targets.own, targets.weights),
        targets.n_labels,
        ridge=penalty,
        lasso=0.0,
        stopping=Stopping(settings.tolerance, settings.most_iterations),
        start=start.parameters if start is not None else None,
    )
    return Linear.of(parameters, ended)
