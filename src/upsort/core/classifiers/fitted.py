"""What every trained classifier can do, whatever its family."""

from typing import Protocol

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import AnyArray, Floats
from upsort.core.classifiers.linear import LinearRule
from upsort.core.classifiers.newton import OptimiserReport
from upsort.core.parted import PartitionedMatrix


class FittedClassifier(Protocol):
    """A trained classifier."""

    @property
    def rule(self) -> LinearRule | None:
        """Its linear rule, where it has one."""

    @property
    def ended(self) -> OptimiserReport:
        """How its training ended."""

    def scores(self, matrix: csr_array) -> Floats:
        """(n, n_terms) CSR of values → (n, n_labels) scores; the largest decides."""

    def arrays(self) -> dict[str, AnyArray]:
        """All that is needed to have it back."""


def scores_of(fitted: FittedClassifier, matrix: csr_array | PartitionedMatrix) -> Floats:
    """(n, n_labels) the scores of documents, whoever keeps their rows."""
    return (
        np.asarray(matrix.map_rows(_scores, fitted)) if isinstance(matrix, PartitionedMatrix) else fitted.scores(matrix)
    )


def _scores(matrix: csr_array, fitted: FittedClassifier) -> Floats:
    return fitted.scores(matrix)
