"""What jobs tell while they run, and when there was nothing to do."""

from collections.abc import Callable

from upsort.files.set_aside import RejectedRows

Advance = Callable[[int], None]
"""Called with the number of documents done since the last call."""


def no_progress(done: int) -> None:
    """Advance nothing."""


def nothing_usable(rejects: RejectedRows) -> str:
    """Why nothing was left, from the reasons of the rows set aside."""
    if not rejects.count:
        return "the table has no rows"
    return "; ".join(f"{number} rows with {reason}" for reason, number in rejects.reasons.most_common(3))
