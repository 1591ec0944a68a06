"""Work on large arrays by several threads, which NumPy lets run side by side."""

from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

Item = TypeVar("Item")
Result = TypeVar("Result")


def by_threads(work: Callable[[Item], Result], items: Iterable[Item], threads: int) -> list[Result]:
    """What the work makes of each item, in the order of the items; so many are worked on at once."""
    if threads == 1:
        return [work(item) for item in items]
    with ThreadPoolExecutor(threads) as pool:
        return list(pool.map(work, items))
