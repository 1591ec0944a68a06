"""Writing tables, in the format that the file's ending names; always UTF-8, always whole or not at all."""

import io
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

from upsort.files.format import RowWriter, TableLayout
from upsort.files.formats import ending_to_write, format_to_write
from upsort.files.packing import COMPRESSED, packing
from upsort.files.writing import replacing


@contextmanager
def table_file(path: Path, columns: Sequence[str], numbers: frozenset[str] = frozenset()) -> Iterator[RowWriter]:
    """A writer of rows under `columns`, to a file that appears when the block ends well. numbers: columns that hold numbers."""
    written = format_to_write(path)
    layout = TableLayout(columns, numbers, ending_to_write(path))
    with replacing(path) as file, _compressed(file, path) as stream:
        if written.to_text is not None:
            text = io.TextIOWrapper(stream, encoding="utf-8", errors="backslashreplace", newline="")
            yield written.to_text(text, layout)
            text.flush()
            text.detach()
        elif written.to_bytes is not None:
            with written.to_bytes(stream, layout) as writer:
                yield writer


@contextmanager
def _compressed(file: BinaryIO, path: Path) -> Iterator[BinaryIO]:
    if not path.name.lower().endswith(COMPRESSED):
        yield file
        return
    with packing(file) as stream:
        yield stream
