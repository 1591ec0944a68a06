"""Which unlabelled documents to label next: the least certain ones, spread over different contents.

Uncertainty is the entropy of a document's probabilities (Lewis & Gale 1994 for the idea). Of the ten times as many least
certain documents as are wanted, one after the other is taken that is least like those taken before: the product of its
entropy and one minus its largest cosine to them is highest. The first is the least certain; of equals a seeded order decides.
"""

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Floats, Ints
from upsort.core.features.weighting import unit_length

_POOL = 10


def entropies(probabilities: Floats) -> Floats:
    """(n,) in bits."""
    logs = np.log2(np.maximum(probabilities, 1e-300))
    found: Floats = -(probabilities * logs).sum(axis=1)
    return found


def choose(matrix: csr_array, probabilities: Floats, most: int, seed: int) -> Ints:
    """The places of the documents to label, in order. matrix: (n, n_terms); probabilities: (n, k)."""
    n = probabilities.shape[0]
    uncertain = entropies(probabilities)
    shuffled = np.random.default_rng(seed).permutation(n)
    pool = shuffled[np.argsort(-uncertain[shuffled], kind="stable")][: _POOL * most]
    unit = unit_length(csr_array(matrix[pool]))
    closest = np.zeros(pool.size)
    taken: list[int] = []
    free = np.ones(pool.size, dtype=bool)
    for _ in range(min(most, pool.size)):
        merit = np.where(free, uncertain[pool] * (1.0 - np.clip(closest, 0.0, 1.0)), -1.0)
        best = int(np.argmax(merit))
        taken.append(int(pool[best]))
        free[best] = False
        similar = np.asarray((unit @ csr_array(unit[[best]]).T).toarray()).reshape(-1)
        closest = np.maximum(closest, similar)
    return np.array(taken, dtype=np.int64)
