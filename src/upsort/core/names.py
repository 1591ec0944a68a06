"""Helping with misspelt names."""

from collections.abc import Iterable
from difflib import get_close_matches


def nearest(name: str, known: Iterable[str], most: int = 3) -> list[str]:
    """The known names most like `name`, best first, compared without regard to case."""
    by_folded = {str(candidate).casefold(): str(candidate) for candidate in known}
    return [by_folded[match] for match in get_close_matches(name.casefold(), by_folded, n=most, cutoff=0.5)]


def listed(names: Iterable[str], most: int = 12) -> str:
    """Names in one line, the rest counted when there are many: `a, b, c and 4 more`."""
    every = [str(name) for name in names]
    if len(every) <= most:
        return ", ".join(every)
    return f"{', '.join(every[:most])} and {len(every) - most} more"


def suggestion(name: str, known: Iterable[str], noun: str) -> str:
    """A remedy line for an unknown name: the nearest ones, or all there are."""
    every = list(known)
    close = nearest(name, every)
    if close:
        return f"Nearest {noun}: {listed(close)}. All: {listed(every)}."
    return f"Known {noun}: {listed(every)}." if every else f"There are no {noun}."
