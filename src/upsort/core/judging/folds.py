"""Dividing documents: stratified, seeded hold-outs and folds.

Stratified means that each part has each label in the share it has in the whole, to within one document.
"""

from collections.abc import Sequence

import numpy as np

from upsort.core.arrays import Bools, Ints
from upsort.core.errors import DataProblem


def stratified_folds(labels: Ints, names: Sequence[str], folds: int, seed: int) -> Ints:
    """The fold, 0 to folds - 1, of each document, (n,).

    labels: (n,) numbers into `names`. The documents of each label are shuffled and dealt to the folds in turn; the deal
    goes on where the last label's ended, so that the folds' sizes differ by at most one document.
    Raises DataProblem when a label has fewer documents than there are folds.
    """
    sizes = np.bincount(labels, minlength=len(names))
    small = [number for number in range(len(names)) if 0 < sizes[number] < folds]
    if small:
        scarce = ", ".join(f"{names[number]!r} has {sizes[number]}" for number in small[:5])
        raise DataProblem(
            f"{folds} folds need at least {folds} documents of each label; {scarce}.",
            f"Use {_fewer(int(sizes[small].min()))}or leave out or merge the small labels.",
        )
    return dealt_folds(labels, folds, seed)


def dealt_folds(labels: Ints, folds: int, seed: int, groups: Ints | None = None) -> Ints:
    """The fold of each document, (n,), as `stratified_folds`, but labels may have too few documents for all folds.

    groups: (n,) documents of the same number stay together; groups are dealt, largest first, each to the fold that has fewest
    documents of its commonest label so far, and of those to the one that is smallest.
    """
    generator = np.random.default_rng(seed)
    fold = np.empty(labels.size, dtype=np.int64)
    if groups is not None and np.unique(groups).size < groups.size:
        return _dealt_groups(labels, folds, generator, groups)
    dealt = 0
    for number in range(int(labels.max(initial=-1)) + 1):
        members = generator.permutation(np.flatnonzero(labels == number))
        fold[members] = (dealt + np.arange(members.size)) % folds
        dealt += members.size
    return fold


def _dealt_groups(labels: Ints, folds: int, generator: np.random.Generator, groups: Ints) -> Ints:
    _, group = np.unique(groups, return_inverse=True)
    k = int(labels.max()) + 1
    content = np.bincount(group * k + labels, minlength=(int(group.max()) + 1) * k).reshape(-1, k)
    sizes = content.sum(axis=1)
    held = np.zeros((folds, k), dtype=np.int64)
    fold_of_group = np.empty(len(content), dtype=np.int64)
    several = generator.permutation(np.flatnonzero(sizes > 1))
    for number in several[np.argsort(-sizes[several], kind="stable")].tolist():
        commonest = int(content[number].argmax())
        ranked = np.lexsort((held.sum(axis=1), held[:, commonest]))
        fold_of_group[number] = ranked[0]
        held[ranked[0]] += content[number]
    # Documents that stand alone even out what the groups left uneven.
    label_of = content.argmax(axis=1)
    for label in range(k):
        alone = generator.permutation(np.flatnonzero((sizes == 1) & (label_of == label)))
        dealt = _emptiest(held[:, label], held.sum(axis=1), alone.size)
        fold_of_group[alone] = dealt
        held[:, label] += np.bincount(dealt, minlength=folds)
    return fold_of_group[group]


def _emptiest(of_label: Ints, of_all: Ints, more: int) -> Ints:
    """(more,) one fold after the other, always the one with fewest documents of the label, and of those the smallest."""
    folds = of_label.size
    level = of_label[:, None] + np.arange(more)
    fold = np.repeat(np.arange(folds), more)
    order = np.lexsort((fold, np.repeat(of_all, more), level.reshape(-1)))
    return fold[order[:more]]


def _fewer(smallest: int) -> str:
    return f"--folds {smallest}, " if smallest >= 2 else ""


def stratified_hold_out(labels: Ints, names: Sequence[str], share: float, seed: int) -> Bools:
    """Which documents are held out, (n,) bool: of each label `share` of its documents, rounded, at least one on each side.

    Raises DataProblem when a label has a single document.
    """
    sizes = np.bincount(labels, minlength=len(names))
    lone = [str(names[number]) for number in range(len(names)) if sizes[number] == 1]
    if lone:
        raise DataProblem(
            f"A split needs at least two documents of each label, one for each side; a single one has: "
            f"{', '.join(repr(name) for name in lone[:5])}.",
            "Leave out or merge the small labels, or add documents of them.",
        )
    generator = np.random.default_rng(seed)
    held_out = np.zeros(labels.size, dtype=bool)
    for number in range(len(names)):
        members = generator.permutation(np.flatnonzero(labels == number))
        if members.size:
            held = min(max(int(np.floor(share * members.size + 0.5)), 1), members.size - 1)
            held_out[members[:held]] = True
    return held_out
