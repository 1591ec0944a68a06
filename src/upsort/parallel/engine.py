"""How many processes the free memory has room for.

What jobs ask of whoever does the work: this process, several local ones, or a cluster. They do not know which it is, and the
results are the same.
"""

from collections.abc import Callable, Iterable, Iterator
from typing import Any, Protocol, TypeVar

from upsort.core.executors import ParallelMap
from upsort.core.lazy import psutil
from upsort.core.matrices.partitioned import Executor


def fitting(processes: int, bytes_each: int) -> int:
    """As many of so many processes as there is room for, this one among them, which needs the same. bytes_each: what each takes
    beside what all share."""
    free = int(psutil.virtual_memory().available)
    return max(1, min(processes, free // max(bytes_each, 1)))


Item = TypeVar("Item")
Result = TypeVar("Result")


class ExecutionEngine(Protocol):
    """Does work on many items."""

    @property
    def workers(self) -> int:
        """How many do the work now, all of them together; of a cluster they come and go."""

    @property
    def threads(self) -> int:
        """How many threads what is done here alone may use."""

    @property
    def reads(self) -> bool:
        """Whether those who work read files by themselves; else they are given what was read."""

    @property
    def elsewhere(self) -> bool:
        """Whether the work is done by others than this process and its own: they may be anywhere, are sent what the work holds,
        and may be replaced in the middle of it, so that no item may rest on what an earlier one taught."""

    @property
    def pieces(self) -> int:
        """How many pieces of tables others have done, as `piece_done` was told."""

    def piece_done(self) -> None:
        """One more is."""

    @property
    def executor(self) -> Executor | None:
        """Who keeps the parts of a matrix and works on them; None where that is this process."""

    def in_order(
        self, work: Callable[[Any], Result], items: Iterable[Item], learns: bool = True
    ) -> Iterator[tuple[Item, Result]]:
        """Each item with what the work makes of it, in the order of the items. learns: whether the work is faster for having
        been done before."""

    def parallel(self, at_most: int) -> ParallelMap:
        """What does pieces of work by at most so many at once, where there are that many."""
