"""The splits by which a plan is judged: for each, the documents that are held out. The others are its training part.

- stratified: the documents of each label are dealt to the folds (see `folds`); repeated with other seeds on request
- grouped: documents of one group, copies among them, stay together
- in time: the documents in the order of their dates are cut into folds + 1 stretches; each stretch after the first is held
  out, and trained on is what came before it (Hyndman & Athanasopoulos 2021, section 5.10)
- each one alone: as many folds as documents
- given: by the values of a column
"""

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from upsort.core.arrays import Floats, Ints
from upsort.core.errors import DataProblem
from upsort.core.judging.folds import dealt_folds, stratified_folds
from upsort.core.plan import Judge

_MOST_ALONE = 2000


@dataclass(frozen=True)
class Split:
    """training, held_out: places of documents; together they need not be all."""

    training: Ints
    held_out: Ints


def splits(
    labels: Ints,
    names: Sequence[str],
    settings: Judge,
    groups: Ints | None = None,
    dates: Floats | None = None,
    given: Sequence[str] = (),
) -> tuple[Split, ...]:
    """The splits that a plan asks for.

    labels: (n,) numbers into `names`. groups: (n,) documents of one number stay together. dates: (n,) numbers that grow with
    time, NaN where unknown. given: the fold of each document by name, where a column tells it. Raises DataProblem, with the
    numbers, for what cannot be done.
    """
    n = labels.size
    if given:
        return _given(given)
    if settings.in_time:
        if dates is None or np.isnan(dates).all():
            raise DataProblem(
                "To judge in time, documents need dates.", "Name their column with --set columns.date=COLUMN."
            )
        return _in_time(dates, settings.folds)
    if settings.alone:
        if n > _MOST_ALONE:
            raise DataProblem(
                f"Holding out each of {n:,} documents alone means as many trainings.",
                f"It is meant for up to {_MOST_ALONE:,}; use --folds.",
            )
        return tuple(Split(np.delete(np.arange(n), place), np.array([place])) for place in range(n))
    found = []
    for repeat in range(settings.repeats):
        seed = settings.seed + repeat
        if groups is None:
            fold = stratified_folds(labels, names, settings.folds, seed)
        else:
            fold = _grouped(labels, names, settings.folds, seed, groups)
        found += [
            Split(np.flatnonzero(fold != number), np.flatnonzero(fold == number)) for number in range(settings.folds)
        ]
    return tuple(found)


def _grouped(labels: Ints, names: Sequence[str], folds: int, seed: int, groups: Ints) -> Ints:
    k = len(names)
    sizes = np.bincount(labels, minlength=k)
    if any(0 < size < folds for size in sizes.tolist()):
        return stratified_folds(labels, names, folds, seed)  # refuses, with the numbers
    distinct, group = np.unique(groups, return_inverse=True)
    if distinct.size < folds:
        raise DataProblem(
            f"{folds} folds need at least {folds} groups of documents; there are {distinct.size}.",
            f"Use --folds {distinct.size}." if distinct.size > 1 else "Name another column with columns.group.",
        )
    pairs = np.unique(group * k + labels)
    groups_of_label = np.bincount(pairs % k, minlength=k)
    scarce = [number for number in range(k) if 0 < groups_of_label[number] < 2]
    if scarce:
        number = scarce[0]
        raise DataProblem(
            f"All {sizes[number]} documents of {names[number]!r} are in one group, or copies of each other: no fold can learn it "
            "and judge it.",
            "Leave that label out, or name another column with columns.group.",
        )
    if np.unique(group).size == group.size:
        return stratified_folds(labels, names, folds, seed)
    return dealt_folds(labels, folds, seed, groups)


def _in_time(dates: Floats, folds: int) -> tuple[Split, ...]:
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
    edges = [0, *(int(np.searchsorted(ordered, ordered[cut], side="left")) for cut in cuts), order.size]
    edges = sorted(set(edges))
    return tuple(Split(order[:begin], order[begin:end]) for begin, end in pairwise(edges[1:]) if end > begin)


def _given(folds: Sequence[str]) -> tuple[Split, ...]:
    names = sorted({fold for fold in folds if fold})
    held = np.array([names.index(fold) if fold else -1 for fold in folds])
    if len(names) < 2:
        raise DataProblem(
            f"The column of folds has {len(names)} different value{'s' if len(names) != 1 else ''}; at least two are needed.",
            "Each value is one fold; documents without one are only trained on.",
        )
    return tuple(Split(np.flatnonzero(held != number), np.flatnonzero(held == number)) for number in range(len(names)))


def hold_out(labels: Ints, share: float, seed: int, groups: Ints) -> Ints:
    """The places of about `share` of each label's documents, ascending; documents of one group stay together.

    A group counts with the label that most of its documents have.
    """
    generator = np.random.default_rng(seed)
    _, group = np.unique(groups, return_inverse=True)
    k = int(labels.max()) + 1
    content = np.bincount(group * k + labels, minlength=(int(group.max()) + 1) * k).reshape(-1, k)
    commonest = content.argmax(axis=1)
    out = np.zeros(len(content), dtype=bool)
    for label in range(k):
        members = generator.permutation(np.flatnonzero(commonest == label))
        sizes = content[members].sum(axis=1)
        goal = np.floor(share * sizes.sum() + 0.5)
        before = np.cumsum(sizes) - sizes
        out[members[(before < goal) & (members.size > 1)]] = True
        if members.size > 1 and out[members].all():
            out[members[-1]] = False
    return np.flatnonzero(out[group])
