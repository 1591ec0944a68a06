"""Parquet tables, read batch by batch."""

import io
from collections.abc import Iterator
from functools import cache
from typing import Any

from upsort.core.deferred import arrow_parquet, pyarrow
from upsort.core.errors import DataProblem
from upsort.files.bounds import Damaged, check_unpacked
from upsort.files.rows import ROWS_A_BLOCK, WHOLE, Block, Division, Entry, Reading, Stretch, Table, cell_of

_MOST_ROWS_WHOLE = 50_000  # of a file of one row group; of larger ones the blocks are handed on


@cache
def _broken() -> tuple[type[Exception], ...]:
    """What reading a damaged file raises."""
    return (pyarrow.ArrowException, OSError, ValueError, TypeError, KeyError, IndexError, OverflowError, UnicodeError)


def parquet_table(entry: Entry, reading: Reading) -> Table:
    """A Parquet file; values become the text of cells."""
    file = _file(entry)
    groups = [file.metadata.row_group(number) for number in range(file.num_row_groups)]
    check_unpacked(sum(group.total_byte_size for group in groups), entry.name, reading)
    rows_of = [group.num_rows for group in groups]
    columns = tuple(file.schema_arrow.names)

    def blocks(stretch: Stretch) -> Iterator[Block]:
        line = stretch.line
        for values in _batches(entry, stretch):
            rows = [[cell_of(value) for value in row] for row in zip(*values, strict=True)]
            yield Block(source=entry.name, columns=columns, rows=rows, lines=list(range(line, line + len(rows))))
            line += len(rows)

    def stretches() -> Iterator[Stretch]:
        line = 1
        for number, rows in enumerate(rows_of):
            yield Stretch(begin=number, end=number + 1, line=line)
            line += rows

    shared = len(rows_of) > 1 or sum(rows_of) <= _MOST_ROWS_WHOLE
    division = Division(stretches, blocks, entry.passing) if shared else None
    return Table(name=entry.name, columns=columns, blocks=lambda: blocks(WHOLE), division=division)


def _batches(entry: Entry, stretch: Stretch) -> Iterator[list[list[Any]]]:
    """The values of each column, batch by batch. stretch: of row groups."""
    file = _file(entry)
    groups = range(stretch.begin, file.num_row_groups if stretch.end is None else stretch.end)
    batches = file.iter_batches(batch_size=ROWS_A_BLOCK, row_groups=list(groups))
    while True:
        try:
            values = [column.to_pylist() for column in next(batches).columns]
        except StopIteration:
            return
        except _broken() as error:
            raise Damaged(entry.name, error) from error
        yield values


def _file(entry: Entry) -> Any:
    stream = entry.open()
    try:
        whole = stream if hasattr(stream, "fileno") else io.BytesIO(stream.read())
        return arrow_parquet.ParquetFile(whole, page_checksum_verification=True)
    except _broken() as error:
        raise DataProblem(f"{entry.name} is not a readable Parquet file: {error}.", "Get the file again.") from None
