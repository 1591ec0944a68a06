"""Which documents belong together, the splits by which a plan is judged, and how each kind keeps on one side what belongs
together.

- stratified: the documents of each label are dealt to the folds (see `training.stratified_split`); repeated with other
  seeds on request.
  Whole groups are dealt.
- in time: the documents in the order of their dates are cut into folds + 1 stretches; each stretch after the first is held
  out, and trained on is what came before it (Hyndman & Athanasopoulos 2021, section 5.10)
- each one alone: as many folds as documents
- given: by the values of a column

The last three say themselves what is held out. From their training parts every document is taken that belongs together with one
that is held out, and those taken out are counted."""

from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

import numpy as np

from upsort.core.arrays import Bools, Floats, Ints, distinct_sorted
from upsort.core.errors import DataProblem, UsageProblem, listed
from upsort.core.evaluation.duplicates import CLOSE, NEVER_COMMON, Duplicates, SimilarPairs, joined
from upsort.core.lazy import record
from upsort.core.plan import Judge
from upsort.core.training.folds import Split
from upsort.core.training.labelled import LabelledDocuments
from upsort.core.training.stratified_split import folds_of, held_out_of

_MOST_ALONE = 2000


@record(frozen=True)
class Splits:
    """excluded: (s,) of each split, the documents that its training part had to give up because they belong together with
    held-out ones. undated: documents without a date, which a split in time neither learns from nor judges."""

    each: tuple[Split, ...]
    excluded: tuple[int, ...]
    undated: int = 0

    @staticmethod
    def whole(each: Sequence[Split]) -> "Splits":
        """Splits that keep groups whole by themselves."""
        return Splits(tuple(each), (0,) * len(each))


@record(frozen=True)
class SplitOrder:
    """What else a split may use. dates: (n,) numbers that grow with time, NaN where unknown. folds: (n,) the fold of each
    document by name, where a column says it."""

    dates: Floats | None = None
    folds: Sequence[str] = ()


@record(frozen=True, kw_only=True)
class Groups:
    """n documents. named: (n,) the group that a column names, as a number; those without one represent themselves. copied: (n,)
    the same of similar documents. close: (n,) of exact and close copies alone; similar: (n,) of all similar documents, however
    many come together. All are None where nothing was looked for.

    Copies are told from the whole text as it was written, whatever the features keep of it, so that one corpus has the same
    copies under every plan. Every kind of split keeps what belongs together on one side (see `splits`)."""

    named: Ints | None = None
    copied: Ints | None = None
    close: Ints | None = None
    similar: Ints | None = None

    @staticmethod
    def of(named: Ints | None, duplicates: Duplicates | None) -> "Groups":
        """Similar documents stay together as long as no set has more than a tenth of all documents: pairs are joined by falling
        similarity, and those that would make a larger set, with the named groups, are left apart. Copies of at least 0.8 always
        stay together."""
        if duplicates is None:
            return Groups(named=named)
        n, pairs = duplicates.exact.size, duplicates.pairs
        sure = duplicates.above(CLOSE)
        close, similar, largest = sure.groups(), duplicates.groups(), max(_LARGEST * n, NEVER_COMMON)
        whole = joined(named, similar)
        assert whole is not None
        if np.unique(whole, return_counts=True)[1].max(initial=0) <= largest:
            return Groups(named=named, copied=similar, close=close, similar=similar)
        weak = np.flatnonzero(pairs.similarity < CLOSE)
        weak = weak[np.argsort(-pairs.similarity[weak], kind="stable")]
        linked = _joined_up_to(joined(named, close), pairs.later[weak], pairs.earlier[weak], largest)
        every = [np.flatnonzero(pairs.similarity >= CLOSE), weak[linked]]
        chosen = np.sort(np.concatenate(every))
        kept = SimilarPairs(pairs.later[chosen], pairs.earlier[chosen], pairs.similarity[chosen])
        return Groups(named=named, copied=Duplicates(duplicates.exact, kept).groups(), close=close, similar=similar)

    @property
    def groups(self) -> Ints | None:
        """(n,) documents of one number belong together for either reason."""
        return joined(self.named, self.copied)

    @property
    def copies(self) -> int:
        """How many documents are similar to an earlier one that they are kept together with."""
        return int(self.copied.size - np.count_nonzero(np.bincount(self.copied))) if self.copied is not None else 0

    @property
    def largest(self) -> int:
        """How many documents the largest set of similar documents has."""
        return int(np.bincount(self.copied).max(initial=0)) if self.copied is not None else 0

    @property
    def divided(self) -> int:
        """How many documents are in sets of similar ones that are not kept together as a whole."""
        if self.similar is None or (groups := self.groups) is None:
            return 0
        parts = np.unique(np.stack((self.similar, groups)), axis=1)[0]
        return int(np.isin(self.similar, parts[1:][parts[1:] == parts[:-1]]).sum())

    def rows(self, chosen: Bools | Ints) -> "Groups":
        """Of some of the documents."""
        named, copied, close, similar = (
            numbers[chosen] if numbers is not None else None for numbers in (self.named, self.copied, self.close, self.similar)
        )
        return Groups(named=named, copied=copied, close=close, similar=similar)

    def splittable(self, labels: Ints, sets: Bools | None = None) -> "Groups":
        """Groups that leave each label in more than one, where closeness allows: a label whose documents are all in one group
        only because they are similar is divided into its close copies. labels: (n,) numbers. sets: (n, k) where documents may
        have several labels; nothing is divided then."""
        if sets is not None:
            return self
        groups = self.groups
        if groups is None or self.copied is None or self.close is None:
            return self
        pairs = np.stack(np.divmod(distinct_sorted(labels * (groups.max() + 1) + groups), groups.max() + 1))
        alone = pairs[0][np.bincount(pairs[0])[pairs[0]] == 1]
        divided = np.isin(groups, pairs[1][np.isin(pairs[0], alone)])
        if not divided.any():
            return self
        return replace(self, copied=np.where(divided, self.copied.max() + 1 + self.close, self.copied))


_LARGEST = 0.1
"""Share of the documents that a set of similar ones may have."""


def _joined_up_to(groups: Ints | None, left: Ints, other: Ints, most: float) -> Bools:
    """(p,) which of the links, taken in their order, join groups without making one of more than so many documents. groups: (n,)
    what belongs together before."""
    assert groups is not None
    _, root, sizes = np.unique(groups, return_inverse=True, return_counts=True)
    above, size = list(range(sizes.size)), sizes.tolist()
    linked = np.zeros(left.size, dtype=bool)

    def top(number: int) -> int:
        while above[number] != number:
            above[number] = above[above[number]]
            number = above[number]
        return number

    for place, (one, two) in enumerate(zip(root[left].tolist(), root[other].tolist(), strict=True)):
        first, second = top(one), top(two)
        if first == second:
            linked[place] = True
        elif size[first] + size[second] <= most:
            above[second] = first
            size[first] += size[second]
            linked[place] = True
    return linked


def named_groups(cells: Sequence[str]) -> Ints:
    """(n,) the number of each document's group; an empty cell is a group of its own."""
    numbers: dict[str, int] = {}
    return np.array(
        [numbers.setdefault(cell, len(numbers)) if cell else -1 - place for place, cell in enumerate(cells)], dtype=np.int64
    )


def splits(documents: LabelledDocuments, settings: Judge, order: SplitOrder | None = None) -> Splits:
    """The splits that a plan asks for.

    Raises UsageProblem for wishes that exclude each other, and DataProblem, with the numbers, for what the documents do not
    allow."""
    order = order or SplitOrder()
    _check(settings, bool(order.folds))
    if order.folds:
        return _separated(_given(order.folds), documents.groups)
    if settings.in_time:
        if order.dates is None or np.isnan(order.dates).all():
            raise DataProblem("To judge in time, documents need dates.", "Name their column with --set columns.date=COLUMN.")
        undated = int(np.isnan(order.dates).sum())
        return _separated(_in_time(order.dates, settings.folds), documents.groups, undated)
    if settings.alone:
        return _separated(_alone(documents.documents), documents.groups)
    _check_folds(documents, settings.folds)
    made = []
    for repeat in range(settings.repeats):
        seed = settings.seed + repeat
        fold = folds_of(documents.split_keys, settings.folds, seed)
        made += [Split(np.flatnonzero(fold != number), np.flatnonzero(fold == number)) for number in range(settings.folds)]
    return Splits.whole(made)


def hold_out(documents: LabelledDocuments, share: float, seed: int) -> Bools:
    """(n,) which documents are held out: about `share` of each label's, at least one on either side, groups whole.

    Raises DataProblem for a label all of whose documents would be on one side, unless documents may have several. The empty label
    is that of documents with another answer only, which may be on either."""
    if documents.sets is not None:
        return held_out_of(documents.split_keys, share, seed)
    sizes = documents.label_documents
    lone = [repr(name) for name, size in zip(documents.names, sizes.tolist(), strict=True) if size == 1 and name]
    if lone:
        raise DataProblem(
            f"A split needs at least two documents of each label, one for each side; a single one has: {', '.join(lone[:5])}.",
            "Leave out or merge the small labels, or add documents of them.",
        )
    _check_groups(documents)
    return held_out_of(documents.split_keys, share, seed)


def latest(dates: Floats, share: float, groups: Ints | None) -> tuple[Bools, Bools]:
    """(n,) which documents are held out, being the latest `share` of those with a date, and (n,) which earlier ones belong
    together with one of them, so that nothing may be learned from them. Documents of one date stay on one side."""
    known = dates[~np.isnan(dates)]
    if np.unique(known).size < 2:
        raise DataProblem("To split in time, rows need dates.", "Name their column with --set columns.date=COLUMN.")
    bound = max(float(np.sort(known)[int(np.floor((1.0 - share) * known.size))]), float(np.unique(known)[1]))
    held_out: Bools = np.asarray(dates >= bound)
    return held_out, _with_whole_groups(held_out, groups) & ~np.isnan(dates)


def _check(settings: Judge, given: bool) -> None:
    """Raises UsageProblem for kinds of split that exclude each other."""
    wishes = [
        ("columns.fold", given),
        ("judge.in_time", settings.in_time),
        ("judge.alone", settings.alone),
        ("judge.repeats", settings.repeats > 1),
    ]
    conflicts = [name for name, wish in wishes if wish]
    if len(conflicts) > 1:
        raise UsageProblem(
            f"{conflicts[0]} and {conflicts[1]} cannot both say which documents are held out.", "Leave one of them out."
        )


def _check_folds(documents: LabelledDocuments, folds: int) -> None:
    names, sizes = documents.names, documents.label_documents
    small = [number for number in range(len(names)) if 0 < sizes[number] < folds]
    if documents.sets is not None:  # a label that a fold lacks is no reason not to judge the others
        small = []
        if documents.documents < folds:
            raise DataProblem(
                f"{folds} folds need at least {folds} documents; there are {documents.documents}.", "Give more documents."
            )
    if small:
        small.sort(key=lambda number: sizes[number])
        scarce = listed((f"{names[number]!r} has {sizes[number]}" for number in small), 5)
        fewest = int(sizes[small[0]])
        fewer = f"use --folds {fewest}, or " if fewest >= 2 else ""
        raise DataProblem(
            f"{folds} folds need at least {folds} documents of each label; {scarce}.",
            f"To go on, {fewer}leave out the small labels: upsort gather --rare-below {folds} (--rare-into other merges them; "
            "--labels names those to keep).",
        )
    groups = np.unique(documents.groups).size if documents.groups is not None else folds
    if groups == 1:
        raise DataProblem(
            "All documents are in one group, or copies of each other: no split can learn from some and judge others.",
            "Give further documents, or name another column with columns.group.",
        )
    if groups < folds:
        raise DataProblem(
            f"{folds} folds need at least {folds} documents, or groups of them, that do not belong together; there are {groups}.",
            f"Use --folds {groups}.",
        )
    _check_groups(documents)


def _check_groups(documents: LabelledDocuments) -> None:
    """Raises DataProblem for a label whose documents all belong together."""
    if documents.groups is None or documents.sets is not None:
        return
    k = len(documents.names)
    _, group = np.unique(documents.groups, return_inverse=True)
    groups_of_label = np.bincount(distinct_sorted(group * k + documents.labels) % k, minlength=k)
    scarce = [number for number in np.flatnonzero(groups_of_label == 1).tolist() if documents.names[number]]
    if scarce:
        number = scarce[0]
        raise DataProblem(
            f"All {int((documents.labels == number).sum())} documents of {documents.names[number]!r} are in one group, or copies "
            "of each other: no split can learn it and judge it.",
            "Leave that label out, or keep only closer copies together: --set judge.similarity=0.8.",
        )


def _separated(requested: Sequence[tuple[Ints, Ints]], groups: Ints | None, undated: int = 0) -> Splits:
    """Splits whose held-out sides are wanted as they are; training sides give up what belongs together with them.

    A split that has nothing left to learn from is refused."""
    made, excluded = [], []
    for training, held_out in requested:
        left = training
        if groups is not None:
            left = training[~np.isin(groups[training], groups[held_out])]
        if not left.size:
            raise DataProblem(
                f"All {training.size:,} documents to learn from belong together with held-out ones (the same group, or copies).",
                "Use ordinary folds, which keep groups whole, or name another column with columns.group.",
            )
        made.append(Split(left, held_out))
        excluded.append(training.size - left.size)
    return Splits(tuple(made), tuple(excluded), undated)


def _with_whole_groups(held_out: Bools, groups: Ints | None) -> Bools:
    """(n,) which of the others belong together with a held-out document."""
    if groups is None:
        return np.zeros(held_out.size, dtype=bool)
    return np.asarray(~held_out & np.isin(groups, groups[held_out]))


def _alone(n: int) -> list[tuple[Ints, Ints]]:
    if n > _MOST_ALONE:
        raise DataProblem(
            f"Holding out each of {n:,} documents alone means as many trainings.",
            f"It is meant for up to {_MOST_ALONE:,}; use --folds.",
        )
    return [(np.delete(np.arange(n), place), np.array([place])) for place in range(n)]


def _in_time(dates: Floats, folds: int) -> list[tuple[Ints, Ints]]:
    known = np.flatnonzero(~np.isnan(dates))
    order = known[np.argsort(dates[known], kind="stable")]
    if np.unique(dates[known]).size <= folds:
        raise DataProblem(
            f"{folds} stretches of time need more than {folds} different dates; there are {np.unique(dates[known]).size}.",
            "Use fewer folds.",
        )
    ordered = dates[order]
    cuts = [round(order.size * number / (folds + 1)) for number in range(1, folds + 1)]
    # Documents of one date stay on one side.
    edges = sorted({0, *(int(np.searchsorted(ordered, ordered[cut], side="left")) for cut in cuts), order.size})
    return [(order[:begin], order[begin:end]) for begin, end in pairwise(edges[1:])]


def _given(folds: Sequence[str]) -> list[tuple[Ints, Ints]]:
    names = sorted({fold for fold in folds if fold})
    fold_numbers = np.array([names.index(fold) if fold else -1 for fold in folds])
    if len(names) < 2:
        raise DataProblem(
            f"The column of folds has {len(names)} different value{'s' if len(names) != 1 else ''}; at least two are needed.",
            "Each value is one fold; documents without one are only trained on.",
        )
    return [(np.flatnonzero(fold_numbers != number), np.flatnonzero(fold_numbers == number)) for number in range(len(names))]
