"""Decisions as cells: the columns that scoring adds, in every output, with their text in tables and their values in JSON."""

from collections.abc import Callable, Sequence
from math import isnan
from typing import Any

import numpy as np

from upsort.core.learning.sorter import Decisions, TrainedSorter
from upsort.core.records import record
from upsort.files.writers import value_of


@record(frozen=True)
class DecisionColumn:
    """One added column. values: what stands in it for each document. digits: behind the point of a number; None for text."""

    name: str
    values: Callable[[TrainedSorter, Decisions], list[Any]]
    digits: int | None = None

    def cells(self, sorter: TrainedSorter, decisions: Decisions) -> list[str]:
        """The values as cells of a table; a number that is not defined is an empty one."""
        values = self.values(sorter, decisions)
        if self.digits is None:
            return values
        return ["" if isnan(value) else f"{value:.{self.digits}f}" for value in values]


def _of_best(sorter: TrainedSorter, decisions: Decisions) -> list[Any]:
    return decisions.probabilities[np.arange(decisions.best.size), decisions.best].tolist()  # type: ignore[no-any-return]


LABEL = DecisionColumn("label", lambda sorter, decisions: sorter.sorted_as(decisions))
REMARK = DecisionColumn("remark", lambda sorter, decisions: sorter.remarks_on(decisions))
COLUMNS: list[DecisionColumn] = [
    LABEL,
    DecisionColumn("probability", _of_best, 6),
    DecisionColumn(
        "second_label", lambda sorter, decisions: [sorter.labels[second] for second in decisions.second.tolist()]
    ),
    DecisionColumn("margin", lambda sorter, decisions: decisions.margin.tolist(), 6),
    DecisionColumn("unknown_share", lambda sorter, decisions: decisions.unknown_share.tolist(), 4),
    REMARK,
]
"""The columns that scoring adds, in their order; adding one is adding it here."""

_BEGIN = "sorted_"


def columns_of(sorter: TrainedSorter, all_probabilities: bool = False) -> list[DecisionColumn]:
    """The columns of one answer: sorted_label …, with the answer's name where the sorter gives several."""
    begin = f"{_BEGIN}{sorter.answer}_" if sorter.answer else _BEGIN
    columns = [DecisionColumn(begin + column.name, column.values, column.digits) for column in COLUMNS]
    if all_probabilities:
        columns += [
            _probability_of(number, f"{begin}probability: {label}") for number, label in enumerate(sorter.labels)
        ]
    return columns


def _probability_of(label: int, name: str) -> DecisionColumn:
    return DecisionColumn(name, lambda sorter, decisions: decisions.probabilities[:, label].tolist(), 6)


def decision_columns(sorters: Sequence[TrainedSorter], all_probabilities: bool = False) -> list[str]:
    """The names of all added columns."""
    return [column.name for sorter in sorters for column in columns_of(sorter, all_probabilities)]


def number_columns(sorters: Sequence[TrainedSorter], all_probabilities: bool = False) -> frozenset[str]:
    """The names of those that hold numbers."""
    columns = [column for sorter in sorters for column in columns_of(sorter, all_probabilities)]
    return frozenset(column.name for column in columns if column.digits is not None)


def decision_rows(sorter: TrainedSorter, decisions: Decisions, all_probabilities: bool = False) -> list[list[str]]:
    """The cells of one answer for each document."""
    columns = [column.cells(sorter, decisions) for column in columns_of(sorter, all_probabilities)]
    return [list(cells) for cells in zip(*columns, strict=True)]


def decision_values(
    sorter: TrainedSorter, decisions: Decisions, all_probabilities: bool = False
) -> list[dict[str, Any]]:
    """The same by name, with numbers as numbers, rounded as in tables, and None where one is not defined."""
    columns = columns_of(sorter, all_probabilities)
    rows = decision_rows(sorter, decisions, all_probabilities)
    return [
        {
            column.name: cell if column.digits is None else value_of(cell)
            for column, cell in zip(columns, row, strict=True)
        }
        for row in rows
    ]


def label_columns(names: Sequence[str]) -> list[str]:
    """Those among the columns of a table that hold the label that scoring gave; one for each answer."""
    begins = [name.removesuffix(LABEL.name) for name in names if name.startswith(_BEGIN) and name.endswith(LABEL.name)]
    telling = [column.name for column in COLUMNS if column is not REMARK]  # tables of before have none
    whole = [begin for begin in begins if all(begin + name in names for name in telling)]
    # Columns may have been taken out since; the label of a sorter of one answer is then known by its name alone.
    return [begin + LABEL.name for begin in whole or begins if begin in whole or begin == _BEGIN]
