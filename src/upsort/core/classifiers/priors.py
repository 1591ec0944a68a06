"""The prior probabilities of labels that naive Bayes starts from."""

import numpy as np

from upsort.core import plan
from upsort.core.arrays import Floats


def log_priors(label_documents: Floats, settings: plan.Classifier, names: tuple[str, ...]) -> Floats:
    """(k,) ln P(label): from the documents of each label, uniform, or as given; given ones need not sum to 1.

    label_documents: (k,) > 0.
    """
    if isinstance(settings.prior, dict):
        given = settings.prior
        shares = np.array([given.get(name, 0.0) for name in names])
        shares = np.where(shares > 0, shares, min(given.values(), default=1.0))
    elif settings.prior == "uniform":
        shares = np.ones(len(names))
    else:
        shares = label_documents
    logs: Floats = np.log(shares / shares.sum())
    return logs
