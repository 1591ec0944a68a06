"""Weights of terms in documents.

- `count`: tf, how often the term stands in the document.
- `presence`: 1 where it stands at all.
- `tfidf`: (1 + ln tf) · ln(N / df), each document's row then brought to Euclidean length 1 (Manning, Raghavan & Schütze
  2008, sections 6.2 to 6.4; `ltc` in the notation of Salton & Buckley 1988). N and df are of the training documents.
"""

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Floats, Ints


def inverse_document_frequency(document_frequency: Ints, documents: int) -> Floats:
    """ln(N / df) of each term. document_frequency: (n_terms,), each from 1 to `documents`."""
    idf: Floats = np.log(documents / document_frequency.astype(np.float64))
    return idf


def presence(counts: csr_array) -> csr_array:
    """(n, v) counts → the same with 1.0 in place of each count."""
    return csr_array((np.ones(counts.nnz), counts.indices, counts.indptr), shape=counts.shape)


def tfidf(counts: csr_array, idf: Floats) -> csr_array:
    """(n, v) counts and (v,) idf → rows of (1 + ln tf) · idf of Euclidean length 1; an all-zero row stays zero."""
    weights = (1.0 + np.log(counts.data)) * idf[counts.indices]
    return unit_length(csr_array((weights, counts.indices, counts.indptr), shape=counts.shape))


def unit_length(matrix: csr_array) -> csr_array:
    """Each row divided by its Euclidean length."""
    squares = csr_array((matrix.data**2, matrix.indices, matrix.indptr), shape=matrix.shape)
    lengths = np.sqrt(squares @ np.ones(matrix.shape[1]))
    scale = np.divide(1.0, lengths, out=np.zeros_like(lengths), where=lengths > 0)
    data = matrix.data * np.repeat(scale, np.diff(matrix.indptr))
    return csr_array((data, matrix.indices, matrix.indptr), shape=matrix.shape)
