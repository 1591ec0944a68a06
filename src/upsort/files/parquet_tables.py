"""Parquet tables, read batch by batch."""

import io
from collections.abc import Iterator
from functools import cache
from typing import Any

from upsort.core.deferred import arrow_parquet, pyarrow
from upsort.core.errors import DataProblem
from upsort.files.bounds import Damaged, check_unpacked
from upsort.files.rows import ROWS_A_BLOCK, Block, Entry, Reading, Table, cell_of


@cache
def _broken() -> tuple[type[Exception], ...]:
    """What reading a damaged file raises."""
    return (pyarrow.ArrowException, OSError, ValueError, TypeError, KeyError, IndexError, OverflowError, UnicodeError)


def parquet_table(entry: Entry, reading: Reading) -> Table:
    """A Parquet file; values become the text of cells."""
    file = _file(entry)
    groups = [file.metadata.row_group(number) for number in range(file.num_row_groups)]
    check_unpacked(sum(group.total_byte_size for group in groups), entry.name, reading)
    columns = tuple(file.schema_arrow.names)

    def blocks() -> Iterator[Block]:
        line = 0
        for values in _batches(entry):
            rows = [[cell_of(value) for value in row] for row in zip(*values, strict=True)]
            yield Block(
                source=entry.name, columns=columns, rows=rows, lines=list(range(line + 1, line + len(rows) + 1))
            )
            line += len(rows)

    return Table(name=entry.name, columns=columns, blocks=blocks)


def _batches(entry: Entry) -> Iterator[list[list[Any]]]:
    """The values of each column, batch by batch."""
    batches = _file(entry).iter_batches(batch_size=ROWS_A_BLOCK)
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
