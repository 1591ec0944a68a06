"""Logistic regression: multinomial, or one label against the rest.

Minimises over the weights W (n_terms, k) and the intercepts b (k,)

    Σ over documents of weight · loss(own label) + penalty · ((1 − sparsity) / 2 · Σ W² + sparsity · Σ |W|)

with the loss −ln softmax(x·W + b)[own label] (multinomial; Hastie, Tibshirani & Friedman 2009, section 4.4), or for each label
ln(1 + exp(−y (x·w + b))) with y = ±1 (one against the rest). The intercepts are not penalised; the mixed penalty is the elastic
net of Zou & Hastie 2005. The penalty is the inverse variance of a normal prior of mean 0 on each weight, so that its meaning
does not change with the number of documents. Trained by `newton`, whose stopping rule is the gradient's norm relative to its norm
at zero weights.
"""

from scipy.sparse import csr_array

from upsort.core import plan
from upsort.core.classifiers import losses
from upsort.core.classifiers.linear import Linear
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
    """Train to the optimum.

    matrix: (n, n_terms) CSR, float64. start: weights to begin with, of the same terms and labels. products: of the matrix, where
    they are at hand. The result's `ended.reached` says whether the tolerance was met within the iterations allowed.
    """
    loss: losses.Loss
    if settings.contrast == "multinomial" and targets.sets is None:
        loss = losses.Softmax(targets.labels, targets.weights)
    else:
        loss = losses.Logistic(targets.own, targets.weights)
    parameters, ended = minimise(
        products or Products(matrix),
        loss,
        targets.n_labels,
        ridge=penalty * (1.0 - settings.sparsity),
        lasso=penalty * settings.sparsity,
        stopping=Stopping(settings.tolerance, settings.most_iterations),
        start=start.parameters if start is not None else None,
    )
    return Linear.of(parameters, ended)
