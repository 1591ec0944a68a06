"""How independent pieces of work are done: one after the other here, or by whatever an engine has."""

from collections.abc import Callable
from typing import Protocol, TypeVar

Result = TypeVar("Result")


class ParallelMap(Protocol):
    """Does pieces of work that do not know of each other."""

    def __call__(self, work: Callable[[int], Result], count: int, /) -> list[Result]:
        """What the work makes of each number below the count, in their order."""


def sequential(work: Callable[[int], Result], count: int) -> list[Result]:
    """In this process, one after the other."""
    return [work(number) for number in range(count)]
