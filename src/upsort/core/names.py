"""Helping with misspelt names."""

from collections.abc import Iterable
from difflib import get_close_matches


def nearest(name: str, known: Iterable[str], most: int = 3) -> list[str]:
    """The known names most like `name`, best first, compared without regard to case; letters that changed places come before
    all else."""
    by_folded, folded = {str(candidate).casefold(): str(candidate) for candidate in known}, name.casefold()
    matches = get_close_matches(folded, by_folded, n=most, cutoff=0.5)
    return [by_folded[match] for match in sorted(matches, key=lambda match: sorted(match) != sorted(folded))]


def listed(names: Iterable[str], most: int = 12) -> str:
    """Names in one line, the rest counted when there are many: `a, b, c and 4 more`."""
    every = [str(name) for name in names]
    if len(every) <= most:
        return ", ".join(every)
    return f"{', '.join(every[:most])} and {len(every) - most} more"


def counted(number: int, noun: str) -> str:
    """A number of things in words: `1 row`, `2,400 rows`. noun: in the singular, with a plural in s."""
    return f"{number:,} {noun}{'' if number == 1 else 's'}"


def visible(term: str) -> str:
    """A term as it is shown: the spaces at its ends, which terms of letters have, as ␣."""
    bare = term.strip(" ")
    if len(bare) == len(term) or not bare:
        return "␣" * len(term) if not bare else term
    begin = len(term) - len(term.lstrip(" "))
    return f"{'␣' * begin}{bare}{'␣' * (len(term) - begin - len(bare))}"


def suggestion(name: str, known: Iterable[str], noun: str) -> str:
    """A remedy line for an unknown name: the nearest ones, or all there are."""
    every = list(known)
    close = nearest(name, every)
    if close:
        return f"Nearest {noun}: {listed(close)}. All: {listed(every)}."
    return f"Known {noun}: {listed(every)}." if every else f"There are no {noun}."
