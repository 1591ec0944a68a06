"""Word vectors made from the documents at hand, by factorising the co-occurrences of their words.

(Levy & Goldberg 2014, *Neural word embedding as implicit matrix factorization*): the positive pointwise mutual information of
words within so many words of each other is cut to its largest singular values, and a word's vector is its row of U · √Σ, divided
by its length.
"""

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Floats
from upsort.core.deferred import sparse_linalg
from upsort.core.errors import DataProblem
from upsort.core.sparse import row_sums
from upsort.core.text.tokeniser import Tokens


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
    cooccurrence = csr_array((size, size), dtype=np.float64)
    for distance in range(1, window + 1):
        left, right = codes[:-distance], codes[distance:]
        near = (left >= 0) & (right >= 0) & (owner[:-distance] == owner[distance:])
        ones = np.full(int(near.sum()), 1.0 / distance)
        cooccurrence = csr_array(cooccurrence + csr_array((ones, (left[near], right[near])), shape=(size, size)))
    cooccurrence = csr_array(cooccurrence + cooccurrence.T)
    sums = row_sums(cooccurrence)
    rows = np.repeat(np.arange(size), np.diff(cooccurrence.indptr))
    ratio = cooccurrence.data * sums.sum() / (sums[rows] * sums[cooccurrence.indices])
    positive = csr_array(
        (np.maximum(np.log(ratio), 0.0), cooccurrence.indices, cooccurrence.indptr), shape=(size, size)
    )
    left_vectors, strengths, _ = sparse_linalg.svds(positive, k=dimensions, v0=np.ones(size), solver="arpack")
    order = np.argsort(-strengths, kind="stable")
    vectors = left_vectors[:, order] * np.sqrt(strengths[order])
    largest = np.abs(vectors).argmax(axis=0)
    vectors = vectors * np.sign(vectors[largest, np.arange(dimensions)])  # a singular vector's sign is free
    lengths = np.sqrt((vectors**2).sum(axis=1, keepdims=True))
    return [tokens.words[number] for number in frequent], vectors / np.maximum(lengths, 1e-12)
