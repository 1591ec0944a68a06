"""Where a file can be divided: stretches of it that begin at a row, so that each is read without what stands before it.

The division depends on the file alone, not on who reads it. Files on a disk are divided; what is packed cannot be begun in the
middle.
"""

import csv
import io
import sys
from collections.abc import Iterator
from contextlib import closing
from itertools import islice
from typing import BinaryIO

from upsort.files.bounds import with_rows_bounded
from upsort.files.encoding import Encoding
from upsort.files.rows import ROWS_A_BLOCK, Entry, Reading, Stretch

_LEAST = 1 << 21  # bytes of a stretch, but for the last
_BYTE_BY_BYTE = ("utf-8", "ascii", "latin-1", "iso8859", "cp125", "koi8")  # line ends and quotes are single bytes there


def divisible(entry: Entry, encoding: Encoding) -> bool:
    """Whether a file is worth dividing and can be begun anywhere. One in a guessed encoding is not divided: what speaks against
    the guess is only seen in the whole."""
    if encoding.guessed or not encoding.name.replace("_", "-").startswith(_BYTE_BY_BYTE):
        return False
    with entry.open() as stream:
        return isinstance(getattr(stream, "raw", None), io.FileIO) and stream.seek(0, io.SEEK_END) >= 2 * _LEAST


def stretch_of(entry: Entry, stretch: Stretch) -> BinaryIO:
    """The bytes of a stretch, as a stream; one that goes to the end is not held in memory."""
    stream = entry.open()
    if stretch.begin:
        stream.seek(stretch.begin)
    if stretch.end is None:
        return stream
    with stream:
        return io.BytesIO(stream.read(stretch.end - stretch.begin))


def encoding_in(stretch: Stretch, name: str) -> str:
    """The encoding inside a file: a byte-order mark stands at its beginning alone."""
    return name if stretch.begin == 0 else name.removesuffix("-sig")


def stretches_of_lines(entry: Entry, reading: Reading) -> Iterator[Stretch]:
    """Of a file of which each line is a row."""
    begin, line = 0, 1
    with with_rows_bounded(entry.open(), entry.name, reading) as stream:
        while content := stream.read(_LEAST) + stream.readline():
            end = begin + len(content)
            yield Stretch(begin=begin, end=end, line=line)
            begin, line = end, line + content.count(b"\n")


def stretches_of_cells(entry: Entry, delimiter: str, reading: Reading) -> Iterator[Stretch]:
    """Of a table of separated cells, whose rows may go over several lines. They begin where blocks do, so that the blocks are
    those of the whole; what cannot be read is left to the last one, and so are blank lines at the end."""
    position = begin = 0
    line, cut = 1, (0, 0)

    def counted(lines: Iterator[str]) -> Iterator[str]:
        nonlocal position
        for text in lines:
            position += len(text)
            yield text

    with closing(io.TextIOWrapper(entry.open(), encoding="latin-1", newline="")) as lines:  # a character for each byte
        rows = csv.reader(counted(lines), delimiter=delimiter)
        while block := _rows_if_sound(rows, reading.largest_cell):
            if cut[0] and any(block):
                yield Stretch(begin=begin, end=cut[0], line=line, last=False)
                (begin, line), cut = cut, (0, 0)
            if not cut[0] and position - begin >= _LEAST:
                cut = (position, rows.line_num + 1)
    yield Stretch(begin=begin, end=None, line=line)


def next_rows(reader: Iterator[list[str]], largest: int) -> list[list[str]]:
    """The next block of rows. The library has one bound for all its readers; it is set while this one reads.

    Raises csv.Error for a cell of more than `largest` characters, and for what is no table.
    """
    csv.field_size_limit(largest)
    try:
        return list(islice(reader, ROWS_A_BLOCK))
    finally:
        csv.field_size_limit(sys.maxsize)


def _rows_if_sound(reader: Iterator[list[str]], largest: int) -> list[list[str]]:
    try:
        return next_rows(reader, largest)
    except csv.Error:
        return []
