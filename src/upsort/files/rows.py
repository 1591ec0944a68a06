"""What readers hand on: blocks of rows, each row with the line it began on."""

from dataclasses import dataclass, field


@dataclass(frozen=True)
class Reading:
    """How a table is to be read where that is not left to be found out.

    encoding: a codec's name. delimiter: one character. header: whether the first row names the columns.
    """

    encoding: str = ""
    delimiter: str = ""
    header: bool | None = None


@dataclass(frozen=True, slots=True)
class Refused:
    """A row that cannot be used. cells: what could be read of it."""

    source: str
    line: int
    reason: str
    cells: tuple[str, ...]


@dataclass(frozen=True)
class Block:
    """A stretch of one table.

    columns: names, in order. rows: one list of cells each, as long as `columns`. lines: the line in `source` on which
    each row begins, counted from 1. refused: the rows of this stretch that cannot be used.
    """

    source: str
    columns: tuple[str, ...]
    rows: list[list[str]]
    lines: list[int]
    refused: list[Refused] = field(default_factory=list)
