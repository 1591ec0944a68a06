"""Word vectors: a document as the mean, or the idf-weighted mean, of the vectors of its words."""

from collections.abc import Sequence

import numpy as np
from scipy.sparse import csr_array, diags_array

from upsort.core.arrays import Floats, Ints
from upsort.core.records import record
from upsort.core.sparse import row_sums


@record(frozen=True)
class WordVectors:
    """Vectors of some terms. columns: (v,) int64, which terms have one, ascending. vectors: (v, d) float64."""

    columns: Ints
    vectors: Floats

    def only(self, columns: Ints) -> "WordVectors":
        """The vectors of the terms `kept`, (k,) ascending, which become the columns 0 to k − 1."""
        place = np.searchsorted(columns, self.columns)
        inside = (place < columns.size) & (columns[np.minimum(place, columns.size - 1)] == self.columns)
        return WordVectors(place[inside].astype(np.int64), self.vectors[inside])

    def means(self, counts: csr_array, idf: Floats | None = None) -> Floats:
        """(n, d) the mean vector of each document's words, weighted by idf where it is given; zeros without any.

        counts: (n, n_terms) ≥ 0.
        """
        chosen = csr_array(counts.tocsc()[:, self.columns].tocsr().astype(np.float64))
        if idf is not None:
            chosen = csr_array(chosen @ diags_array(idf[self.columns]))
        totals = row_sums(chosen)
        sums: Floats = np.zeros((chosen.shape[0], self.vectors.shape[1]))
        sums += chosen @ self.vectors
        means: Floats = np.divide(sums, totals[:, None], out=np.zeros_like(sums), where=totals[:, None] > 0)
        return means


def vectors_of_terms(
    terms: Sequence[str], words: Sequence[str], vectors: Floats, prefixes: Sequence[str]
) -> WordVectors:
    """The vectors of those terms that are among `words`, whatever part of the text they come from."""
    place = {word: number for number, word in enumerate(words)}
    rows = []
    for column, term in enumerate(terms):
        begin = next((prefix for prefix in prefixes if prefix and term.startswith(prefix)), "")
        number = place.get(term[len(begin) :], -1)
        if number >= 0:
            rows.append((column, number))
    columns = np.array([column for column, _ in rows], dtype=np.int64)
    return WordVectors(columns, vectors[[number for _, number in rows]].astype(np.float64))
