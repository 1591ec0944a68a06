"""What any classifier must be better than: always the commonest label, and labels drawn at random in their shares."""

from dataclasses import dataclass, field

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import AnyArray, Floats
from upsort.core.classifiers.linear import LinearRule
from upsort.core.classifiers.multinomial_nb import label_totals
from upsort.core.classifiers.newton import Ended
from upsort.core.classifiers.targets import Targets


@dataclass(frozen=True)
class Majority:
    """score(document, label) = ln of the label's share of the training documents, whatever the document."""

    label_documents: Floats
    ended: Ended = field(default_factory=Ended, compare=False)

    @property
    def rule(self) -> LinearRule | None:
        """There is none."""
        return None

    def scores(self, matrix: csr_array) -> Floats:
        """The same for every document."""
        shares = self.label_documents / self.label_documents.sum()
        return np.tile(np.log(shares), (matrix.shape[0], 1))

    def arrays(self) -> dict[str, AnyArray]:
        """What the sorter file keeps."""
        return {"label_documents": self.label_documents}


@dataclass(frozen=True)
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


def train_majority(targets: Targets) -> Majority:
    """Count labels."""
    return Majority(label_totals(targets))


def train_chance(targets: Targets) -> Chance:
    """Count labels."""
    return Chance(label_totals(targets))
