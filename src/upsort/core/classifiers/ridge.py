"""Ridge regression on labels coded ±1, one label against the rest.

Minimises for each label, with y = ±1,

    Σ over documents of weight · (y − x·w − b)² + penalty / 2 · ‖w‖²

(Hoerl & Kennard 1970; Hastie, Tibshirani & Friedman 2009, sections 3.4.1 and 4.2). The intercept is not
penalised. Trained by `newton`, all labels side by side; a quadratic, so that a few steps suffice.
"""

from scipy.sparse import csr_array

from upsort.core import plan
from upsort.core.classifiers.linear import Linear
from upsort.core.classifiers.losses import Squares
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
        Squares(targets.own, targets.weights),
        targets.n_labels,
        ridge=penalty,
        lasso=0.0,
        stopping=Stopping(settings.tolerance, settings.most_iterations),
        start=start.parameters if start is not None else None,
    )
    return Linear.of(parameters, ended)
