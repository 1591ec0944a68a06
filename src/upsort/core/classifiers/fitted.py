"""What every trained classifier can do, whatever its family."""

from typing import Protocol

from scipy.sparse import csr_array

from upsort.core.arrays import AnyArray, Floats
from upsort.core.classifiers.linear import LinearRule
from upsort.core.classifiers.newton import Ended


class Fitted(Protocol):
    """A trained classifier."""

    @property
    def rule(self) -> LinearRule | None:
        """Its linear rule, where it has one."""

    @property
    def ended(self) -> Ended:
        """How its training ended."""

    def scores(self, matrix: csr_array) -> Floats:
        """(n, n_terms) CSR of values → (n, n_labels) scores; the largest decides."""

    def arrays(self) -> dict[str, AnyArray]:
        """All that is needed to have it back."""
