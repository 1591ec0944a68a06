"""Which columns of the tables could stand beside the text, and how: as numbers or as categories."""

from collections.abc import Mapping, Sequence
from itertools import islice
from typing import Any

from upsort.core.errors import UsageProblem
from upsort.core.insight.columns import kind_of
from upsort.core.names import listed
from upsort.core.plan import Columns
from upsort.files.columns import matching
from upsort.files.sources import Inputs

Change = Mapping[str, Any]
"""Keys of a plan, each with another value."""


def extra_column_changes(inputs: Inputs, columns: Columns, names: Sequence[str]) -> list[Change]:
    """For each of the named columns what makes a plan sort by it too, then for all of them together.

    names: of columns, or patterns. What a column holds is told by the first rows of the first table. Raises UsageProblem for a
    column that is not there, has its use already, or holds neither numbers nor few values.
    """
    first = inputs.tables[0]
    rows = [row for block in islice(first.blocks(), 1) for row in block.rows]
    numbers: list[str] = []
    categories: list[str] = []
    for name in names:
        single = "*" not in name and "?" not in name
        for place in matching(name, first.columns, first.name):
            column = first.columns[place]
            if column in _used(columns):
                if single:
                    raise UsageProblem(
                        f"The column {column!r} has its use already.", f"Leave {column} out of --beside."
                    )
                continue
            kind = kind_of([row[place] for row in rows])
            if kind == "number":
                numbers.append(column)
            elif kind == "category":
                categories.append(column)
            elif single:
                raise UsageProblem(
                    f"The column {column!r} holds {_TYPE_WORDS[kind]}; beside the text stand numbers, or few different values.",
                    f"Leave {column} out of --beside.",
                )
    numbers, categories = list(dict.fromkeys(numbers)), list(dict.fromkeys(categories))
    if names and not numbers and not categories:
        raise UsageProblem(
            f"No column like {listed(names)} holds numbers, or few different values.",
            "upsort survey --columns tells what columns hold.",
        )
    each: list[Change] = [_of_numbers(columns, [name]) for name in numbers]
    each += [_of_categories(columns, [name]) for name in categories]
    combined = {
        **(_of_numbers(columns, numbers) if numbers else {}),
        **(_of_categories(columns, categories) if categories else {}),
    }
    return [*each, combined] if len(each) > 1 else each


_TYPE_WORDS = {"date": "dates", "text": "text", "empty": "nothing"}


def _of_numbers(columns: Columns, names: Sequence[str]) -> Change:
    """A cell that is no number counts as empty, so that all trials have the same documents."""
    return {"columns.numbers": [*columns.numbers, *names], "columns.wrong_numbers": "fill"}


def _of_categories(columns: Columns, names: Sequence[str]) -> Change:
    return {"columns.categories": [*columns.categories, *names]}


def _used(columns: Columns) -> set[str]:
    single = (columns.id, columns.date, columns.group, columns.fold, columns.row_weight)
    return {*columns.text, *columns.answers, *single, *columns.numbers, *columns.categories}
