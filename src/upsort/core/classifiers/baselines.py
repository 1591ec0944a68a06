"""Over- and under-sampling: training documents drawn again, or left out, until all labels have equally many.

What any classifier must be better than: always the commonest label.

What any classifier must be better than: labels drawn at random in their shares.
"""

from dataclasses import field

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import AnyArray, Floats, Ints
from upsort.core.classifiers.family import ArraySpec, Family, LinearRule
from upsort.core.classifiers.naive_bayes import label_totals
from upsort.core.classifiers.newton import OptimiserReport
from upsort.core.lazy import record


def sampled(labels: Ints, n_labels: int, way: str, seed: int) -> Ints:
    """The places of the documents to train on, ascending.

    way: `over`: labels with fewer documents than the largest get copies of theirs, drawn at random; `under`: labels with more
    documents than the smallest lose some, drawn at random; `none`: all as they are.
    """
    everything = np.arange(labels.size)
    if way == "none":
        return everything
    generator = np.random.default_rng(seed)
    sizes = np.bincount(labels, minlength=n_labels)
    goal = int(sizes.max() if way == "over" else sizes[sizes > 0].min())
    drawn = []
    for label in range(n_labels):
        members = everything[labels == label]
        if members.size > goal:
            members = generator.choice(members, goal, replace=False)
        elif 0 < members.size < goal:
            members = np.concatenate((members, generator.choice(members, goal - members.size)))
        drawn.append(members)
    return np.sort(np.concatenate(drawn))


@record(frozen=True)
class Majority:
    """score(document, label) = ln of the label's share of the training documents, whatever the document."""

    label_documents: Floats
    ended: OptimiserReport = field(default_factory=OptimiserReport, compare=False)

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


ARRAYS = {"label_documents": ArraySpec(("labels",), least=0.0)}
MAJORITY = Family(
    kind="majority",
    summary="always the commonest label",
    train=lambda data, settings, penalty: Majority(label_totals(data.targets)),
    restore=lambda stored: Majority(stored.arrays["label_documents"]),
    arrays=ARRAYS,
    calibration="none",
    looks_at_text=False,
)


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


CHANCE = Family(
    kind="chance",
    summary="a label drawn at random, each as often as in training",
    train=lambda data, settings, penalty: Chance(label_totals(data.targets)),
    restore=lambda stored: Chance(stored.arrays["label_documents"]),
    arrays=ARRAYS,
    calibration="none",
    looks_at_text=False,
)
