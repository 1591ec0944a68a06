"""Totals and notes that stand below a table, in its columns but none of its rows: set aside, whatever columns they fill."""

import re
from collections.abc import Iterator, Sequence
from dataclasses import replace

from upsort.files.reasons import ReasonKind, RejectionReason
from upsort.files.rows import Block, RejectedRow

_MOST_ROWS = 10
_LEAST_COLUMNS = 3
_TOTALS = frozenset(
    "total totals sum summe gesamt insgesamt totale somme totaal summa итого всего toplam suma totais soma".split()  # noqa: SIM905
)
_NUMBER = re.compile(r"[-+]?[\d.,\s%\u202f\u00a0]*")
_LINE_END = re.compile("\r\n|\r|\n")


def without_footer_rows(blocks: Iterator[Block]) -> Iterator[Block]:
    """The same blocks; of the last one the rows that stand below the table are refused.

    They are: a row of a word for a total and of numbers, and after an empty row one in which only the first cell is filled; each
    only where nothing else follows. Tables of one or two columns are left as they are.
    """
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
    body = [place for place in range(len(block.rows)) if place < end or not any(block.rows[place])]
    return replace(
        block,
        rows=[block.rows[place] for place in body],
        lines=[block.lines[place] for place in body],
        refused=[*block.refused, *refused],
    )


def _is_total(row: Sequence[str]) -> bool:
    filled = [cell.strip() for cell in row if cell.strip()]
    return (
        len(filled) > 1
        and filled[0].rstrip(":").casefold() in _TOTALS
        and all(_NUMBER.fullmatch(cell) for cell in filled[1:])
    )


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
