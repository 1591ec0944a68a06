"""Building sparse matrices: the few ways that are needed, each with plain types."""

from collections.abc import Iterator, Sequence
from copy import copy
from functools import lru_cache
from itertools import pairwise
from typing import Any

import numpy as np
import numpy.typing as npt
from scipy.sparse import coo_array, csr_array, vstack

from upsort.core.arrays import AnyArray, Floats, Ints, Places
from upsort.core.lazy import record
from upsort.core.matrices.partitioned import added_up, partition_wise, rows_of

_AT_ONCE = 1 << 19
_CELLS_AT_ONCE = 1 << 18


@record(frozen=True)
class Triplets:
    """Counts and where they stand: rows, columns, counts, each (m,) of integers; columns are below `width`."""

    rows: AnyArray
    columns: AnyArray
    counts: AnyArray
    width: int


def narrow(numbers: AnyArray) -> AnyArray:
    """Whole numbers, none of them negative, in the smallest kind that holds them."""
    return numbers.astype(np.min_scalar_type(int(numbers.max(initial=0))), copy=False)


def triplets_of(matrix: csr_array) -> Triplets:
    """The counts of a matrix."""
    rows = np.repeat(np.arange(matrix.shape[0], dtype=np.int32), np.diff(matrix.indptr))
    return Triplets(rows, matrix.indices, matrix.data, matrix.shape[1])


def from_cells(values: AnyArray, rows: AnyArray, columns: AnyArray, shape: tuple[int, int]) -> csr_array:
    """The CSR matrix with values at (row, column), added up where a place comes twice; indices sorted, of the values' kind."""
    small = max(*shape, values.size) < np.iinfo(np.int32).max
    kind = np.int32 if small else np.int64  # half the memory to read in every product
    places: Any = (rows.astype(kind, copy=False), columns.astype(kind, copy=False))
    cells: Any = coo_array((values, places), shape=shape)
    matrix: csr_array = cells.tocsr()
    matrix.sort_indices()
    return matrix


def from_triplets(parts: Sequence[Triplets], rank: Ints, rows: int) -> csr_array:
    """The CSR matrix of int32 whose column rank[c] is the c-th of the parts' columns; no place comes twice."""
    begins = np.cumsum([0, *(part.width for part in parts)]).tolist()
    columns = [rank[begin:end][part.columns] for part, (begin, end) in zip(parts, pairwise(begins), strict=True)]
    counts = np.concatenate([part.counts for part in parts]).astype(np.int32)
    shape = (rows, rank.size)
    return from_cells(counts, np.concatenate([part.rows for part in parts]), np.concatenate(columns), shape)


def empty(rows: int, columns: int, kind: npt.DTypeLike = np.float64) -> csr_array:
    """A CSR matrix of zeros."""
    cells: Any = coo_array((rows, columns), dtype=kind)
    matrix: csr_array = cells.tocsr()
    return matrix


def stacked(blocks: Sequence[csr_array]) -> csr_array:
    """Blocks of the same columns as one CSR matrix."""
    return blocks[0] if len(blocks) == 1 else csr_array(vstack(blocks, format="csr"))


def with_values(matrix: csr_array, values: AnyArray) -> csr_array:
    """Other values at the same places. Its places were checked when it was made: checking them again takes longer than all else
    that is done for a single document."""
    other = copy(matrix)
    other.data = values
    return other


def row_blocks(matrix: csr_array) -> Iterator[tuple[int, int]]:
    """Stretches of rows with not too many values, so that intermediate arrays stay small."""
    if matrix.nnz <= _CELLS_AT_ONCE:
        return iter([(0, matrix.shape[0])])
    targets = np.arange(0, matrix.nnz, _CELLS_AT_ONCE)
    cuts = np.unique(np.concatenate((np.searchsorted(matrix.indptr, targets), [matrix.shape[0]])))
    cuts[0] = 0
    return pairwise(cuts.tolist())


def row_sums(matrix: csr_array) -> Floats:
    """(n,) the sum of each row."""
    sums: Floats = np.asarray(matrix @ _ones(matrix.shape[1]), dtype=np.float64)
    return sums


@lru_cache(maxsize=4)
def _ones(many: int) -> Floats:
    return np.ones(many)


@added_up()
def column_sizes(matrix: csr_array) -> Ints:
    """(v,) how many values each column holds, counted piece by piece."""
    sizes = np.zeros(matrix.shape[1], dtype=np.int64)
    for begin in range(0, matrix.nnz, _AT_ONCE):
        sizes += np.bincount(matrix.indices[begin : begin + _AT_ONCE], minlength=sizes.size)
    return sizes


@added_up()
def column_sums(matrix: csr_array) -> Floats:
    """(v,) the sum of each column, worked out piece by piece."""
    sums = np.zeros(matrix.shape[1])
    for begin in range(0, matrix.nnz, _AT_ONCE):
        piece = slice(begin, begin + _AT_ONCE)
        sums += np.bincount(matrix.indices[piece], weights=matrix.data[piece], minlength=sums.size)
    return sums


@added_up(0, 2)
def group_sums(matrix: csr_array, groups: Ints, n_groups: int, weights: Floats) -> Floats:
    """(v, n_groups) the sums of the columns over the rows of each group, each row times its weight.

    Each row's columns are moved to a stretch of their group's own; one product with the transposed matrix then adds all up."""
    n, width = matrix.shape
    kind = np.int32 if max(n_groups * width, matrix.nnz) < np.iinfo(np.int32).max else np.int64
    places: AnyArray = np.repeat((groups * width).astype(kind), np.diff(matrix.indptr))
    places += matrix.indices
    grouped: csr_array = csr_array((matrix.data, places, matrix.indptr), shape=(n, n_groups * width))
    sums: Floats = np.asarray(grouped.T @ weights, dtype=np.float64).reshape(n_groups, width).T
    return np.ascontiguousarray(sums)


@partition_wise(lambda matrix, first: matrix.shape[1] - first)
def columns_from(matrix: csr_array, first: int) -> Any:
    """The columns from `first` on."""
    return matrix.tocsc()[:, first:].tocsr()


@partition_wise(lambda _, kept_columns: kept_columns.size)
def only_columns(counts: csr_array, kept_columns: Places) -> Any:
    """The columns `kept`, (n_kept,) in ascending order, of (n, v) counts with sorted indices."""
    if kept_columns.size == counts.shape[1]:
        return counts
    place = np.full(counts.shape[1], -1, dtype=counts.indices.dtype)
    place[kept_columns] = np.arange(kept_columns.size, dtype=counts.indices.dtype)
    size = int(column_sizes(counts)[kept_columns].sum())
    data, indices = np.empty(size, dtype=counts.data.dtype), np.empty(size, dtype=counts.indices.dtype)
    starts = np.zeros_like(counts.indptr)
    at = 0
    for begin, end in row_blocks(counts):
        block = rows_of(counts, begin, end)
        columns = place[block.indices]
        inside = columns >= 0
        running = np.cumsum(inside)
        chosen = slice(at, at + int(inside.sum()))
        data[chosen], indices[chosen] = block.data[inside], columns[inside]
        ends = block.indptr[1:]
        starts[begin + 1 : end + 1] = at + np.where(ends > 0, running[ends - 1] if running.size else 0, 0)
        at = chosen.stop
    chosen_columns = csr_array((data, indices, starts), shape=(counts.shape[0], kept_columns.size))
    chosen_columns.has_sorted_indices = True
    chosen_columns.has_canonical_format = True
    return chosen_columns
