"""Where the column names of a table are, and total rows or notes below the table, which are set aside."""

import re
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import replace

from upsort.core.errors import DataProblem, counted
from upsort.core.lazy import record
from upsort.io.tables.columnar import chosen_rows
from upsort.io.tables.rows import Block, ReadSettings, ReasonKind, RejectedRow, RejectionReason, SourceNote

_LONG_FOR_A_NAME = 60
_MOST_TITLES = 20
_SHOWN = 60


@record(frozen=True)
class Heading:
    """Where the body of a table begins.

    row: the place of the row of names among the rows given, or None if there is none. titles: the rows above it. exact: whether
    the names are those that this program wrote, to be taken as they are."""

    row: int | None
    titles: tuple[tuple[str, ...], ...] = ()
    exact: bool = False

    @property
    def rows(self) -> int:
        """How many rows come before the first document."""
        return 0 if self.row is None else self.row + 1


def heading_from_options(
    reading: ReadSettings, rows: Sequence[Sequence[str]], lines: Sequence[int], source: str, header: bool | None = None
) -> Heading:
    """The heading of a table by its first rows, as far as a reading leaves it open. lines: where each row begins. header: whether
    there is a row of names where the reading does not say it. Raises DataProblem where no row begins at the line that it names.
    """
    if reading.header_row:
        return heading_at(rows, lines, reading.header_row, source)
    return heading_of(rows, header if reading.header is None else reading.header)


def heading_of(rows: Sequence[Sequence[str]], header: bool | None) -> Heading:
    """The heading of a table by its first rows, none of them blank. header: whether there is a row of names; None where that is
    to be detected.

    Titles are rows at the beginning that fill at most half of the columns that the table has, followed by one that fills more and
    looks like names; where that is not so, the first row is taken for what it looks like."""
    if header is False:
        return Heading(None)
    width = _usual_width(rows)
    for place, row in enumerate(rows[: _MOST_TITLES + 1]):
        filled = _filled(row)
        if filled < 2 or 2 * filled <= width:
            continue
        if place and place + 1 < len(rows) and looks_like_names(rows[place:]):
            return Heading(place, tuple(map(tuple, rows[:place])))
        break
    return Heading(0 if header or looks_like_names(rows) else None)


def heading_at(rows: Sequence[Sequence[str]], lines: Sequence[int], row_number: int, source: str) -> Heading:
    """The heading whose names are in the row that begins at a line. Raises DataProblem where none does."""
    if row_number not in lines:
        raise DataProblem(
            f"{source} has no row that begins at line {row_number}.",
            f"Its first rows begin at {', '.join(map(str, lines[:_MOST_TITLES]))} (--header-row).",
        )
    place = lines.index(row_number)
    return Heading(place, tuple(map(tuple, rows[:place])))


def title_notices(source: str, heading: Heading) -> list[SourceNote]:
    """What is to be reported about rows above the names; nothing where there are none."""
    if not heading.titles:
        return []
    first = next(cell.strip() for row in heading.titles for cell in row if cell.strip())
    shown = first if len(first) <= _SHOWN else f"{first[: _SHOWN - 1]}…"
    rows = counted(len(heading.titles), "row")
    what = f": {rows} above the names of the columns left out ({shown!r}); --header-row names another row."
    return [SourceNote(source, what, f" ({shown!r})")]


def _usual_width(rows: Sequence[Sequence[str]]) -> int:
    """How many cells most rows have, up to the last that is filled; of those that come equally often the most."""
    widths = Counter(max((place for place, cell in enumerate(row, 1) if cell.strip()), default=0) for row in rows)
    return max(widths, key=lambda width: (widths[width], width), default=0)


def _filled(row: Sequence[str]) -> int:
    """How many different things are in a row: a merged title is one."""
    return len({cell.strip() for cell in row} - {""})


def looks_like_names(rows: Sequence[Sequence[str]]) -> bool:
    """Whether the first row names the columns.

    Names are short, not numbers, all different, and none is found again further down in its column. `column 1`, `column 2` are
    names that this program gave."""
    first = [cell.strip() for cell in rows[0]]
    if first == [numbered_name(number) for number in range(1, len(first) + 1)]:
        return True
    named = [cell for cell in first if cell]
    if not named or len({cell.casefold() for cell in named}) < len(named):
        return not any(_is_data(cell) for cell in named) and bool(named)
    if any(_is_data(cell) for cell in named):
        return False
    for column, name in enumerate(first):
        cells_below = {row[column].strip() for row in rows[1:] if column < len(row)}
        if name and name in cells_below:
            return False
    return True


def _is_data(cell: str) -> bool:
    return len(cell) > _LONG_FOR_A_NAME or "\n" in cell or cell.replace(".", "").replace("-", "").isdigit()


def names_in(heading: Heading, rows: Sequence[Sequence[str]], width: int = 0) -> tuple[str, ...]:
    """The names of the columns: those of the heading, or `column 1`, `column 2`. width: of the table if no row says it."""
    if heading.row is None:
        return tuple(numbered_name(number) for number in range(1, (width or len(rows[0])) + 1))
    if heading.exact:
        return tuple(rows[heading.row])
    return distinct_names([name.strip() for name in rows[heading.row]])


def numbered_name(number: int) -> str:
    """The name of a column that has none. number: its place, counted from 1."""
    return f"column {number}"


def distinct_names(names: Sequence[str]) -> tuple[str, ...]:
    """Column names, made different if a table repeats one, and numbered if it gives none."""
    used: set[str] = set()
    distinct = []
    for number, name in enumerate(names, 1):
        base = name or numbered_name(number)
        candidate, copy = base, 1
        while candidate in used:
            copy += 1
            candidate = f"{base} ({copy})"
        used.add(candidate)
        distinct.append(candidate)
    return tuple(distinct)


_MOST_ROWS = 10
_LEAST_COLUMNS = 3
_TOTALS = frozenset(
    "total totals sum summe gesamt insgesamt totale somme totaal summa итого всего toplam suma totais soma".split()  # noqa: SIM905
)
_NUMBER = re.compile(r"[-+]?[\d.,\s%\u202f\u00a0]*")
_LINE_END = re.compile("\r\n|\r|\n")


def without_footer_rows(blocks: Iterator[Block]) -> Iterator[Block]:
    """The same blocks; of the last one the rows that are below the table are refused.

    They are: a row of a word for a total and of numbers, and after an empty row one in which only the first cell is filled; each
    only where nothing else follows. Tables of one or two columns are left as they are."""
    previous: Block | None = None
    for block in blocks:
        if previous is not None:
            yield previous
        previous = block
    if previous is not None:
        yield _without_last(previous)


def _without_last(block: Block) -> Block:
    if len(block.columns) < _LEAST_COLUMNS or block.files is not None:
        return block
    end = len(block.rows)
    for place in range(end - 1, max(end - _MOST_ROWS, 0) - 1, -1):
        row = block.rows[place]
        if _is_total(row) or (_is_note(row) and _after_a_gap(block, place)) or (not any(row) and place > 0):
            end = place
        elif not _is_note(row):
            break
    footer = [place for place in range(end, len(block.rows)) if any(block.rows[place])]
    if not footer:
        return block
    refused = [
        RejectedRow(block.source, block.lines[place], RejectionReason(ReasonKind.FOOTER), tuple(block.rows[place]))
        for place in footer
    ]
    body = [place for place in range(len(block.rows)) if place not in footer]
    return replace(
        block,
        rows=chosen_rows(block.rows, body),
        lines=[block.lines[place] for place in body],
        refused=[*block.refused, *refused],
    )


def _is_total(row: Sequence[str]) -> bool:
    filled = [cell.strip() for cell in row if cell.strip()]
    return len(filled) > 1 and filled[0].rstrip(":").casefold() in _TOTALS and all(_NUMBER.fullmatch(cell) for cell in filled[1:])


def _is_note(row: Sequence[str]) -> bool:
    return bool(row[0].strip()) and len({cell.strip() for cell in row} - {""}) == 1


def _after_a_gap(block: Block, place: int) -> bool:
    """Whether an empty row stands before one, or one that stands after an empty row itself."""
    while place > 0:
        before = block.rows[place - 1]
        if not any(before):
            return True
        ends = block.lines[place - 1] + 1 + sum(len(_LINE_END.findall(cell)) for cell in before)
        if block.lines[place] > ends:
            return True
        if not _is_note(before):
            return False
        place -= 1
    return False
