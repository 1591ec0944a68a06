"""Which documents must stay on one side of a split because they copy each other, told from their counted terms.

Two documents are taken for copies when their words are the same, or when their sets of words have at least so much in common
(Jaccard), estimated from min-hash signatures of the terms (see `near_copies`, which works on text and on pairs of words).
Copies of copies are copies: the groups are the connected parts.
"""

import numpy as np
from scipy.sparse import csr_array
from scipy.sparse.csgraph import connected_components

from upsort.core.arrays import AnyArray, Ints, Keys
from upsort.core.judging.near_copies import Prints, find_copies
from upsort.core.sparse import from_cells

SIMILARITY = 0.8
_PLACES = 64
_RANDOM = np.random.Generator(np.random.PCG64(30011))
_FACTORS = _RANDOM.integers(0, 1 << 31, _PLACES, dtype=np.uint32) * np.uint32(2) + np.uint32(1)
_SHIFTS = _RANDOM.integers(0, 1 << 32, _PLACES, dtype=np.uint32)
_CHUNK = 1 << 15


def copy_groups(counts: csr_array, similarity: float = SIMILARITY) -> Ints:
    """(n,) a number for each document; copies share one. counts: (n, n_terms) CSR, indices sorted."""
    n = counts.shape[0]
    words = np.diff(counts.indptr).astype(np.int64)
    copies = find_copies(Prints(_sums(counts), _signatures(counts), words, words), similarity).of()
    later = np.flatnonzero(copies >= 0)
    links = from_cells(np.ones(later.size), later, copies[later], (n, n))
    _, group = connected_components(links, directed=False)
    return np.asarray(group, dtype=np.int64)


def one_side(first: Ints | None, second: Ints | None) -> Ints | None:
    """Groups in which documents stay together that share a number in either."""
    if first is None or second is None:
        return second if first is None else first
    n, width = first.size, int(first.max()) + 1
    rows = np.concatenate((first, width + second))
    size = width + int(second.max()) + 1
    links = from_cells(np.ones(n), rows[:n], rows[n:], (size, size))
    _, group = connected_components(links, directed=False)
    return np.asarray(group[first], dtype=np.int64)


def _sums(counts: csr_array) -> Keys:
    """(n, 2) sums that are equal for equal rows."""
    terms = counts.indices.astype(np.uint64)
    values = counts.data.astype(np.uint64)
    sums = np.zeros((counts.shape[0], 2), dtype=np.uint64)
    for column, factor in enumerate((np.uint64(0x9E3779B97F4A7C15), np.uint64(0xC2B2AE3D27D4EB4F))):
        mixed = (terms + np.uint64(1)) * factor
        mixed = (mixed ^ (mixed >> np.uint64(31))) * factor * values
        running = np.concatenate((np.zeros(1, dtype=np.uint64), np.cumsum(mixed, dtype=np.uint64)))
        sums[:, column] = running[counts.indptr[1:]] - running[counts.indptr[:-1]]
    return sums


def _signatures(counts: csr_array) -> AnyArray:
    """(n, 64) uint16 min-hash signatures of the sets of terms."""
    n = counts.shape[0]
    signatures = np.zeros((n, _PLACES), dtype=np.uint16)
    mixed = (np.arange(counts.shape[1], dtype=np.uint64) + np.uint64(1)) * np.uint64(0x9E3779B97F4A7C15)
    of_term = ((mixed ^ (mixed >> np.uint64(29))) * np.uint64(0xC2B2AE3D27D4EB4F) >> np.uint64(32)).astype(np.uint32)
    filled = np.flatnonzero(np.diff(counts.indptr) > 0)
    starts = counts.indptr.astype(np.int64)
    at = 0
    while at < filled.size:  # so many documents at a time that their terms stay in the processor's cache
        upto = max(at + 1, int(np.searchsorted(starts[filled], starts[filled[at]] + _CHUNK)))
        chosen = filled[at:upto]
        begin, end = starts[chosen[0]], starts[chosen[-1] + 1]
        terms, edges = of_term[counts.indices[begin:end]], starts[chosen] - begin
        for place in range(_PLACES):
            least = np.minimum.reduceat(terms * _FACTORS[place] + _SHIFTS[place], edges)
            signatures[chosen, place] = least.astype(np.uint16)
        at = upto
    return signatures
