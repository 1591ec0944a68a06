"""Building sparse matrices: the few ways that are needed, each with plain types."""

from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
from scipy.sparse import coo_array, csr_array, hstack, vstack

from upsort.core.arrays import AnyArray, Floats, Places


def from_cells(values: AnyArray, rows: AnyArray, columns: AnyArray, shape: tuple[int, int]) -> csr_array:
    """The CSR matrix with values at (row, column), added up where a place comes twice; indices sorted, of the values' kind."""
    small = max(*shape, values.size) < np.iinfo(np.int32).max
    kind = np.int32 if small else np.int64  # half the memory to read in every product
    places: Any = (rows.astype(kind, copy=False), columns.astype(kind, copy=False))
    cells: Any = coo_array((values, places), shape=shape)
    matrix: csr_array = cells.tocsr()
    matrix.sort_indices()
    return matrix


def empty(rows: int, columns: int, kind: npt.DTypeLike = np.float64) -> csr_array:
    """A CSR matrix of zeros."""
    cells: Any = coo_array((rows, columns), dtype=kind)
    matrix: csr_array = cells.tocsr()
    return matrix


def side_by_side(blocks: Sequence[csr_array]) -> csr_array:
    """Blocks of the same rows as one CSR matrix."""
    return blocks[0] if len(blocks) == 1 else csr_array(hstack(blocks, format="csr"))


def one_below_the_other(blocks: Sequence[csr_array]) -> csr_array:
    """Blocks of the same columns as one CSR matrix."""
    return blocks[0] if len(blocks) == 1 else csr_array(vstack(blocks, format="csr"))


def row_sums(matrix: csr_array) -> Floats:
    """(n,) the sum of each row."""
    ones = np.ones(matrix.shape[1])
    sums: Floats = np.asarray(matrix @ ones, dtype=np.float64)
    return sums


def only_columns(counts: csr_array, kept: Places) -> csr_array:
    """The columns `kept`, (n_kept,) in ascending order, of (n, v) counts with sorted indices."""
    if kept.size == counts.shape[1]:
        return counts
    place = np.full(counts.shape[1], -1, dtype=counts.indices.dtype)
    place[kept] = np.arange(kept.size, dtype=counts.indices.dtype)
    indices = place[counts.indices]
    inside = indices >= 0
    before = np.concatenate((np.zeros(1, dtype=counts.indptr.dtype), np.cumsum(inside, dtype=counts.indptr.dtype)))
    chosen = csr_array(
        (counts.data[inside], indices[inside], before[counts.indptr]), shape=(counts.shape[0], kept.size)
    )
    chosen.has_sorted_indices = True
    chosen.has_canonical_format = True
    return chosen
