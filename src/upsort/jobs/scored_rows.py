"""Rows with a sorter's decision beside them: what `score` writes for all and `evaluate` for the mistaken ones."""

from collections.abc import Sequence
from math import isnan

from upsort.core.sorter import Decisions

DECISION_COLUMNS = (
    "sorted_label",
    "sorted_probability",
    "sorted_second_label",
    "sorted_margin",
    "sorted_unknown_share",
)


def kept_columns(columns: Sequence[str]) -> list[int]:
    """The places of the columns that stay: all but decisions of an earlier scoring."""
    return [place for place, name in enumerate(columns) if name not in DECISION_COLUMNS]


def decision_cells(decisions: Decisions, labels: Sequence[str], place: int) -> list[str]:
    """The cells under DECISION_COLUMNS for one document. A document without tokens has no unknown share."""
    unknown = float(decisions.unknown_share[place])
    best = int(decisions.best[place])
    return [
        labels[best],
        f"{decisions.probabilities[place, best]:.6f}",
        labels[int(decisions.second[place])],
        f"{decisions.margin[place]:.6f}",
        "" if isnan(unknown) else f"{unknown:.4f}",
    ]
