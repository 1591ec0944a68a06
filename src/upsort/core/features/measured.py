"""What was counted and measured of documents once, before anything is learned; folds and parts are rows of it."""

from dataclasses import replace

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Bools, Ints
from upsort.core.features.beside import ExtraCells, no_cells
from upsort.core.features.counting import Counts
from upsort.core.features.vectors import WordVectors
from upsort.core.parted import PartitionedMatrix, local_matrix
from upsort.core.records import record


@record(frozen=True, kw_only=True)
class CorpusCounts:
    """n documents, n_terms terms.

    counts: (n, n_terms) CSR, raw. terms: names of its columns. tokens: (n,) words of each document. cells: columns beside the
    text. vectors: of words, where they are used. hashed: (n_terms,) the number of each column where terms are hashed.
    distinct, seen_once: of all terms of the corpus. left_out: terms that stand in fewer documents than any bound allows.
    blocks: (b + 1,) the first document of each block that was read, then n; of documents in another order None.
    """

    counts: csr_array | PartitionedMatrix
    terms: list[str]
    tokens: Ints
    cells: ExtraCells
    vectors: WordVectors | None = None
    hashed: Ints | None = None
    distinct: int = 0
    seen_once: int = 0
    left_out: int = 0
    blocks: Ints | None = None

    @property
    def documents(self) -> int:
        """Number of documents."""
        return int(self.counts.shape[0])

    @property
    def local_counts(self) -> csr_array:
        """The counts in one piece, here."""
        return local_matrix(self.counts)

    def rows(self, chosen: Bools | Ints) -> "CorpusCounts":
        """Some of the documents."""
        counts = self.counts[chosen] if isinstance(self.counts, PartitionedMatrix) else csr_array(self.counts[chosen])
        return replace(
            self,
            counts=counts,
            tokens=self.tokens[chosen],
            cells=self.cells.rows(chosen),
            blocks=_blocks_of(chosen, self.blocks) if self.blocks is not None else None,
        )


def _blocks_of(chosen: Bools | Ints, blocks: Ints) -> Ints | None:
    places = np.flatnonzero(chosen) if chosen.dtype == bool else chosen
    return np.unique(np.searchsorted(places, blocks)) if (np.diff(places) > 0).all() else None


def of_counts(counts: Counts) -> CorpusCounts:
    """Documents of which there is nothing but the counts of their terms."""
    return CorpusCounts(
        counts=counts.matrix,
        terms=counts.terms,
        tokens=counts.tokens,
        cells=no_cells(counts.matrix.shape[0]),
        distinct=counts.distinct,
        seen_once=counts.seen_once,
        left_out=counts.distinct - len(counts.terms),
    )
