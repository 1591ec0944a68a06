"""What the linear classifiers with a penalty share: a loss, minimised by `newton`."""

from scipy.sparse import csr_array

from upsort.core import plan
from upsort.core.classifiers.linear import Linear
from upsort.core.classifiers.losses import Loss
from upsort.core.classifiers.newton import Stopping, minimise
from upsort.core.classifiers.products import Products


def trained(
    matrix: csr_array,
    loss: Loss,
    n_labels: int,
    settings: plan.Classifier,
    penalty: float,
    start: Linear | None = None,
    products: Products | None = None,
    reference: float | None = None,
) -> Linear:
    """Train to the optimum.

    matrix: (n, n_terms) CSR, float64. start: weights to begin with, of the same terms and labels. products: of the matrix, and
    reference: the norm of the gradient at zero weights, where they are at hand. The result's `ended.reached` says whether the
    tolerance was met within the iterations allowed.
    """
    parameters, ended = minimise(
        products or Products(matrix),
        loss,
        n_labels,
        ridge=penalty * (1.0 - settings.sparsity) if settings.kind == "logistic" else penalty,
        lasso=penalty * settings.sparsity if settings.kind == "logistic" else 0.0,
        stopping=Stopping(settings.tolerance, settings.most_iterations, reference),
        start=start.parameters if start is not None else None,
    )
    return Linear.of(parameters, ended)
