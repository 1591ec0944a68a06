"""Writing tables, in the format that the file's ending names; always UTF-8, always whole or not at all."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from upsort.files.format import Layout, RowWriter
from upsort.files.formats import format_to_write
from upsort.files.writing import replacing, replacing_text


@contextmanager
def table_file(path: Path, columns: Sequence[str], numbers: frozenset[str] = frozenset()) -> Iterator[RowWriter]:
    """A writer of rows under `columns`, to a file that appears when the block ends well. numbers: columns that hold numbers."""
    written = format_to_write(path)
    layout = Layout(columns, numbers, path.suffix.lower().removeprefix("."))
    if written.to_text is not None:
        with replacing_text(path) as text:
            yield written.to_text(text, layout)
    elif written.to_bytes is not None:
        with replacing(path) as stream, written.to_bytes(stream, layout) as writer:
            yield writer
