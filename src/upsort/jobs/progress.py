"""What jobs tell while they run, and when there was nothing to do."""

from collections.abc import Callable

from upsort.files.set_aside import SetAside

Advance = Callable[[int], None]
"""Called with the number of documents done since the last call."""


def no_progress(done: int) -> None:
    """Advance nothing."""


def nothing_usable(aside: SetAside) -> str:
    """Why nothing was left, from the reasons of the rows set aside."""
    if not aside.count:
        return "the table has no rows"
    return "; ".join(f"{number} rows with {reason}" for reason, number in aside.reasons.most_common(3))
