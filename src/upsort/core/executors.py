"""How independent pieces of work are done: one after the other here, or by whatever an engine has.

Work on large arrays by several threads, which NumPy lets run side by side."""

from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from typing import Protocol, TypeVar

Result = TypeVar("Result")


class ParallelMap(Protocol):
    """Does pieces of work that do not know of each other."""

    def __call__(self, work: Callable[[int], Result], count: int, /) -> list[Result]:
        """What the work makes of each number below the count, in their order."""


def sequential(work: Callable[[int], Result], count: int) -> list[Result]:
    """In this process, one after the other."""
    return [work(number) for number in range(count)]


def reporting(work: Callable[[int], Result], done: Callable[[int], None]) -> Callable[[int], Result]:
    """The same work, which calls `done` with 1 after each piece."""

    def report(number: int) -> Result:
        result = work(number)
        done(1)
        return result

    return report


Item = TypeVar("Item")
Value = TypeVar("Value")


def map_threads(work: Callable[[Item], Value], items: Iterable[Item], threads: int) -> list[Value]:
    """What the work makes of each item, in the order of the items; so many are worked on at once. Where it ends with an
    exception, or is interrupted, nobody waits for those in work."""
    if threads == 1:
        return [work(item) for item in items]
    pool = ThreadPoolExecutor(threads)
    try:
        return list(pool.map(work, items))
    finally:
        pool.shutdown(wait=False, cancel_futures=True)
