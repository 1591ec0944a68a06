"""What was counted and measured of documents once, before anything is learned; folds and parts are rows of it."""

from dataclasses import replace

from scipy.sparse import csr_array

from upsort.core.arrays import Bools, Ints
from upsort.core.features.beside import Cells, no_cells
from upsort.core.features.counting import Counts
from upsort.core.features.vectors import WordVectors
from upsort.core.records import record


@record(frozen=True, kw_only=True)
class Measured:
    """n documents, n_terms terms.

    counts: (n, n_terms) CSR, raw. terms: names of its columns. tokens: (n,) words of each document. cells: columns beside the
    text. vectors: of words, where they are used. hashed: (n_terms,) the number of each column where terms are hashed.
    distinct, seen_once: of all terms of the corpus. left_out: terms that stand in fewer documents than any bound allows.
    """

    counts: csr_array
    terms: list[str]
    tokens: Ints
    cells: Cells
    vectors: WordVectors | None = None
    hashed: Ints | None = None
    distinct: int = 0
    seen_once: int = 0
    left_out: int = 0

    @property
    def documents(self) -> int:
        """Number of documents."""
        return int(self.counts.shape[0])

    def rows(self, chosen: Bools | Ints) -> "Measured":
        """Some of the documents."""
        return replace(
            self, counts=csr_array(self.counts[chosen]), tokens=self.tokens[chosen], cells=self.cells.rows(chosen)
        )


def of_counts(counts: Counts) -> Measured:
    """Documents of which there is nothing but the counts of their terms."""
    return Measured(
        counts=counts.matrix,
        terms=counts.terms,
        tokens=counts.tokens,
        cells=no_cells(counts.matrix.shape[0]),
        distinct=counts.distinct,
        seen_once=counts.seen_once,
        left_out=counts.distinct - len(counts.terms),
    )
