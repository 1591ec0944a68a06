"""Work on large arrays by several threads, which NumPy lets run side by side."""

from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

Item = TypeVar("Item")
Result = TypeVar("Result")


def map_threads(work: Callable[[Item], Result], items: Iterable[Item], threads: int) -> list[Result]:
    """What the work makes of each item, in the order of the items; so many are worked on at once. Where it ends with an
    exception, or is interrupted, nobody waits for those in work."""
    if threads == 1:
        return [work(item) for item in items]
    pool = ThreadPoolExecutor(threads)
    try:
        return list(pool.map(work, items))
    finally:
        pool.shutdown(wait=False, cancel_futures=True)
