"""Which documents belong together: those of one group, and those that copy each other, directly or by way of others.

Copies are told from the whole text as it was written, whatever the features keep of it (see `near_copies`), so that one
corpus has the same copies under every plan. Every kind of split keeps what belongs together on one side (see `splits`).
"""

from collections.abc import Sequence

import numpy as np

from upsort.core.arrays import Bools, Ints
from upsort.core.features.prints import Fingerprints
from upsort.core.judging.near_copies import SIMILARITY, find_duplicates
from upsort.core.records import record


@record(frozen=True)
class Groups:
    """n documents. named: (n,) the group that a column names, as a number; those without one stand for themselves. copied: (n,)
    the same of copies. Either is None where nothing was looked for."""

    named: Ints | None = None
    copied: Ints | None = None

    @property
    def groups(self) -> Ints | None:
        """(n,) documents of one number belong together for either reason."""
        return joined(self.named, self.copied)

    @property
    def copies(self) -> int:
        """How many documents copy an earlier one."""
        return int(self.copied.size - np.unique(self.copied).size) if self.copied is not None else 0

    def rows(self, chosen: Bools | Ints) -> "Groups":
        """Of some of the documents."""
        return Groups(
            self.named[chosen] if self.named is not None else None,
            self.copied[chosen] if self.copied is not None else None,
        )


def named_groups(cells: Sequence[str]) -> Ints:
    """(n,) the number of each document's group; an empty cell is a group of its own."""
    numbers: dict[str, int] = {}
    return np.array(
        [numbers.setdefault(cell, len(numbers)) if cell else -1 - place for place, cell in enumerate(cells)],
        dtype=np.int64,
    )


def duplicate_groups(fingerprints: Fingerprints) -> Ints:
    """(n,) a number for each document; copies, and copies of copies, share one."""
    return duplicate_groups_of(find_duplicates(fingerprints, SIMILARITY).earliest())


def duplicate_groups_of(copies: Ints) -> Ints:
    """The same. copies: (n,) the earlier document that each copies, or −1."""
    later = np.flatnonzero(copies >= 0)
    return _connected(later, copies[later], copies.size)


def joined(first: Ints | None, second: Ints | None) -> Ints | None:
    """Groups in which documents stay together that share a number in either."""
    if first is None or second is None:
        return second if first is None else first
    n = first.size
    _, rows = np.unique(first, return_inverse=True)
    width = int(rows.max(initial=-1)) + 1
    _, columns = np.unique(second, return_inverse=True)
    group = _connected(rows, width + columns, width + int(columns.max(initial=-1)) + 1)
    return np.asarray(group[rows], dtype=np.int64).reshape(n)


def _connected(left: Ints, other: Ints, size: int) -> Ints:
    """(size,) the number of each node's connected part, in the order of their first nodes; one, other: the ends of each link.

    The roots of both ends get the smaller of the two as theirs, and every node the root of its root, until nothing changes
    (Shiloach & Vishkin 1982).
    """
    root = np.arange(size)
    while True:
        smaller = np.minimum(root[left], root[other])
        lower = root.copy()
        np.minimum.at(lower, root[left], smaller)
        np.minimum.at(lower, root[other], smaller)
        while np.any(lower != lower[lower]):
            lower = lower[lower]
        if np.array_equal(lower, root):
            first = root == np.arange(size)
            return np.asarray((np.cumsum(first) - 1)[root], dtype=np.int64)
        root = lower
