"""What is read at most: bytes of a file that an option or a plan names, bytes unpacked of a source, the size of a row or cell."""

import gzip
import importlib.util
import io
import lzma
import os
import re
import stat
import sys
import zipfile
import zlib
from pathlib import Path
from tokenize import TokenError
from typing import Any, BinaryIO, cast

from upsort.core.errors import DataProblem, UsageProblem
from upsort.io.tables.rows import ReadSettings

DAMAGED = (EOFError, gzip.BadGzipFile, lzma.LZMAError, zlib.error, zipfile.BadZipFile)
"""What reading a damaged packed file raises."""

BAD_HEADER = (ValueError, TypeError, OverflowError, SyntaxError, MemoryError, RecursionError, TokenError)
"""What reading the header of a damaged .npy file raises."""

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
SHOWN = 1000  # characters of a row that is too large


NAMED_MOST, LARGE_MOST = 64_000_000, 2_000_000_000
"""Bytes of a file that an option or a plan names, and of a sorter or of vectors."""

LARGEST_FILE = "UPSORT_LARGEST_FILE"
"""The variable of the environment that says another number of bytes for both."""


def named_file(path: Path, most: int = NAMED_MOST) -> BinaryIO:
    """A file that an option, a plan or another file names, opened. Raises DataProblem for one that cannot be read, is no regular
    file (which may never end), or has more bytes than are read of such."""
    try:
        handle = os.open(path, os.O_RDONLY | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_BINARY", 0))
    except (OSError, ValueError) as error:
        reason = error.strerror if isinstance(error, OSError) else str(error)
        raise DataProblem(f"{path} cannot be read: {reason}.", "Check the name and the permissions.") from None
    stream = os.fdopen(handle, "rb") if not stat.S_ISDIR(os.fstat(handle).st_mode) else None
    if stream is None:
        os.close(handle)
        raise DataProblem(f"{path} is a folder, not a file.", "Name a file.")
    status = os.fstat(handle)
    bound = _bytes_in(os.environ.get(LARGEST_FILE, "")) or most
    if stat.S_ISREG(status.st_mode) and status.st_size <= bound:
        return stream
    stream.close()
    if not stat.S_ISREG(status.st_mode):
        raise DataProblem(f"{path} is a pipe, a socket or a device, not a file.", "Name a file.")
    raise DataProblem(
        f"{path} has {size_text(status.st_size)}; at most {size_text(bound)} are read.",
        f"If that size is right, set {LARGEST_FILE} to a number of bytes.",
    )


def _bytes_in(text: str) -> int:
    if text and not text.isdecimal():
        raise UsageProblem(f"{LARGEST_FILE} is {text[:40]!r}, not a number of bytes.", "For example 500000000.")
    return int(text or 0)


def text_of_file(path: Path) -> str:
    """All of a file of text. Raises DataProblem as `named_file`, and for one that is not UTF-8."""
    with named_file(path) as stream:
        try:
            return stream.read().decode("utf-8-sig")
        except UnicodeDecodeError:
            raise DataProblem(f"{path} cannot be read: it is not UTF-8.", "Check the name and the encoding.") from None


def lines_of(path: Path) -> list[str]:
    """All lines of a file of text. Raises as `text_of_file`."""
    return text_of_file(path).splitlines()


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
