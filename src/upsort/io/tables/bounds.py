"""What may come out of one source at most: bytes that are unpacked, and the size of one row or cell."""

import gzip
import importlib.util
import io
import lzma
import re
import sys
import zipfile
import zlib
from collections.abc import Iterator
from dataclasses import replace
from typing import Any, BinaryIO, cast

from upsort.core.errors import DataProblem
from upsort.io.tables.rows import Block, ReadSettings, ReasonKind, RejectedRow, RejectionReason

DAMAGED = (EOFError, gzip.BadGzipFile, lzma.LZMAError, zlib.error, zipfile.BadZipFile)
"""What reading a damaged packed file raises."""

LINES = re.compile(rb"[\r\n]")
"""What ends a row of text."""

_BUFFER = 1 << 18  # bytes


def _csv_of_ours() -> Any:
    """The library's reader of separated cells, loaded a second time: its limit of a cell's size holds for all its users, and this
    program may be part of another."""
    spec = importlib.util.find_spec("_csv")
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    module.field_size_limit(sys.maxsize)
    return module


CSV = _csv_of_ours()
_SHOWN = 1000  # characters of a row that is too large


class DamagedSource(DataProblem):
    """A source breaks off or contradicts itself somewhere inside: no row of it is to be trusted."""

    def __init__(self, name: str, error: object) -> None:
        what = " ".join(str(error).split()) or type(error).__name__
        super().__init__(
            f"{name} is damaged: {what[:200].rstrip('.')}.", "Get it again, or unpack it; the rows read before that are not kept."
        )


def unpacked(stream: BinaryIO, name: str, reading: ReadSettings) -> BinaryIO:
    """A stream of unpacked bytes that ends with a DataProblem beyond `reading.unpack_limit`, and with Damaged where it breaks."""
    return cast(BinaryIO, io.BufferedReader(_BoundedStream(stream, name, reading), _BUFFER))


def with_rows_bounded(stream: BinaryIO, name: str, reading: ReadSettings, cell_end: "re.Pattern[bytes]" = LINES) -> BinaryIO:
    """The same bytes; a DataProblem where more than `reading.largest_cell` of them come without one of the signs that keep rows,
    or strings, apart. So no reader ever holds more than that of a row that does not end."""
    return cast(BinaryIO, io.BufferedReader(_BoundedStream(stream, name, reading, cell_end), _BUFFER))


def without_large_rows(blocks: Iterator[Block], reading: ReadSettings) -> Iterator[Block]:
    """The same blocks, rows with more than `reading.largest_cell` characters refused."""
    most = reading.largest_cell
    for block in blocks:
        sizes = [sum(map(len, row)) for row in block.rows]
        if max(sizes, default=0) <= most:
            yield block
            continue
        reason = RejectionReason(ReasonKind.TOO_LARGE, (size_text(most),), "--largest-cell allows more")
        good = [place for place, size in enumerate(sizes) if size <= most]
        refused = [
            RejectedRow(block.source, block.lines[place], reason, tuple(cell[:_SHOWN] for cell in block.rows[place]))
            for place, size in enumerate(sizes)
            if size > most
        ]
        yield replace(
            block,
            rows=[block.rows[place] for place in good],
            lines=[block.lines[place] for place in good],
            files=block.files and [block.files[place] for place in good],
            refused=[*block.refused, *refused],
        )


def check_unpacked(size: int, name: str, reading: ReadSettings) -> None:
    """Raise DataProblem where so many bytes are more than may be unpacked of one source."""
    if size > reading.unpack_limit:
        raise DataProblem(
            f"{name} unpacks to more than {reading.unpack_limit:,} bytes.", "If that is right, raise --unpack-limit."
        )


def size_text(size: int) -> str:
    """A number of bytes or characters, short."""
    return f"{size // 10**6:,} MB" if size >= 10**6 else f"{size:,} bytes"


def too_large(name: str, reading: ReadSettings) -> DataProblem:
    """The problem of a row or value that is larger than is read."""
    return DataProblem(
        f"{name} has a row or a cell of more than {size_text(reading.largest_cell)}.",
        "Is a quote opened and not closed? If that size is right, raise --largest-cell.",
    )


class _BoundedStream(io.RawIOBase):
    """A stream that refuses to go on beyond its bounds. cell_end: without it, only the unpacked size is bounded."""

    def __init__(self, stream: BinaryIO, name: str, reading: ReadSettings, cell_end: "re.Pattern[bytes] | None" = None) -> None:
        self._stream, self._name, self._reading, self._cell_end = stream, name, reading, cell_end
        self._alone = 0  # bytes since the last sign that keeps rows apart

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def seek(self, offset: int, whence: int = 0) -> int:
        self._alone = 0
        try:
            return self._stream.seek(offset, whence)
        except (*DAMAGED, OSError) as error:
            raise DamagedSource(self._name, error) from error

    def tell(self) -> int:
        return self._stream.tell()

    def readinto(self, buffer: Any) -> int:
        try:
            content = self._stream.read(len(buffer))
        except (*DAMAGED, OSError) as error:
            raise DamagedSource(self._name, error) from error
        buffer[: len(content)] = content
        if self._cell_end is None:
            check_unpacked(self._stream.tell(), self._name, self._reading)
        else:
            self._count(content)
        return len(content)

    def close(self) -> None:
        if not self.closed:
            self._stream.close()
        super().close()

    def _count(self, content: bytes) -> None:
        assert self._cell_end is not None
        most = self._reading.largest_cell
        if self._alone + len(content) <= most:  # no place in it can be beyond: only its last sign matters
            last = 0
            for match in self._cell_end.finditer(content, max(0, len(content) - 2048)):
                last = match.end()
            if not last:
                for match in self._cell_end.finditer(content):
                    last = match.end()
            self._alone = len(content) - last if last else self._alone + len(content)
            return
        before = 0
        for match in self._cell_end.finditer(content):
            if self._alone + match.start() - before > most:
                raise too_large(self._name, self._reading)
            self._alone, before = 0, match.end()
        self._alone += len(content) - before
        if self._alone > most:
            raise too_large(self._name, self._reading)
