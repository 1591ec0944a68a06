"""Where a file can be divided: stretches of it that begin at a row, so that each is read without what stands before it.

The division depends on the file alone, not on who reads it. Files on a disk are divided; what is packed cannot be begun in the
middle."""

import io
import re
from codecs import BOM_UTF8
from collections.abc import Callable, Iterator
from itertools import islice
from threading import Lock
from typing import Any, BinaryIO, TypeVar

import numpy as np

from upsort.core.arrays import Ints
from upsort.core.lazy import record
from upsort.io.tables.bounds import CSV, with_rows_bounded
from upsort.io.tables.encoding import Encoding
from upsort.io.tables.rows import ROWS_A_BLOCK, WHOLE, Block, Chunk, Chunking, ReadSettings, SourceEntry

Row = TypeVar("Row")
_LEAST = 1 << 20  # bytes of a stretch, but for the last
_MOST_WHOLE = 2 * _LEAST  # bytes of a file, as it lies there
_LINE_FEED, _RETURN = b"\n\r"
_LIMIT = Lock()  # the limit of the library's reader is one for all threads
_BYTE_BY_BYTE = ("utf-8", "ascii", "latin-1", "iso8859", "cp125", "koi8")  # line ends and quotes are single bytes there


def division_of(
    entry: SourceEntry, chunks: Callable[[], Iterator[Chunk]] | None, blocks: Callable[[Chunk], Iterator[Block]]
) -> Chunking | None:
    """How a table is shared by those who read it: in stretches, where it can be divided, else as a whole, where it is small. A
    large one that is packed is read by one, who hands its blocks on."""
    if chunks is None and (entry.size is None or entry.size > _MOST_WHOLE):
        return None
    return Chunking(chunks or whole_table_chunk, blocks, entry.passing, entry.far)


def whole_table_chunk() -> Iterator[Chunk]:
    """The whole table."""
    yield WHOLE


def divisible(entry: SourceEntry, encoding: Encoding) -> bool:
    """Whether dividing a file saves time and it can be read from the middle. One in a guessed encoding is not divided: what
    speaks against the guess is only seen in the whole."""
    if encoding.guessed or not encoding.name.replace("_", "-").startswith(_BYTE_BY_BYTE):
        return False
    with entry.open() as stream:
        raw = getattr(stream, "raw", None)
        return (isinstance(raw, io.FileIO) or _by_ranges(raw)) and stream.seek(0, io.SEEK_END) >= 2 * _LEAST


def _by_ranges(raw: Any) -> bool:
    """Whether a stream is one of `stores`, which gives any part of it by one request."""
    return getattr(raw, "by_ranges", False) is True


def chunk_stream(entry: SourceEntry, chunk: Chunk) -> BinaryIO:
    """The bytes of a stretch, as a stream; one that goes to the end is not held in memory."""
    stream = entry.open()
    if chunk.begin:
        stream.seek(chunk.begin)
    if chunk.end is None:
        return stream
    with stream:
        raw: Any = getattr(stream, "raw", None)
        if _by_ranges(raw):
            return io.BytesIO(raw.part(chunk.begin, chunk.end))
        return io.BytesIO(stream.read(chunk.end - chunk.begin))


def encoding_in(chunk: Chunk, name: str) -> str:
    """The encoding inside a file: a byte-order mark stands at its beginning alone."""
    return name if chunk.begin == 0 else name.removesuffix("-sig")


def line_chunks(entry: SourceEntry, reading: ReadSettings) -> Iterator[Chunk]:
    """Of a file of which each line is a row."""
    begin, line = 0, 1
    with with_rows_bounded(entry.open(), entry.name, reading) as stream:
        while content := stream.read(_LEAST) + stream.readline():
            end = begin + len(content)
            yield Chunk(begin=begin, end=end, line=line)
            begin, line = end, line + content.count(b"\n")


def cell_chunks(entry: SourceEntry, delimiter: str, reading: ReadSettings) -> Iterator[Chunk]:
    """Of a table of separated cells, whose rows may go over several lines. They begin where blocks do, so that the blocks are
    those of the whole. What cannot be distinguished is left to the last one, and so are blank lines at the end."""
    begin, line = 0, 1
    cut = None
    with entry.open() as stream:
        for piece in _whole_rows(stream, delimiter, reading.largest_cell):
            if cut is not None and piece.filled_after(cut[0]):
                yield Chunk(begin=begin, end=cut[0], line=line, last=False)
                (begin, line), cut = cut, None
            for end, next_line in piece.blocks:
                if end - begin >= _LEAST and cut is None:
                    cut = (end, next_line)
                    if piece.filled_after(end):
                        yield Chunk(begin=begin, end=end, line=line, last=False)
                        (begin, line), cut = cut, None
    yield Chunk(begin=begin, end=None, line=line)


@record(frozen=True)
class _WholeRows:
    """Whole rows and the beginning of the next. begin: of their bytes in the file. blocks: where each block of rows ends in it,
    and the line after it."""

    begin: int
    content: bytes
    blocks: list[tuple[int, int]]

    def filled_after(self, place: int) -> bool:
        """Whether there is more than blank lines from a place in the file on."""
        return bool(self.content[max(place - self.begin, 0) :].strip(b"\r\n"))


def _whole_rows(stream: BinaryIO, delimiter: str, largest: int) -> Iterator[_WholeRows]:
    """All rows, some megabytes at a time, up to where a cell is larger than is read.

    A quote at the beginning of a cell opens it, the next one that is not doubled closes it; in between no line end ends a row.
    All other quotes are signs like others, as for those who read the rows."""
    cells = _quoted_cells(delimiter)
    pending, begin = b"", 0
    rows, line = 0, 1
    while True:
        more = stream.read(_LEAST)
        content = pending + more
        if begin == 0 and content.startswith(BOM_UTF8):  # no sign of the first cell
            content = len(BOM_UTF8) * delimiter.encode("ascii") + content.removeprefix(BOM_UTF8)
        spans = np.array([match.span() for match in cells.finditer(content)], dtype=np.int64).reshape(-1, 2)
        sure = len(content)
        if more and spans.size and spans[-1, 1] == sure:
            sure = int(spans[-1, 0])  # the cell goes on, or may do so
        if len(pending) > largest:
            return
        if more and content.endswith(b"\r"):
            sure = min(sure, len(content) - 1)  # a line feed may follow
        ends = _line_ends(content)
        ends = ends[ends <= sure]
        inside = np.searchsorted(spans[:, 0], ends) != np.searchsorted(spans[:, 1], ends)
        row_ends = ends[~inside]
        last = np.arange(ROWS_A_BLOCK - 1 - rows % ROWS_A_BLOCK, row_ends.size, ROWS_A_BLOCK)
        lines = line + np.searchsorted(ends, row_ends[last], side="right")
        yield _WholeRows(begin, content, list(zip((begin + row_ends[last]).tolist(), lines.tolist(), strict=True)))
        if not more:
            return
        whole = int(row_ends[-1]) if row_ends.size else 0
        rows, line = rows + row_ends.size, line + int(np.searchsorted(ends, whole, side="right"))
        pending, begin = content[whole:], begin + whole


def _line_ends(content: bytes) -> Ints:
    """Where lines end: behind line feeds, and behind carriage returns without one."""
    signs = np.frombuffer(content, dtype=np.uint8)
    ending = signs == _LINE_FEED
    if b"\r" in content:
        alone = signs == _RETURN
        alone[:-1] &= ~ending[1:]
        ending |= alone
    return np.flatnonzero(ending) + 1


def _quoted_cells(delimiter: str) -> "re.Pattern[bytes]":
    """Cells in quotes, to the end where they are not closed."""
    before = re.escape(delimiter).encode("ascii")
    return re.compile(rb'"(?<![^%b\r\n]")[^"]*+(?:""[^"]*+)*+(?:"|\Z)' % before)


def next_rows(reader: Iterator[Row], largest: int) -> list[Row]:
    """The next block of rows. Raises CSV.Error for a cell of more than `largest` characters, and for what is no table."""
    with _LIMIT:
        before = CSV.field_size_limit(largest)
        try:
            return list(islice(reader, ROWS_A_BLOCK))
        finally:
            CSV.field_size_limit(before)
