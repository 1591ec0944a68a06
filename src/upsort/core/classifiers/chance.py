"""What any classifier must be better than: labels drawn at random in their shares."""

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Floats
from upsort.core.classifiers.family import Family
from upsort.core.classifiers.majority import ARRAYS, Majority
from upsort.core.classifiers.naive_bayes.sums import label_totals
from upsort.core.records import record


@record(frozen=True)
class Chance(Majority):
    """A label drawn for each document, each as often as in training.

    To ln of the share is added a number of the standard Gumbel distribution, drawn from the document itself: the largest sum
    is then a draw from the shares (Gumbel 1954), and the same document always gets the same label.
    """

    def scores(self, matrix: csr_array) -> Floats:
        """The draws."""
        scores = super().scores(matrix)
        rounded = np.round(matrix.data * 1e6).astype(np.int64).astype(np.uint64)
        mixed = (rounded * np.uint64(0x9E3779B97F4A7C15)) ^ (
            matrix.indices.astype(np.uint64) * np.uint64(0xC2B2AE3D27D4EB4F)
        )
        running = np.concatenate((np.zeros(1, dtype=np.uint64), np.cumsum(mixed, dtype=np.uint64)))
        seeds = running[matrix.indptr[1:]] - running[matrix.indptr[:-1]]
        for row, seed in enumerate(seeds.tolist()):
            scores[row] += np.random.default_rng(seed).gumbel(size=scores.shape[1])
        return scores


FAMILY = Family(
    kind="chance",
    summary="a label drawn at random, each as often as in training",
    train=lambda data, settings, penalty: Chance(label_totals(data.targets)),
    restore=lambda stored: Chance(stored.arrays["label_documents"]),
    arrays=ARRAYS,
    calibration="none",
    looks_at_text=False,
)
