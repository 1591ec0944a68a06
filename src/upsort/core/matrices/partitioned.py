"""Row-partitioned sparse matrices; partitions may be remote.

A partition holds consecutive rows. Sums are taken partition by partition, in order, so that they do not depend on the executor
that keeps the partitions: this process (`LocalExecutor`) or the workers of a cluster."""

import copy
from collections.abc import Callable, Sequence
from functools import cached_property, wraps
from itertools import pairwise
from typing import Any, Concatenate, ParamSpec, Protocol, TypeVar

import numpy as np
from scipy.sparse import csr_array, vstack

from upsort.core.arrays import Bools, Ints
from upsort.core.lazy import record

_MERGED = 8  # values at once


class Executor(Protocol):
    """Keep values and work on them. A handle represents a value that they keep. Long lists travel faster in a record than as they
    are."""

    def put(self, value: Any, /) -> Any:
        """A handle of a value that several pieces of work are given."""

    def submit(self, work: Callable[..., Any], /, *given: Any) -> Any:
        """A handle of what the work makes of the given values, or of those that handles among them represents."""

    def gather(self, handles: Sequence[Any], /) -> list[Any]:
        """The values of handles."""


class LocalExecutor:
    """This process. A handle is the value itself."""

    def put(self, value: Any, /) -> Any:
        """The value."""
        return value

    def submit(self, work: Callable[..., Any], /, *given: Any) -> Any:
        """The result."""
        return work(*given)

    def gather(self, handles: Sequence[Any], /) -> list[Any]:
        """The values."""
        return list(handles)


LOCAL = LocalExecutor()


@record(frozen=True)
class Sliced:
    """An argument with one entry per row; each partition receives the entries of its rows."""

    value: Any

    def of(self, begin: int, end: int) -> Any:
        """The entries of some rows."""
        if self.value is None:
            return None
        rows = slice(begin, end)
        return self.value[rows] if isinstance(self.value, np.ndarray) else self.value.rows(rows)


class PartitionedMatrix:
    """A matrix, (n, width), CSR in each part.

    parts: handles of (m, width) each. starts: (parts + 1,) the first row of each, then n. whole: the matrix, where it is here."""

    def __init__(
        self, parts: Sequence[Any], starts: Ints, width: int, executor: Executor = LOCAL, whole: csr_array | None = None
    ) -> None:
        self.parts, self.starts, self.executor = list(parts), starts, executor
        self.shape = (int(starts[-1]), width)
        self._whole = whole

    @cached_property
    def nnz(self) -> int:
        """How many values there are."""
        return int(self.sum(_size))

    def map(self, work: Callable[..., Any], *given: Any) -> list[Any]:
        """What the work makes of each part and the given, in order. Entries `Sliced` are those of its rows."""
        return self.executor.gather(self._submit_all(work, given))

    def map_rows(self, work: Callable[..., Any], *given: Any) -> Any:
        """(n, …) its results for all rows."""
        return np.concatenate(self.map(work, *given))

    def sum(self, work: Callable[..., Any], *given: Any) -> Any:
        """The sum of its results for the parts."""
        return reduce_sum(self.executor, self._submit_all(work, given))

    def transform(self, work: Callable[..., Any], width: int, *given: Any) -> "PartitionedMatrix":
        """The matrix, (n, width), that it makes of it, row by row."""
        return PartitionedMatrix(self._submit_all(work, given), self.starts, width, self.executor)

    def __getitem__(self, chosen: Bools | Ints) -> "PartitionedMatrix":
        """Some rows, in their order: (n,) which, or (m,) ascending places. Raises ValueError for places in another order."""
        places = np.flatnonzero(chosen) if chosen.dtype == bool else chosen
        if not (np.diff(places) > 0).all():
            raise ValueError("Rows in parts are chosen in their order.")
        cuts = np.searchsorted(places, self.starts)
        parts, sizes = [], [0]
        for part, (begin, end), first in zip(self.parts, pairwise(cuts.tolist()), self.starts.tolist(), strict=False):
            if begin < end:
                rows = places[begin:end] - first
                parts.append(self.executor.submit(_rows, part, rows))
                sizes.append(end - begin)
        return PartitionedMatrix(parts, np.cumsum(sizes, dtype=np.int64), self.shape[1], self.executor)

    def repartition(self, cuts: Ints) -> "PartitionedMatrix":
        """The same in other parts. cuts: where they begin, and the end."""
        if self._whole is not None:  # whose memory the parts share
            rows = [rows_of(self._whole, begin, end) for begin, end in pairwise(cuts.tolist())]
            return PartitionedMatrix(rows, cuts, self.shape[1], self.executor, self._whole)
        parts = []
        for begin, end in pairwise(cuts.tolist()):
            pieces = []
            for part, (first, last) in zip(self.parts, pairwise(self.starts.tolist()), strict=True):
                low, high = max(begin, first) - first, min(end, last) - first
                if (low, high) == (0, last - first):
                    pieces.append(part)
                elif low < high:
                    pieces.append(self.executor.submit(_row_range, part, low, high))
            parts.append(pieces[0] if len(pieces) == 1 else self.executor.submit(_stacked, *pieces))
        return PartitionedMatrix(parts, cuts, self.shape[1], self.executor)

    def collect(self) -> csr_array:
        """The matrix, here."""
        return self._whole if self._whole is not None else _stacked(*self.executor.gather(self.parts)).copy()

    def _submit_all(self, work: Callable[..., Any], given: Sequence[Any]) -> list[Any]:
        handles = [argument if isinstance(argument, Sliced) else self.executor.put(argument) for argument in given]
        return [
            self.executor.submit(
                work, part, *(argument.of(begin, end) if isinstance(argument, Sliced) else argument for argument in handles)
            )
            for part, (begin, end) in zip(self.parts, pairwise(self.starts.tolist()), strict=True)
        ]


def rows_of(matrix: csr_array, begin: int, end: int) -> csr_array:
    """The rows from begin up to end; they share the memory of the matrix, and all rows are the matrix itself."""
    if (begin, end) == (0, matrix.shape[0]):
        return matrix
    first, last = matrix.indptr[begin], matrix.indptr[end]
    arrays = (matrix.data[first:last], matrix.indices[first:last], matrix.indptr[begin : end + 1] - first)
    return csr_array(arrays, shape=(end - begin, matrix.shape[1]))


def as_partitioned(matrix: csr_array | PartitionedMatrix) -> PartitionedMatrix:
    """The matrix; a local one is one partition."""
    if isinstance(matrix, PartitionedMatrix):
        return matrix
    return PartitionedMatrix([matrix], np.array([0, matrix.shape[0]]), matrix.shape[1], whole=matrix)


def local_matrix(matrix: csr_array | PartitionedMatrix) -> csr_array:
    """The matrix as one local CSR array."""
    return matrix.collect() if isinstance(matrix, PartitionedMatrix) else matrix


Given = ParamSpec("Given")
Made = TypeVar("Made")
_OfPart = Callable[Concatenate[csr_array, Given], Made]
_OfAny = Callable[Concatenate[csr_array | PartitionedMatrix, Given], Made]


def added_up(*by_row: int) -> Callable[[_OfPart[Given, Made]], _OfAny[Given, Made]]:
    """Makes a function of one partition one of a whole matrix, too: the sum over its partitions. by_row: the places of arguments,
    counted after the matrix, that have one entry per row."""
    return _of_partitions(by_row, lambda matrix, work, given: matrix.sum(work, *given))


def in_row_order(*by_row: int) -> Callable[[_OfPart[Given, Made]], _OfAny[Given, Made]]:
    """The same for a function that gives an array with one entry per row."""
    return _of_partitions(by_row, lambda matrix, work, given: matrix.map_rows(work, *given))


def partition_wise(width: Callable[..., int], *by_row: int) -> Callable[[_OfPart[Given, Made]], _OfAny[Given, Any]]:
    """The same for a function that makes another matrix, row by row. width: of that, from the same arguments."""
    return _of_partitions(by_row, lambda matrix, work, given: matrix.transform(work, width(matrix, *given), *given))


def _of_partitions(by_row: Sequence[int], over: Callable[..., Any]) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    def decorate(work: Callable[..., Any]) -> Callable[..., Any]:
        @wraps(work)
        def of_any(matrix: csr_array | PartitionedMatrix, *given: Any) -> Any:
            if not isinstance(matrix, PartitionedMatrix):
                return work(matrix, *given)
            return over(matrix, of_any, [Sliced(each) if at in by_row else each for at, each in enumerate(given)])

        return of_any

    return decorate


def merge_boundaries(starts: Ints, least: int) -> list[int]:
    """Where parts begin and end if neighbouring ones are joined to a least number of rows; the rest at the end joins the last.
    starts: of parts, and the end. Returns places in it."""
    places = [0]
    for place, end in enumerate(starts.tolist()):
        if end - starts[places[-1]] >= least:
            places.append(place)
    return [*places[: max(len(places) - 1, 1)], starts.size - 1]


def sum_in_order(*results: Any) -> Any:
    """The sum of results, in their order."""
    result = results[0]
    for other in results[1:]:
        result = result + other
    return result


class SumTuple(tuple[Any, ...]):
    """A tuple whose elements are added one by one."""

    __slots__ = ()

    def __add__(self, other: Any) -> "SumTuple":
        return SumTuple(mine + theirs for mine, theirs in zip(self, other, strict=True))


def tree_reduce(executor: Executor, handles: Sequence[Any], merge: Callable[..., Any] = sum_in_order) -> list[Any]:
    """Tree-reduce to at most 8 handles, in order, so that no process holds more than 8 values at once."""
    left = list(handles)
    while len(left) > _MERGED:
        left = [executor.submit(merge, *left[at : at + _MERGED]) for at in range(0, len(left), _MERGED)]
    return left


def reduce_sum(executor: Executor, handles: Sequence[Any]) -> Any:
    """The sum of the values of handles, which does not depend on the hands."""
    return sum_in_order(*executor.gather(tree_reduce(executor, handles)))


class StatefulActors:
    """One object per partition, kept by the executor; a method is called on all of them.

    members: handles of each, in a tuple with what the last change of it gave."""

    def __init__(self, members: Sequence[Any], executor: Executor) -> None:
        self.executor = executor
        self.members = [executor.submit(_actor_state, member) for member in members]

    def query(self, method: str, *given: Any) -> Any:
        """The sum of the results of a method that changes nothing."""
        return reduce_sum(self.executor, self._called(_call, method, given))

    def update(self, method: str, *given: Any) -> Any:
        """The sum of the results of a method that changes the object. It must rebind attributes, never mutate them, so that the
        call can be repeated."""
        self.members = self._called(_call_update, method, given)
        return reduce_sum(self.executor, [self.executor.submit(_last_result, member) for member in self.members])

    def update_quietly(self, method: str, *given: Any) -> None:
        """Call a method that changes the object and returns nothing, without waiting for it."""
        self.members = self._called(_call_update, method, given)

    def _called(self, call: Callable[..., Any], method: str, given: Sequence[Any]) -> list[Any]:
        handles = [self.executor.put(argument) for argument in given]
        return [self.executor.submit(call, member, method, *handles) for member in self.members]


def _actor_state(member: Any) -> tuple[Any, Any]:
    return member, None


def _call(member: tuple[Any, Any], method: str, *given: Any) -> Any:
    return getattr(member[0], method)(*given)


def _call_update(member: tuple[Any, Any], method: str, *given: Any) -> tuple[Any, Any]:
    changed = copy.copy(member[0])
    return changed, getattr(changed, method)(*given)


def _last_result(member: tuple[Any, Any]) -> Any:
    return member[1]


def _size(part: csr_array) -> int:
    return int(part.nnz)


def _rows(part: csr_array, rows: Ints) -> csr_array:
    return part if rows.size == part.shape[0] else csr_array(part[rows])


def _row_range(part: csr_array, begin: int, end: int) -> csr_array:
    return csr_array(part[begin:end])


def _stacked(*parts: csr_array) -> csr_array:
    return parts[0] if len(parts) == 1 else csr_array(vstack(parts, format="csr"))


def has_negative(matrix: csr_array | PartitionedMatrix) -> bool:
    """Whether a value is below 0."""
    return any(as_partitioned(matrix).map(_negative))


def _negative(part: csr_array) -> bool:
    return bool(part.nnz and part.data.min() < 0)
