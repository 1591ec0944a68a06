"""Parquet tables, read batch by batch."""

import io
from collections.abc import Iterator, Sequence
from functools import cache
from typing import Any

from upsort.core.errors import DataProblem
from upsort.core.lazy import arrow_parquet, pyarrow
from upsort.io.tables.bounds import DamagedSource, check_unpacked
from upsort.io.tables.rows import (
    ROWS_A_BLOCK,
    WHOLE,
    Block,
    Chunk,
    Chunking,
    ReadSettings,
    SourceEntry,
    SourceTable,
    cell_of,
)

_LARGEST = 16_000_000  # bytes of a stretch, unpacked, unless ROWS_A_BLOCK are more


@cache
def _broken() -> tuple[type[Exception], ...]:
    """What reading a damaged file raises."""
    return (pyarrow.ArrowException, OSError, ValueError, TypeError, KeyError, IndexError, OverflowError, UnicodeError)


def parquet_table(entry: SourceEntry, reading: ReadSettings) -> SourceTable:
    """A Parquet file; values become the text of cells."""
    file = _file(entry)
    groups = [file.metadata.row_group(number) for number in range(file.num_row_groups)]
    check_unpacked(sum(group.total_byte_size for group in groups), entry.name, reading)
    bounds = _chunks([(group.num_rows, group.total_byte_size) for group in groups])
    columns = tuple(file.schema_arrow.names)

    def blocks(chunk: Chunk) -> Iterator[Block]:
        line = chunk.line
        for values in _batches(entry, chunk):
            rows = [[cell_of(value) for value in row] for row in zip(*values, strict=True)]
            yield Block(source=entry.name, columns=columns, rows=rows, lines=list(range(line, line + len(rows))))
            line += len(rows)

    division = Chunking(lambda: iter(bounds), blocks, entry.passing)
    return SourceTable(name=entry.name, columns=columns, blocks=lambda: blocks(WHOLE), division=division)


def _chunks(groups: Sequence[tuple[int, int]]) -> list[Chunk]:
    """Row groups, large ones in several stretches. groups: their rows, and their bytes unpacked."""
    chunks, begin = [], 0
    for rows, size in groups:
        most = max(1, _LARGEST * rows // max(size, 1) // ROWS_A_BLOCK) * ROWS_A_BLOCK
        for first in range(begin, begin + rows, most):
            end = min(first + most, begin + rows)
            chunks.append(Chunk(begin=first, end=end, line=first + 1))
        begin += rows
    return chunks


def _batches(entry: SourceEntry, chunk: Chunk) -> Iterator[list[list[Any]]]:
    """The values of each column, batch by batch, each of one row group. stretch: of rows. What stands before it in its row group
    is unpacked, but not made into values."""
    file = _file(entry)
    begin = 0
    for group in range(file.num_row_groups):
        end = begin + file.metadata.row_group(group).num_rows
        if end > chunk.begin and (chunk.end is None or begin < chunk.end):
            yield from _batches_of_group(entry, file, group, begin, chunk)
        begin = end


def _batches_of_group(entry: SourceEntry, file: Any, group: int, begin: int, chunk: Chunk) -> Iterator[list[list[Any]]]:
    """The batches of a row group that are in a stretch. begin: the number of its first row."""
    batches = file.iter_batches(batch_size=ROWS_A_BLOCK, row_groups=[group])
    while True:
        try:
            batch = next(batches)
            if chunk.end is not None and begin >= chunk.end:
                return
            first = max(chunk.begin - begin, 0)
            many = batch.num_rows - first if chunk.end is None else min(batch.num_rows, chunk.end - begin) - first
            values = [column.to_pylist() for column in batch.slice(first, many).columns] if many > 0 else None
            begin += batch.num_rows
        except StopIteration:
            return
        except _broken() as error:
            raise DamagedSource(entry.name, error) from error
        if values is not None:
            yield values


def _file(entry: SourceEntry) -> Any:
    stream = entry.open()
    try:
        whole = stream if hasattr(stream, "fileno") else io.BytesIO(stream.read())
        return arrow_parquet.ParquetFile(whole, page_checksum_verification=True)
    except _broken() as error:
        raise DataProblem(f"{entry.name} is not a readable Parquet file: {error}.", "Get the file again.") from None
