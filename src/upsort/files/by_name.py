"""Rows of tables whose columns differ, under one set of columns: every cell goes by its column's name, what a table lacks is
empty."""

from collections.abc import Iterable, Sequence

from upsort.files.inner_values import outer_names


def merged_columns(tables: Iterable[Sequence[str]]) -> list[str]:
    """The columns of all tables, in the order in which they first come; what is inside nested values stays there."""
    return outer_names(merged_columns_nested(tables))


def merged_columns_nested(tables: Iterable[Sequence[str]]) -> list[str]:
    """The same with what is inside nested values."""
    return list(dict.fromkeys(name for columns in tables for name in columns))


class ColumnMapper:
    """Puts cells under the columns of an output. columns: of the output, in order."""

    def __init__(self, columns: Sequence[str]) -> None:
        self.columns = list(columns)
        self._places: dict[tuple[str, ...], list[int] | None] = {}

    def rows(self, columns: Sequence[str], rows: Sequence[Sequence[str]]) -> list[list[str]]:
        """Rows that stand under `columns` as rows of the output; lists of their own."""
        places = self._known(tuple(columns))
        if places is None:
            return [list(row) for row in rows]
        return [[row[place] if place >= 0 else "" for place in places] for row in rows]

    def row(self, columns: Sequence[str], row: Sequence[str]) -> list[str]:
        """One row."""
        return self.rows(columns, [row])[0]

    def _known(self, columns: tuple[str, ...]) -> list[int] | None:
        """Where each column of the output stands in a table, −1 where it does not; None where both are the same."""
        if columns not in self._places:
            at = {name: place for place, name in enumerate(columns)}
            same = list(columns) == self.columns
            self._places[columns] = None if same else [at.get(name, -1) for name in self.columns]
        return self._places[columns]
