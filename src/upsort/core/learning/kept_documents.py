"""The documents that a sorter keeps to be extended with: counts of all their terms, never their text.

Of many documents a sample is kept, the same share of each label: those with the smallest keys, which are numbers drawn from the
documents themselves. The smallest of some kept and of all new ones are the smallest of all, so that a sample stays one however
often documents are added. Each kept document counts as much as those of its label that it stands for.
"""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import AnyArray, Bools, Floats, Ints, Keys
from upsort.core.features.measured import Measured
from upsort.core.features.measuring import all_cells
from upsort.core.features.prints import Prints
from upsort.core.features.prints import joined as joined_prints
from upsort.core.learning.labelled import Labelled
from upsort.core.records import record
from upsort.core.sparse import column_sizes, from_cells, one_below_the_other

MOST_KEPT = 20_000
"""Documents that a sorter keeps at most."""


@record(frozen=True, kw_only=True)
class KeptDocuments:
    """n documents.

    measured: the counts of all their terms, and the cells beside. labels: (n,) numbers into `names`. sets: (n, k), where
    documents may have several labels, of which `labels` has the first. weights: (n,) of the rows, None where all count the same.
    named: (n,) a number for the group that a column names, −1 without one; None without such a column. keys: (n,) see `dealing`.
    prints: to tell copies by. stands_for: (k,) documents of each label that there were.
    """

    measured: Measured
    labels: Ints
    names: tuple[str, ...]
    sets: Bools | None
    weights: Floats | None
    named: Ints | None
    keys: Keys
    prints: Prints
    stands_for: Ints

    @property
    def documents(self) -> int:
        """How many are kept."""
        return int(self.labels.size)

    @property
    def are_all(self) -> bool:
        """Whether none is missing."""
        return self.documents == int(self.stands_for.sum())

    def rows(self, chosen: Ints) -> "KeptDocuments":
        """Some of them; terms that none of those has are forgotten."""
        measured = self.measured.rows(chosen)
        present = np.flatnonzero(column_sizes(measured.counts))
        counts = measured.here.tocsc()[:, present].tocsr()
        measured = replace(
            measured,
            counts=csr_array(counts),
            terms=[measured.terms[place] for place in present.tolist()],
            hashed=measured.hashed[present] if measured.hashed is not None else None,
            vectors=None,
        )
        return replace(
            self,
            measured=measured,
            labels=self.labels[chosen],
            sets=self.sets[chosen] if self.sets is not None else None,
            weights=self.weights[chosen] if self.weights is not None else None,
            named=self.named[chosen] if self.named is not None else None,
            keys=self.keys[chosen],
            prints=self.prints.rows(chosen),
        )

    def labelled(self, groups: Ints | None) -> Labelled:
        """As training takes them. groups: (n,) who belongs together. Where documents are missing, those that are there count for
        them."""
        weights = self.weights
        if not self.are_all:
            there = np.maximum(np.bincount(self.labels, minlength=len(self.names)), 1)
            factor = (self.stands_for / there)[self.labels]
            weights = factor if weights is None else weights * factor
        return Labelled(
            measured=self.measured,
            labels=self.labels,
            names=self.names,
            weights=weights,
            groups=groups,
            keys=self.keys,
            sets=self.sets,
        )


def thinned(kept: KeptDocuments, most: int = MOST_KEPT) -> KeptDocuments:
    """At most about so many documents, the same share of each label, at least one."""
    if kept.documents <= most:
        return kept
    chosen = []
    for label in range(len(kept.names)):
        mine = np.flatnonzero(kept.labels == label)
        many = min(max(round(most * kept.stands_for[label] / kept.stands_for.sum()), 1), mine.size)
        chosen.append(mine[np.argsort(kept.keys[mine], kind="stable")[:many]])
    return kept.rows(np.sort(np.concatenate(chosen)))


def joined(first: KeptDocuments, second: KeptDocuments) -> KeptDocuments:
    """Both, one after the other, over the terms and labels of either. Raises ValueError where their columns differ."""
    if (first.measured.hashed is None) != (second.measured.hashed is None):
        raise ValueError("documents with hashed terms and without")
    names = tuple(sorted({*first.names, *second.names}))
    measured = _joined_measured((first.measured, second.measured))
    return KeptDocuments(
        measured=measured,
        labels=np.concatenate([_renumbered(one, names)[one.labels] for one in (first, second)]),
        names=names,
        sets=_joined_sets(first, second, names),
        weights=_joined_optional(first.weights, second.weights),
        named=_joined_optional(first.named, second.named),
        keys=np.concatenate((first.keys, second.keys)),
        prints=joined_prints([first.prints, second.prints]),
        stands_for=np.sum(
            [np.bincount(_renumbered(one, names), one.stands_for, len(names)) for one in (first, second)], axis=0
        ).astype(np.int64),
    )


def _renumbered(one: KeptDocuments, names: Sequence[str]) -> Ints:
    return np.array([names.index(name) for name in one.names], dtype=np.int64)


def _joined_measured(parts: Sequence[Measured]) -> Measured:
    hashed = [part.hashed for part in parts if part.hashed is not None]
    if hashed:
        every = np.unique(np.concatenate(hashed))
        columns = [np.searchsorted(every, one) for one in hashed]
        called = {
            number: name
            for part, one in zip(parts, hashed, strict=True)
            for number, name in zip(one.tolist(), part.terms, strict=True)
        }
        terms = [called[number] for number in every.tolist()]
    else:
        every = None
        terms = sorted({term for part in parts for term in part.terms})
        place = {term: number for number, term in enumerate(terms)}
        columns = [np.array([place[term] for term in part.terms], dtype=np.int64) for part in parts]
    return Measured(
        counts=one_below_the_other(
            [_in_columns(part.here, where, len(terms)) for part, where in zip(parts, columns, strict=True)]
        ),
        terms=terms,
        tokens=np.concatenate([part.tokens for part in parts]),
        cells=all_cells([part.cells for part in parts]),
        hashed=every,
        distinct=len(terms),
    )


def _in_columns(counts: csr_array, columns: Ints, width: int) -> csr_array:
    rows = np.repeat(np.arange(counts.shape[0]), np.diff(counts.indptr))
    return from_cells(counts.data, rows, columns[counts.indices], (counts.shape[0], width))


def _joined_sets(first: KeptDocuments, second: KeptDocuments, names: Sequence[str]) -> Bools | None:
    if first.sets is None or second.sets is None:
        return None
    found = np.zeros((first.documents + second.documents, len(names)), dtype=bool)
    found[: first.documents, _renumbered(first, names)] = first.sets
    found[first.documents :, _renumbered(second, names)] = second.sets
    return found


def _joined_optional(first: AnyArray | None, second: AnyArray | None) -> AnyArray | None:
    return np.concatenate((first, second)) if first is not None and second is not None else None
