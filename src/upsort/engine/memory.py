"""How many processes the free memory has room for."""

from upsort.core.deferred import psutil


def fitting(processes: int, bytes_each: int) -> int:
    """As many of so many processes as there is room for, this one among them, which needs the same. bytes_each: what each takes
    beside what all share."""
    free = int(psutil.virtual_memory().available)
    return max(1, min(processes, free // max(bytes_each, 1)))
