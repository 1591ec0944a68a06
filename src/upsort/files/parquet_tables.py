"""Parquet tables, read batch by batch."""

import io
from collections.abc import Iterator
from typing import Any

import pyarrow as pa
from pyarrow import parquet

from upsort.core.errors import DataProblem
from upsort.files.rows import ROWS_A_BLOCK, Block, Entry, Table, cell_of


def parquet_table(entry: Entry) -> Table:
    """A Parquet file; values become the text of cells."""
    columns = tuple(_file(entry).schema_arrow.names)

    def blocks() -> Iterator[Block]:
        line = 0
        for batch in _file(entry).iter_batches(batch_size=ROWS_A_BLOCK):
            values = [column.to_pylist() for column in batch.columns]
            rows = [[cell_of(value) for value in row] for row in zip(*values, strict=True)]
            yield Block(
                source=entry.name, columns=columns, rows=rows, lines=list(range(line + 1, line + len(rows) + 1))
            )
            line += len(rows)

    return Table(name=entry.name, columns=columns, blocks=blocks)


def _file(entry: Entry) -> Any:
    stream = entry.open()
    try:
        return parquet.ParquetFile(stream if hasattr(stream, "fileno") else io.BytesIO(stream.read()))
    except (pa.ArrowInvalid, pa.ArrowException, OSError) as error:
        raise DataProblem(f"{entry.name} is not a readable Parquet file: {error}.", "Get the file again.") from None
