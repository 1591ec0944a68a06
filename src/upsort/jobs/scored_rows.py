"""Rows with a sorter's decisions beside them: what `score` writes for all and `evaluate` for the mistaken ones."""

from collections.abc import Iterable, Sequence
from math import isnan

import numpy as np

from upsort.core.sorter import Decisions, Sorter

_COLUMNS = ("label", "probability", "second_label", "margin", "unknown_share")
UNDECIDED = "(undecided)"
"""Stands for a label where the sorter is not sure enough to give one."""


def decision_columns(sorter: Sorter, all_probabilities: bool = False) -> list[str]:
    """The columns of one answer: sorted_label …, with the answer's name where the sorter gives several."""
    begin = f"sorted_{sorter.answer}_" if sorter.answer else "sorted_"
    each = [f"{begin}probability: {label}" for label in sorter.labels] if all_probabilities else []
    return [*(begin + name for name in _COLUMNS), *each]


def kept_columns(columns: Sequence[str], added: Sequence[str]) -> list[int]:
    """The places of the columns that stay: all but decisions of an earlier scoring."""
    return [place for place, name in enumerate(columns) if name not in added]


def decision_rows(sorter: Sorter, decisions: Decisions, all_probabilities: bool = False) -> list[list[str]]:
    """The cells under `decision_columns` for each document. A document without tokens has no unknown share."""
    places = np.arange(decisions.best.size)
    chances = decisions.probabilities[places, decisions.best].tolist()
    seconds = [sorter.labels[second] for second in decisions.second.tolist()]
    unknown = ["" if isnan(share) else f"{share:.4f}" for share in decisions.unknown_share.tolist()]
    margins = decisions.margin.tolist()
    rows = [
        [label, f"{chance:.6f}", second, f"{margin:.6f}", share]
        for label, chance, second, margin, share in zip(
            given_labels(sorter, decisions), chances, seconds, margins, unknown, strict=True
        )
    ]
    if all_probabilities:
        for row, each in zip(rows, decisions.probabilities.tolist(), strict=True):
            row += [f"{value:.6f}" for value in each]
    return rows


def given_labels(sorter: Sorter, decisions: Decisions) -> list[str]:
    """The label that each document is given, or its labels with the plan's separator between them."""
    if decisions.sets is not None:
        return [
            joined_labels((label for label, has in zip(sorter.labels, held, strict=True) if has), sorter)
            for held in decisions.sets.tolist()
        ]
    labels = [sorter.labels[best] for best in decisions.best.tolist()]
    if decisions.undecided is not None:
        return [UNDECIDED if left else label for label, left in zip(labels, decisions.undecided.tolist(), strict=True)]
    return labels


def joined_labels(labels: Iterable[str], sorter: Sorter) -> str:
    """A set of labels as one cell: sorted, with the plan's separator between them."""
    separator = sorter.plan.columns.label_separator
    return (f"{separator} " if separator.strip() else separator).join(sorted(labels))
