"""Word vectors: a document as the mean, or the idf-weighted mean, of the vectors of its words; and how vectors are made.

Vectors are made by factorising the co-occurrences of words (Levy & Goldberg 2014, *Neural word embedding as implicit matrix
factorization*): the positive pointwise mutual information of words within so many words of each other is cut to its largest
singular values, and a word's vector is its row of U · √Σ, divided by its length.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.sparse import csr_array, diags_array

from upsort.core.arrays import Floats, Ints
from upsort.core.errors import DataProblem
from upsort.core.sparse import row_sums
from upsort.core.text.tokeniser import Tokens


@dataclass(frozen=True)
class WordVectors:
    """Vectors of some terms. columns: (v,) int64, which terms have one, ascending. vectors: (v, d) float64."""

    columns: Ints
    vectors: Floats

    def only(self, kept: Ints) -> "WordVectors":
        """The vectors of the terms `kept`, (k,) ascending, which become the columns 0 to k − 1."""
        place = np.searchsorted(kept, self.columns)
        inside = (place < kept.size) & (kept[np.minimum(place, kept.size - 1)] == self.columns)
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
    found = []
    for column, term in enumerate(terms):
        begin = next((prefix for prefix in prefixes if prefix and term.startswith(prefix)), "")
        number = place.get(term[len(begin) :], -1)
        if number >= 0:
            found.append((column, number))
    columns = np.array([column for column, _ in found], dtype=np.int64)
    return WordVectors(columns, vectors[[number for _, number in found]].astype(np.float64))


def make_vectors(tokens: Tokens, dimensions: int, window: int = 5, at_least: int = 3) -> tuple[list[str], Floats]:
    """Words that stand at least so often, sorted, and their vectors, (v, dimensions) of length 1.

    tokens: of all documents. window: words to either side that count as neighbours. Raises DataProblem for too few words.
    """
    totals = np.bincount(tokens.codes, minlength=len(tokens.words))
    frequent = [
        place for place in np.argsort(np.array(tokens.words, dtype=object)).tolist() if totals[place] >= at_least
    ]
    if len(frequent) <= dimensions:
        raise DataProblem(
            f"Only {len(frequent)} words stand at least {at_least} times; {dimensions} dimensions need more.",
            "Ask for fewer dimensions, or give more documents.",
        )
    place = np.full(len(tokens.words), -1, dtype=np.int64)
    place[frequent] = np.arange(len(frequent))
    codes = place[tokens.codes]
    owner = np.repeat(np.arange(tokens.starts.size - 1), np.diff(tokens.starts))
    size = len(frequent)
    together = csr_array((size, size), dtype=np.float64)
    for distance in range(1, window + 1):
        left, right = codes[:-distance], codes[distance:]
        near = (left >= 0) & (right >= 0) & (owner[:-distance] == owner[distance:])
        ones = np.full(int(near.sum()), 1.0 / distance)
        together = csr_array(together + csr_array((ones, (left[near], right[near])), shape=(size, size)))
    together = csr_array(together + together.T)
    sums = row_sums(together)
    rows = np.repeat(np.arange(size), np.diff(together.indptr))
    ratio = together.data * sums.sum() / (sums[rows] * sums[together.indices])
    positive = csr_array((np.maximum(np.log(ratio), 0.0), together.indices, together.indptr), shape=(size, size))
    from scipy.sparse.linalg import svds  # slow to load

    left_vectors, strengths, _ = svds(positive, k=dimensions, v0=np.ones(size), solver="arpack")
    order = np.argsort(-strengths, kind="stable")
    vectors = left_vectors[:, order] * np.sqrt(strengths[order])
    largest = np.abs(vectors).argmax(axis=0)
    vectors = vectors * np.sign(vectors[largest, np.arange(dimensions)])  # a singular vector's sign is free
    lengths = np.sqrt((vectors**2).sum(axis=1, keepdims=True))
    return [tokens.words[number] for number in frequent], vectors / np.maximum(lengths, 1e-12)
