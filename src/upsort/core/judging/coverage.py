"""What decisions cost, and what leaving the less certain documents undecided brings."""

from dataclasses import dataclass

from upsort.core.arrays import Bools, Floats, Ints


def mean_cost(true: Ints, given: Ints, costs: Floats) -> float:
    """The mean of the costs of what was given. costs: (k given, k true)."""
    return float(costs[given, true].mean())


@dataclass(frozen=True)
class Coverage:
    """What leaving the less certain documents undecided brings: for each bound, how many are decided, and right."""

    bounds: tuple[float, ...]
    decided: tuple[int, ...]
    right: tuple[int, ...]
    documents: int


def coverage(probability: Floats, right: Bools) -> Coverage:
    """probability: (n,) of the given label. right: (n,)."""
    bounds = tuple(round(0.05 * step, 2) for step in range(20))
    decided = [probability >= bound for bound in bounds]
    return Coverage(
        bounds,
        tuple(int(mask.sum()) for mask in decided),
        tuple(int((mask & right).sum()) for mask in decided),
        int(probability.size),
    )
