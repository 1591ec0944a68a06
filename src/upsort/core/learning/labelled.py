"""Documents with their labels: what training takes."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from upsort.core.arrays import Bools, Floats, Ints, Keys
from upsort.core.errors import DataProblem
from upsort.core.features.measured import Measured


@dataclass(frozen=True, kw_only=True)
class Labelled:
    """n documents.

    measured: with all their terms. labels: (n,) numbers into `names`. weights: (n,) how much each document counts, or None.
    groups: (n,) documents of one number stay on one side of every split, or None. keys: (n,) numbers that tell documents apart
    wherever they stand, or None. sets: (n, k) where documents may have several labels or none, or None.
    """

    measured: Measured
    labels: Ints
    names: tuple[str, ...]
    weights: Floats | None = None
    groups: Ints | None = None
    keys: Keys | None = None
    sets: Bools | None = None

    @property
    def documents(self) -> int:
        """Number of documents."""
        return int(self.labels.size)

    def rows(self, chosen: Bools | Ints) -> "Labelled":
        """Some of the documents."""
        return replace(
            self,
            measured=self.measured.rows(chosen),
            labels=self.labels[chosen],
            weights=self.weights[chosen] if self.weights is not None else None,
            groups=self.groups[chosen] if self.groups is not None else None,
            keys=self.keys[chosen] if self.keys is not None else None,
            sets=self.sets[chosen] if self.sets is not None else None,
        )

    def present(self) -> "Labelled":
        """The same documents, labels that none of them has left out. Raises DataProblem for fewer than two labels."""
        held = np.flatnonzero(self.sets.any(axis=0)) if self.sets is not None else np.unique(self.labels)
        if held.size < (1 if self.sets is not None else 2):
            found = f"only {self.names[int(held[0])]!r}" if held.size else "none"
            raise DataProblem(
                f"A sorter needs at least two labels; the documents have {found}.",
                "Check the label column, or give documents of other labels too.",
            )
        if held.size == len(self.names):
            return self
        return replace(
            self,
            labels=np.searchsorted(held, self.labels).astype(np.int64),
            names=tuple(self.names[number] for number in held.tolist()),
            sets=self.sets[:, held] if self.sets is not None else None,
        )


def numbered(labels: Sequence[str]) -> tuple[tuple[str, ...], Ints]:
    """The distinct labels, sorted, and each document's label number (n,)."""
    names = tuple(sorted(set(labels)))
    number = {name: place for place, name in enumerate(names)}
    return names, np.array([number[label] for label in labels], dtype=np.int64)
