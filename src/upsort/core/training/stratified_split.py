"""Dealing documents to parts in given shares, label by label, groups whole: folds, hold-outs and inner folds all come from here.

The order in which documents are dealt depends on the seed and on what each document is (its key), not on its place in a table:
shuffled rows are dealt alike. Groups of several documents come first, the largest first, each to the part where the squared
distances from the wanted counts (of each label, and of all) grow least; exchanges among them follow as long as one brings the
counts nearer. Documents that stand alone then even out, label by label, by the divisor method of Sainte-Laguë: a part has the
more claim on the next document the smaller (held + 1/2) / share is. Where documents have several labels, the rarest label is
dealt first, then the rarest of what is left (Sechidis, Tsoumakas & Vlahavas 2011), documents of the same labels one after the
other."""

from collections.abc import Sequence

import numpy as np
import xxhash
from scipy.sparse import csr_array

from upsort.core.arrays import AnyArray, Bools, Floats, Ints, Keys, TextColumn
from upsort.core.lazy import record

_MOST_EXCHANGED = 160  # groups among which pairs are exchanged; of more the greedy deal is near enough
_MOST_EXCHANGES = 400
_MIXER = np.uint64(0x9E3779B97F4A7C15)


def text_digests(texts: Sequence[str]) -> Keys:
    """(n,) a number for each text, the same for equal ones."""
    if isinstance(texts, TextColumn):
        return texts.digests(xxhash.xxh3_64_intdigest)
    return np.array([_digest(text) for text in texts], dtype=np.uint64)


def document_keys(digests: Keys, references: Sequence[str]) -> Keys:
    """(n,) a number for each document, told by its text; documents of one text are distinguished by reference, then by place."""
    keys = digests.copy()
    _, first, times = np.unique(keys, return_inverse=True, return_counts=True)
    seen: dict[int, int] = {}
    for place in np.flatnonzero(times[first] > 1).tolist():
        key = _digest(f"{keys[place]}\0{references[place]}")
        seen[key] = seen.get(key, 0) + 1
        keys[place] = key if seen[key] == 1 else _digest(f"{key}\0{seen[key]}")
    return keys


def _digest(text: str) -> int:
    return xxhash.xxh3_64_intdigest(text.encode("utf-8", "surrogatepass"))


def shuffled(documents: int, seed: int, keys: Keys | None = None) -> Ints:
    """(documents,) places in an order that depends on the seed and the keys alone; without keys on the seed and the places."""
    numbers = np.arange(documents, dtype=np.uint64) if keys is None else keys
    mixed = numbers ^ _mixed(np.array([seed + 1], dtype=np.uint64))
    return np.lexsort((numbers, _mixed(mixed))).astype(np.int64)


def _mixed(numbers: Keys) -> Keys:
    """Numbers that look like others drawn at random (the finaliser of splitmix64, Steele, Lea & Flood 2014)."""
    numbers = numbers * _MIXER
    numbers = (numbers ^ (numbers >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    numbers = (numbers ^ (numbers >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return numbers ^ (numbers >> np.uint64(31))


@record(frozen=True, kw_only=True)
class SplitKeys:
    """n documents to be dealt. labels: (n,) numbers from 0. groups: (n,) documents of one number come into one part. keys: see
    `document_keys`. sets: (n, k) where documents may have several labels or none; the labels then mean nothing."""

    labels: Ints
    groups: Ints | None = None
    keys: Keys | None = None
    sets: Bools | None = None


def assign_parts(documents: SplitKeys, shares: Floats, seed: int) -> Ints:
    """(n,) the part, 0 to parts − 1, of each document.

    shares: (parts,) that sum to 1, the share of each label wanted in each part. A label that two groups have is in two parts."""
    labels, groups = documents.labels, documents.groups
    order = shuffled(labels.size, seed, documents.keys)
    group = _numbered(groups if groups is not None else np.arange(labels.size), order)
    g = int(group.max(initial=-1)) + 1
    assignment = _Assignment(_content(documents, group, g), shares)
    assignment.several()
    assignment.single_groups()
    assignment.spread_labels()
    return assignment.part[group]


def _content(documents: SplitKeys, group: Ints, groups: int) -> AnyArray:
    """(groups, k + 1) documents of each label in each group, and of all."""
    n, sets = documents.labels.size, documents.sets
    if sets is None:
        labels, k = documents.labels, int(documents.labels.max(initial=-1)) + 1
        rows, columns = np.concatenate((group, group)), np.concatenate((labels, np.full(n, k)))
        ones = np.ones(2 * n, dtype=np.int32)
        return csr_array((ones, (rows, columns)), shape=(groups, k + 1)).toarray()
    member = csr_array((np.ones(n, dtype=np.int32), (group, np.arange(n))), shape=(groups, n))
    return np.asarray(member @ np.column_stack((sets, np.ones(n, dtype=bool))).astype(np.int32))


def folds_of(documents: SplitKeys, folds: int, seed: int) -> Ints:
    """(n,) the fold, 0 to folds − 1, of each document: `deal` to parts of equal shares."""
    return assign_parts(documents, np.full(folds, 1.0 / folds), seed)


def held_out_of(documents: SplitKeys, share: float, seed: int) -> Bools:
    """(n,) which documents are held out: `deal` to a part of that share and the rest."""
    held_out: Bools = np.asarray(assign_parts(documents, np.array([share, 1.0 - share]), seed) == 0)
    return held_out


def _numbered(groups: Ints, order: Ints) -> Ints:
    """The same groups numbered in the order in which they first come."""
    _, first, inverse = np.unique(groups[order], return_index=True, return_inverse=True)
    rank = np.empty(first.size, dtype=np.int64)
    rank[np.argsort(first)] = np.arange(first.size)
    numbers = np.empty(groups.size, dtype=np.int64)
    numbers[order] = rank[inverse]
    return numbers


class _Assignment:
    """The state of one deal. content: (g, k + 1) documents of each label in each group, and of all. part: (g,) −1 while not
    dealt."""

    def __init__(self, content: AnyArray, shares: Floats) -> None:
        self.shares, self.content = shares, content
        self.part = np.full(len(content), -1, dtype=np.int64)
        self.counts = np.zeros((shares.size, self.content.shape[1]))
        self.weights = 1.0 / np.maximum(self.content.sum(axis=0), 1)
        self.sizes = self.content[:, -1]

    def several(self) -> None:
        """Deal the groups of several documents, the largest first."""
        several = np.flatnonzero(self.sizes > 1)
        several = several[np.argsort(-self.sizes[several], kind="stable")]
        goal = self.shares[:, None] * self.content.sum(axis=0)
        pure = self._single_label_groups() & (self.content[:, :-1].max(axis=1, initial=0) == self.sizes)
        for size in np.unique(self.sizes[several])[::-1].tolist():
            same = several[self.sizes[several] == size]
            for number in same[~pure[same]].tolist():
                after = ((self.counts + self.content[number] - goal) ** 2 - (self.counts - goal) ** 2) * self.weights
                self._put(np.array([number]), np.array([int(np.argmin(np.round(after.sum(axis=1), 9)))]))
            for label in np.unique(self.content[same, :-1].argmax(axis=1)).tolist():
                self._fill(same[pure[same] & (self.content[same, label] == size)], label, size)
        if several.size <= _MOST_EXCHANGED:
            self._exchange(several)

    def single_groups(self) -> None:
        """Deal the documents that stand alone, so that they even out what the groups left uneven."""
        alone = np.flatnonzero(self.sizes == 1)
        if self._single_label_groups()[alone].all():
            label_of = self.content[:, :-1].argmax(axis=1)[alone]
            for label in np.unique(label_of).tolist():
                self._fill(alone[label_of == label], label, 1)
            return
        alone = alone[np.lexsort(self.content[alone, :-1].T)]
        while (left := alone[self.part[alone] < 0]).size:
            times = self.content[left, :-1].sum(axis=0)
            if not times.any():
                self._fill(left, -1, 1)  # those without a label
                return
            rarest = int(np.argmin(np.where(times > 0, times, times.max() + 1)))
            self._fill(left[self.content[left, rarest] > 0], rarest, 1)

    def _single_label_groups(self) -> Bools:
        """(g,) which groups hold one label alone."""
        return np.asarray((self.content[:, :-1] > 0).sum(axis=1) == 1)

    def spread_labels(self) -> None:
        """See to it that a label of two groups or more is in two parts."""
        for label in range(self.content.shape[1] - 1):
            holders = np.flatnonzero(self.content[:, label])
            if holders.size > 1 and np.unique(self.part[holders]).size == 1:
                smallest = holders[np.argmin(self.sizes[holders])]
                lacking = np.where(np.arange(self.shares.size) == self.part[smallest], np.inf, self.counts[:, -1] / self.shares)
                self._move(int(smallest), int(np.argmin(lacking)))

    def _fill(self, groups: Ints, label: int, size: int) -> None:
        """Deal groups that hold `size` documents of one label each, always to the part with most claim."""
        if not groups.size:
            return
        parts = np.repeat(np.arange(self.shares.size), groups.size)
        level = (self.counts[:, label, None] + size * (np.arange(groups.size) + 0.5)) / self.shares[:, None]
        filled = np.repeat(self.counts[:, -1] / self.shares, groups.size)
        order = np.lexsort((parts, filled, np.round(level.reshape(-1), 9)))
        self._put(groups, parts[order[: groups.size]])

    def _put(self, groups: Ints, parts: Ints) -> None:
        self.part[groups] = parts
        np.add.at(self.counts, parts, self.content[groups])

    def _move(self, group: int, part: int) -> None:
        self.counts[self.part[group]] -= self.content[group]
        self.counts[part] += self.content[group]
        self.part[group] = part

    def _exchange(self, groups: Ints) -> None:
        """Move a group, or exchange two, as long as that brings the counts nearer to their shares."""
        goal = self.shares[:, None] * self.content[groups].sum(axis=0)
        nothing = np.zeros((1, self.content.shape[1]))
        content = np.vstack((self.content[groups], nothing)).astype(np.float64)  # the last represents no group: a mere move
        for _ in range(_MOST_EXCHANGES):
            part, off = self.part[groups], self.counts - goal
            best, exchange = -1e-9, (-1, -1, -1)
            for place, number in enumerate(part.tolist()):
                difference = content - content[place]  # what its part gains, and the other loses
                for other in range(self.shares.size):
                    if other == number:
                        continue
                    gain = (
                        ((off[number] + difference) ** 2 - off[number] ** 2) * self.weights
                        + ((off[other] - difference) ** 2 - off[other] ** 2) * self.weights
                    ).sum(axis=1)
                    gain[:-1][part != other] = np.inf
                    least = int(np.argmin(gain))
                    if gain[least] < best:
                        best, exchange = float(gain[least]), (place, least, other)
            if exchange[0] < 0:
                return
            place, least, other = exchange
            if least < groups.size:
                self._move(int(groups[least]), int(part[place]))
            self._move(int(groups[place]), other)
