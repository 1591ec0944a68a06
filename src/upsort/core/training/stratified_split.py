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

from upsort.core.arrays import AnyArray, Bools, Floats, Ints, Keys, TextColumn, distinct_sorted
from upsort.core.lazy import record

_MOST_EXCHANGED = 160  # groups among which pairs are exchanged; of more the greedy deal is near enough
_MOST_EXCHANGES = 400
_AT_ONCE = 1 << 16  # groups dealt together, which bounds the memory it takes
_MIXER = np.uint64(0x9E3779B97F4A7C15)


def text_digests(texts: Sequence[str]) -> Keys:
    """(n,) a number for each text, the same for equal ones."""
    if isinstance(texts, TextColumn):
        return texts.digests(xxhash.xxh3_64_intdigest)
    return np.array([_digest(text) for text in texts], dtype=np.uint64)


def document_keys(digests: Keys, references: Sequence[str]) -> Keys:
    """(n,) a number for each document, told by its text; documents of one text are distinguished by reference, then by place."""
    keys, seen = digests.copy(), dict[int, int]()
    for place in repeated_places(digests).tolist():
        key = _digest(f"{keys[place]}\0{references[place]}")
        seen[key] = seen.get(key, 0) + 1
        keys[place] = key if seen[key] == 1 else _digest(f"{key}\0{seen[key]}")
    return keys


def repeated_places(numbers: Keys) -> Ints:
    """Places of numbers that come more than once."""
    ordered = np.sort(numbers)
    repeated = ordered[1:][ordered[1:] == ordered[:-1]]
    return np.flatnonzero(np.isin(numbers, repeated)) if repeated.size else np.zeros(0, dtype=np.int64)


def _digest(text: str) -> int:
    return xxhash.xxh3_64_intdigest(text.encode("utf-8", "surrogatepass"))


def shuffled(documents: int, seed: int, keys: Keys | None = None) -> Ints:
    """(documents,) places in an order that depends on the seed and the keys alone; without keys on the seed and the places."""
    numbers = np.arange(documents, dtype=np.uint64) if keys is None else keys
    mixed = _mixed(numbers ^ _mixed(np.array([seed + 1], dtype=np.uint64)))
    return np.argsort(mixed, kind="stable")  # only equal numbers are mixed to equal ones


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
    group = _numbered(documents.groups, shuffled(documents.labels.size, seed, documents.keys))
    assignment = _Assignment(_Content(documents, group), shares)
    assignment.several()
    assignment.single_groups()
    assignment.spread_labels()
    return assignment.part[group]


class _Content:
    """How many documents of each label, and of all, are in each of g groups. What most groups are, one document, is looked up.

    group: (n,) of each document. sizes: (g,) documents of each group. sums: (k + 1,) of all groups."""

    def __init__(self, documents: SplitKeys, group: Ints) -> None:
        self.labels, self.sets, self.group = documents.labels, documents.sets, group
        self.sizes = np.bincount(group)
        n, k = group.size, documents.sets.shape[1] if documents.sets is not None else int(self.labels.max(initial=-1)) + 1
        times = documents.sets.sum(axis=0) if documents.sets is not None else np.bincount(self.labels, minlength=k)
        self.sums = np.append(times, n)
        self._document = np.empty(self.sizes.size, dtype=np.int64)
        self._document[group] = np.arange(n)
        several = self.sizes > 1
        self._place = np.cumsum(several) - 1
        self._several = np.zeros((int(several.sum()), k + 1), dtype=np.int32)
        members = np.flatnonzero(several[group])
        for begin in range(0, members.size, _AT_ONCE):
            some = members[begin : begin + _AT_ONCE]
            np.add.at(self._several, self._place[group[some]], self._of_documents(some))

    def rows(self, groups: Ints) -> AnyArray:
        """(m, k + 1) of some groups that have one document each, or several each."""
        if self.sizes[groups].max(initial=1) == 1:
            return self._of_documents(self._document[groups])
        several: AnyArray = self._several[self._place[groups]]
        return several

    def only_labels(self, groups: Ints) -> Ints | None:
        """(m,) the label of groups that have one document each; None where one has not one label."""
        if self.sets is None:
            return self.labels[self._document[groups]]
        own = self.sets[self._document[groups]]
        return own.argmax(axis=1) if (own.sum(axis=1) == 1).all() else None

    def holders(self, label: int) -> Ints:
        """The groups that have a label."""
        having = self.sets[:, label] if self.sets is not None else self.labels == label
        return distinct_sorted(self.group[having])

    def _of_documents(self, documents: Ints) -> AnyArray:
        made = np.zeros((documents.size, self.sums.size), dtype=np.int32)
        made[:, -1] = 1
        if self.sets is not None:
            made[:, :-1] = self.sets[documents]
        else:
            made[np.arange(documents.size), self.labels[documents]] = 1
        return made


def folds_of(documents: SplitKeys, folds: int, seed: int) -> Ints:
    """(n,) the fold, 0 to folds − 1, of each document: `deal` to parts of equal shares."""
    return assign_parts(documents, np.full(folds, 1.0 / folds), seed)


def held_out_of(documents: SplitKeys, share: float, seed: int) -> Bools:
    """(n,) which documents are held out: `deal` to a part of that share and the rest."""
    held_out: Bools = np.asarray(assign_parts(documents, np.array([share, 1.0 - share]), seed) == 0)
    return held_out


def _numbered(groups: Ints | None, order: Ints) -> Ints:
    """(n,) the group of each document, where groups are numbered in the order in which they first come; without groups each is
    one."""
    numbers = np.empty(order.size, dtype=np.int64)
    if groups is None:
        numbers[order] = np.arange(order.size)
        return numbers
    _, first, inverse = np.unique(groups[order], return_index=True, return_inverse=True)
    rank = np.empty(first.size, dtype=np.int64)
    rank[np.argsort(first)] = np.arange(first.size)
    numbers[order] = rank[inverse]
    return numbers


class _Assignment:
    """The state of one deal. part: (g,) −1 while not dealt. counts: (parts, k + 1) documents of each label, and of all, dealt so
    far."""

    def __init__(self, content: _Content, shares: Floats) -> None:
        self.shares, self.content = shares, content
        self.part = np.full(content.sizes.size, -1, dtype=np.int64)
        self.counts = np.zeros((shares.size, content.sums.size))
        self.weights = 1.0 / np.maximum(content.sums, 1)
        self.sizes = content.sizes

    def several(self) -> None:
        """Deal the groups of several documents, the largest first."""
        several = np.flatnonzero(self.sizes > 1)
        several = several[np.argsort(-self.sizes[several], kind="stable")]
        goal = self.shares[:, None] * self.content.sums
        content = self.content.rows(several)
        pure = ((content[:, :-1] > 0).sum(axis=1) == 1) & (content[:, :-1].max(axis=1, initial=0) == self.sizes[several])
        main = content[:, :-1].argmax(axis=1) if content.shape[1] > 1 else np.zeros(several.size, dtype=np.int64)
        for size in np.unique(self.sizes[several])[::-1].tolist():
            same = self.sizes[several] == size
            for place in np.flatnonzero(same & ~pure).tolist():
                after = ((self.counts + content[place] - goal) ** 2 - (self.counts - goal) ** 2) * self.weights
                self._put(several[place : place + 1], np.array([int(np.argmin(np.round(after.sum(axis=1), 9)))]))
            for label in np.unique(main[same & pure]).tolist():
                self._fill(several[same & pure & (main == label)], label, size)
        if several.size <= _MOST_EXCHANGED:
            self._exchange(several)

    def single_groups(self) -> None:
        """Deal the documents that stand alone, so that they even out what the groups left uneven."""
        alone = np.flatnonzero(self.sizes == 1)
        label_of = self.content.only_labels(alone)
        if label_of is not None:
            for label in np.unique(label_of).tolist():
                self._fill(alone[label_of == label], label, 1)
            return
        content = self.content.rows(alone)
        order = np.lexsort(content[:, :-1].T)
        alone, content = alone[order], content[order]
        while (left := self.part[alone] < 0).any():
            times = content[left, :-1].sum(axis=0)
            if not times.any():
                self._fill(alone[left], -1, 1)  # those without a label
                return
            rarest = int(np.argmin(np.where(times > 0, times, times.max() + 1)))
            self._fill(alone[left & (content[:, rarest] > 0)], rarest, 1)

    def spread_labels(self) -> None:
        """See to it that a label of two groups or more is in two parts."""
        for label in range(self.content.sums.size - 1):
            holders = self.content.holders(label)
            if holders.size > 1 and (self.part[holders] == self.part[holders[0]]).all():
                smallest = holders[np.argmin(self.sizes[holders])]
                lacking = np.where(np.arange(self.shares.size) == self.part[smallest], np.inf, self.counts[:, -1] / self.shares)
                self._move(int(smallest), int(np.argmin(lacking)))

    def _fill(self, groups: Ints, label: int, size: int) -> None:
        """Deal groups that hold `size` documents of one label each, always to the part with most claim."""
        held = self.counts[:, -1] / self.shares
        for begin in range(0, groups.size, _AT_ONCE):
            some = groups[begin : begin + _AT_ONCE]
            parts, filled = np.repeat(np.arange(self.shares.size), some.size), np.repeat(held, some.size)
            level = (self.counts[:, label, None] + size * (np.arange(some.size) + 0.5)) / self.shares[:, None]
            order = np.lexsort((parts, filled, np.round(level.reshape(-1), 9)))
            self._put(some, parts[order[: some.size]])

    def _put(self, groups: Ints, parts: Ints) -> None:
        self.part[groups] = parts
        np.add.at(self.counts, parts, self.content.rows(groups))

    def _move(self, group: int, part: int) -> None:
        (content,) = self.content.rows(np.array([group]))
        self.counts[self.part[group]] -= content
        self.counts[part] += content
        self.part[group] = part

    def _exchange(self, groups: Ints) -> None:
        """Move a group, or exchange two, as long as that brings the counts nearer to their shares."""
        content = self.content.rows(groups).astype(np.float64)
        goal = self.shares[:, None] * content.sum(axis=0)
        content = np.vstack((content, np.zeros((1, content.shape[1]))))  # the last represents no group: a mere move
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
