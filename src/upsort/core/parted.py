"""Matrices whose rows lie in parts, wherever those are: what is asked of them are sums over rows, and other matrices, row by row.

Parts are consecutive rows. Sums are taken part by part, in their order, so that they do not depend on who keeps the parts; who
does, and works on them, are hands (`Hands`): of this process (`Here`), or of an engine.
"""

import copy
from collections.abc import Callable, Sequence
from functools import cached_property
from itertools import pairwise
from typing import Any, Protocol

import numpy as np
from scipy.sparse import csr_array, vstack

from upsort.core.arrays import AnyArray, Bools, Ints
from upsort.core.records import record

_MERGED = 8  # values at once


class Hands(Protocol):
    """Keep values and work on them. A handle stands for a value that they keep. Long lists travel faster in a record than as they
    are."""

    def held(self, value: Any, /) -> Any:
        """A handle of a value that several pieces of work are given."""

    def work(self, work: Callable[..., Any], /, *given: Any) -> Any:
        """A handle of what the work makes of the given values, or of those that handles among them stand for."""

    def results(self, handles: Sequence[Any], /) -> list[Any]:
        """The values of handles."""


class Here:
    """This process. A handle is the value itself."""

    def held(self, value: Any, /) -> Any:
        """The value."""
        return value

    def work(self, work: Callable[..., Any], /, *given: Any) -> Any:
        """The result."""
        return work(*given)

    def results(self, handles: Sequence[Any], /) -> list[Any]:
        """The values."""
        return list(handles)


HERE = Here()


@record(frozen=True)
class ByRow:
    """Something with an entry for each row: each part is given its own."""

    value: Any

    def of(self, begin: int, end: int) -> Any:
        """The entries of some rows."""
        if self.value is None:
            return None
        rows = slice(begin, end)
        return self.value[rows] if isinstance(self.value, np.ndarray) else self.value.rows(rows)


class Parted:
    """A matrix, (n, width), CSR in each part.

    parts: handles of (m, width) each. starts: (parts + 1,) the first row of each, then n. whole: the matrix, where it is here.
    """

    def __init__(
        self, parts: Sequence[Any], starts: Ints, width: int, hands: Hands = HERE, whole: csr_array | None = None
    ) -> None:
        self.parts, self.starts, self.hands = list(parts), starts, hands
        self.shape = (int(starts[-1]), width)
        self._whole = whole

    @cached_property
    def nnz(self) -> int:
        """How many values there are."""
        return int(self.summed(_size))

    def asked(self, work: Callable[..., Any], *given: Any) -> list[Any]:
        """What the work makes of each part and the given, in order. Entries `ByRow` are those of its rows."""
        return self.hands.results(self._worked_on(work, given))

    def each(self, work: Callable[..., Any], *given: Any) -> Any:
        """(n, …) what it makes of all rows."""
        return np.concatenate(self.asked(work, *given))

    def summed(self, work: Callable[..., Any], *given: Any) -> Any:
        """The sum of what it makes of the parts."""
        return added_up(self.hands, self._worked_on(work, given))

    def made(self, work: Callable[..., Any], width: int, *given: Any) -> "Parted":
        """The matrix, (n, width), that it makes of it, row by row."""
        return Parted(self._worked_on(work, given), self.starts, width, self.hands)

    def __getitem__(self, chosen: Bools | Ints) -> "Parted":
        """Some rows, in their order: (n,) which, or (m,) ascending places. Raises ValueError for places in another order."""
        places = np.flatnonzero(chosen) if chosen.dtype == bool else chosen
        if not (np.diff(places) > 0).all():
            raise ValueError("Rows in parts are chosen in their order.")
        cuts = np.searchsorted(places, self.starts)
        parts, sizes = [], [0]
        for part, (begin, end), first in zip(self.parts, pairwise(cuts.tolist()), self.starts.tolist(), strict=False):
            if begin < end:
                rows = places[begin:end] - first
                parts.append(self.hands.work(_rows, part, rows))
                sizes.append(end - begin)
        return Parted(parts, np.cumsum(sizes, dtype=np.int64), self.shape[1], self.hands)

    def cut_at(self, cuts: Ints) -> "Parted":
        """The same in other parts. cuts: where they begin, and the end."""
        parts = []
        for begin, end in pairwise(cuts.tolist()):
            pieces = []
            for part, (first, last) in zip(self.parts, pairwise(self.starts.tolist()), strict=True):
                low, high = max(begin, first) - first, min(end, last) - first
                if (low, high) == (0, last - first):
                    pieces.append(part)
                elif low < high:
                    pieces.append(self.hands.work(_stretch, part, low, high))
            parts.append(pieces[0] if len(pieces) == 1 else self.hands.work(_one, *pieces))
        return Parted(parts, cuts, self.shape[1], self.hands)

    def whole(self) -> csr_array:
        """The matrix, here."""
        return self._whole if self._whole is not None else _one(*self.hands.results(self.parts)).copy()

    def _worked_on(self, work: Callable[..., Any], given: Sequence[Any]) -> list[Any]:
        held = [one if isinstance(one, ByRow) else self.hands.held(one) for one in given]
        return [
            self.hands.work(work, part, *(one.of(begin, end) if isinstance(one, ByRow) else one for one in held))
            for part, (begin, end) in zip(self.parts, pairwise(self.starts.tolist()), strict=True)
        ]


def in_one_piece(matrix: csr_array | Parted) -> csr_array:
    """A matrix in one piece, here."""
    return matrix.whole() if isinstance(matrix, Parted) else matrix


def joins(starts: Ints, least: int) -> list[int]:
    """Where parts begin and end if neighbouring ones are joined to such of so many rows at least; what is left at the end joins
    the last. starts: of parts, and the end. Returns places in it."""
    places = [0]
    for place, end in enumerate(starts.tolist()):
        if end - starts[places[-1]] >= least:
            places.append(place)
    return [*places[: max(len(places) - 1, 1)], starts.size - 1]


def total(*results: Any) -> Any:
    """The sum of results, in their order."""
    found = results[0]
    for other in results[1:]:
        found = found + other
    return found


class Several(tuple[Any, ...]):
    """Values that are added up each for itself."""

    __slots__ = ()

    def __add__(self, other: Any) -> "Several":
        return Several(mine + theirs for mine, theirs in zip(self, other, strict=True))


def merged(hands: Hands, handles: Sequence[Any], merge: Callable[..., Any] = total) -> list[Any]:
    """Handles of values merged in their order until few are left, so that few of them meet anywhere; they are for one more
    merging."""
    left = list(handles)
    while len(left) > _MERGED:
        left = [hands.work(merge, *left[at : at + _MERGED]) for at in range(0, len(left), _MERGED)]
    return left


def added_up(hands: Hands, handles: Sequence[Any]) -> Any:
    """The sum of the values of handles, which does not depend on the hands."""
    return total(*hands.results(merged(hands, handles)))


class Crew:
    """Objects, one for each part, that the hands keep; their methods are called in all of them.

    members: handles of each, in a tuple with what the last change of it gave.
    """

    def __init__(self, members: Sequence[Any], hands: Hands) -> None:
        self.hands = hands
        self.members = [hands.work(_with_nothing, one) for one in members]

    def ask(self, method: str, *given: Any) -> Any:
        """The sum of what a method gives that changes nothing."""
        return added_up(self.hands, self._called(_asked, method, given))

    def change(self, method: str, *given: Any) -> Any:
        """The sum of what a method gives that changes the object: it may set its attributes anew, and must leave what they were
        as it is, so that a change can be made again."""
        self.members = self._called(_changed, method, given)
        return added_up(self.hands, [self.hands.work(_given, one) for one in self.members])

    def turn(self, method: str, *given: Any) -> None:
        """The same with a method that gives nothing, which is not waited for."""
        self.members = self._called(_changed, method, given)

    def _called(self, call: Callable[..., Any], method: str, given: Sequence[Any]) -> list[Any]:
        held = [self.hands.held(one) for one in given]
        return [self.hands.work(call, member, method, *held) for member in self.members]


def _with_nothing(member: Any) -> tuple[Any, Any]:
    return member, None


def _asked(member: tuple[Any, Any], method: str, *given: Any) -> Any:
    return getattr(member[0], method)(*given)


def _changed(member: tuple[Any, Any], method: str, *given: Any) -> tuple[Any, Any]:
    changed = copy.copy(member[0])
    return changed, getattr(changed, method)(*given)


def _given(member: tuple[Any, Any]) -> Any:
    return member[1]


def _size(part: csr_array) -> int:
    return int(part.nnz)


def _rows(part: csr_array, rows: Ints) -> csr_array:
    return part if rows.size == part.shape[0] else csr_array(part[rows])


def _stretch(part: csr_array, begin: int, end: int) -> csr_array:
    return csr_array(part[begin:end])


def _one(*parts: csr_array) -> csr_array:
    return parts[0] if len(parts) == 1 else csr_array(vstack(parts, format="csr"))


def negative(matrix: csr_array | Parted) -> bool:
    """Whether a value is below 0."""
    found: AnyArray = np.array(matrix.asked(_negative) if isinstance(matrix, Parted) else [_negative(matrix)])
    return bool(found.any())


def _negative(part: csr_array) -> bool:
    return bool(part.nnz and part.data.min() < 0)
