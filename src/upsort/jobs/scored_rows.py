"""Rows with a sorter's decisions beside them: what `score` writes for all and `evaluate` for the mistaken ones."""

from collections.abc import Sequence
from math import isnan

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


def decision_cells(sorter: Sorter, decisions: Decisions, place: int, all_probabilities: bool = False) -> list[str]:
    """The cells under `decision_columns` for one document. A document without tokens has no unknown share."""
    unknown = float(decisions.unknown_share[place])
    best = int(decisions.best[place])
    each = [f"{value:.6f}" for value in decisions.probabilities[place].tolist()] if all_probabilities else []
    return [
        given_label(sorter, decisions, place),
        f"{decisions.probabilities[place, best]:.6f}",
        sorter.labels[int(decisions.second[place])],
        f"{decisions.margin[place]:.6f}",
        "" if isnan(unknown) else f"{unknown:.4f}",
        *each,
    ]


def given_label(sorter: Sorter, decisions: Decisions, place: int) -> str:
    """The label, or the labels with the plan's separator between them, that a document is given."""
    if decisions.sets is not None:
        separator = sorter.plan.columns.label_separator
        chosen = [label for label, has in zip(sorter.labels, decisions.sets[place].tolist(), strict=True) if has]
        return f"{separator} ".join(chosen) if separator.strip() else separator.join(chosen)
    if decisions.undecided is not None and decisions.undecided[place]:
        return UNDECIDED
    return sorter.labels[int(decisions.best[place])]
