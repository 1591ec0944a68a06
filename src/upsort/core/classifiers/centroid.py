"""Nearest centroid (Rocchio 1971; Manning, Raghavan & Schütze 2008, section 14.2): the label whose mean document is most
similar.

A label's centroid is the sum of its documents; score(document, label) = Σ value · centroid / ‖centroid‖, which for documents
of unit length is the cosine.
"""

from dataclasses import field
from functools import cached_property

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import AnyArray, Floats
from upsort.core.classifiers.family import ArraySpec, Family, intercept
from upsort.core.classifiers.linear import LinearRule
from upsort.core.classifiers.naive_bayes.sums import label_sums
from upsort.core.classifiers.newton import OptimiserReport
from upsort.core.classifiers.targets import Targets
from upsort.core.parted import PartitionedMatrix
from upsort.core.records import record


@record(frozen=True)
class Centroids:
    """sums: (n_terms, n_labels) float64, each label's documents added up."""

    sums: Floats
    ended: OptimiserReport = field(default_factory=OptimiserReport, compare=False)

    @cached_property
    def rule(self) -> LinearRule:
        """Centroids of unit length, without intercepts."""
        lengths = np.sqrt(np.einsum("ij,ij->j", self.sums, self.sums))
        return LinearRule(self.sums / np.where(lengths > 0, lengths, 1.0), np.zeros(self.sums.shape[1]))

    def scores(self, matrix: csr_array) -> Floats:
        """Similarities to the centroids."""
        return self.rule.scores(matrix)

    def arrays(self) -> dict[str, AnyArray]:
        """What the sorter file keeps."""
        return {"sums": self.sums}


def train(matrix: csr_array | PartitionedMatrix, targets: Targets) -> Centroids:
    """Add up. matrix: (n, n_terms) CSR, rows of unit length for cosines."""
    return Centroids(label_sums(matrix, targets))


FAMILY = Family(
    kind="centroid",
    summary="the label whose mean document is most similar",
    train=lambda data, settings, penalty: train(data.matrix, data.targets),
    restore=lambda stored: Centroids(stored.arrays["sums"]),
    arrays={"sums": ArraySpec(("terms", "labels"))},
    begins=intercept,
)
