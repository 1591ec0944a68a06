"""Comma-, semicolon- and tab-separated tables, read in blocks with the line of each row."""

import io
import re
from collections import Counter, deque
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from functools import partial
from itertools import chain, islice
from typing import BinaryIO

from upsort.core.errors import DataProblem, listed
from upsort.core.lazy import record
from upsort.io.sources.addresses import ending_of
from upsort.io.tables.bounds import CSV, too_large, with_rows_bounded
from upsort.io.tables.chunking import cell_chunks, chunk_stream, divisible, division_of, encoding_in, next_rows
from upsort.io.tables.columnar import parts_of_block, regular_rows
from upsort.io.tables.encoding import NOTED_ESCAPE, Encoding, EncodingDoubts, find_encoding, noted_escapes
from upsort.io.tables.heading import Heading, heading_from_options, looks_like_names, names_in, title_notices, without_footer_rows
from upsort.io.tables.rows import (
    WHOLE,
    WITH_TABS,
    Block,
    Chunk,
    EmptySource,
    ReadSettings,
    ReasonKind,
    RejectedRow,
    RejectionReason,
    SourceEntry,
    SourceNote,
    SourceTable,
)

_LINE_END = re.compile("\r\n|\r|\n")
DELIMITERS = ",;\t|"
_NAMES_OF_DELIMITERS = {",": "commas", ";": "semicolons", "\t": "tabs", "|": "bars"}
SAMPLE_CHARACTERS = 64 * 1024
_SAMPLE_ROWS = 50
_MOST_AGREE = 0.8  # of the rows, where the first one is of another width
_TOO_LARGE = "field larger than field limit"  # of the library
_UTF8 = ("utf-8", "utf-8-sig", "ascii")
_END = "\udfff"  # a line that no table has


@record(frozen=True)
class Dialect:
    """What was detected about a table."""

    encoding: Encoding
    delimiter: str
    columns: tuple[str, ...]
    heading: Heading


def delimited_table(entry: SourceEntry, reading: ReadSettings) -> SourceTable:
    """A table of separated cells, its shape found out. Raises DataProblem for an empty one."""
    with entry.open() as stream:
        shape = table_shape(stream, entry.name, reading)
    notes = shape.encoding.description(entry.name)
    notes += title_notices(entry.name, shape.heading) if not reading.header_row else []
    if shape.heading.row is None and reading.header is None:
        notes.append(SourceNote(entry.name, f" has no row of column names; they are called {listed(shape.columns)}."))
    if not reading.kind and ending_of(entry.name) not in {*WITH_TABS, "csv", ""}:
        by = _NAMES_OF_DELIMITERS.get(shape.delimiter, repr(shape.delimiter))
        what = f" is read as a table, its cells separated by {by}; --as text reads it as one text."
        notes.append(SourceNote(entry.name, what))

    def blocks(chunk: Chunk) -> Iterator[Block]:
        def lines() -> BinaryIO:
            return with_rows_bounded(chunk_stream(entry, chunk), entry.name, reading)

        blocks_read = _regular_blocks(entry, shape, reading, chunk) or read_delimited(lines, entry.name, shape, reading, chunk)
        yield from without_footer_rows(iter(blocks_read)) if chunk.last else blocks_read

    divides = divisible(entry, shape.encoding) and shape.delimiter.isascii()
    chunks = partial(cell_chunks, entry, shape.delimiter, reading) if divides else None
    return SourceTable(
        name=entry.name,
        columns=shape.columns,
        blocks=lambda: chain.from_iterable(map(blocks, chunks() if chunks is not None else [WHOLE])),
        notes=tuple(notes),
        division=division_of(entry, chunks, blocks),
    )


def table_shape(stream: BinaryIO, source: str, reading: ReadSettings) -> Dialect:
    """Look at the beginning of a table; the stream is left at its beginning.

    Raises DataProblem for an empty table."""
    encoding = find_encoding(stream, reading.encoding)
    sample = _sample(stream, encoding.name)
    if not sample.strip():
        raise EmptySource(f"{source} is empty.", "Give a table with a row of column names and rows of documents.")
    tab_file = (reading.kind or ending_of(source)) in WITH_TABS
    delimiter, heading, columns = _table_layout(sample, reading, tab_file, source)
    return Dialect(encoding, delimiter, columns, heading)


def _table_layout(sample: str, reading: ReadSettings, tab_file: bool, source: str) -> tuple[str, Heading, tuple[str, ...]]:
    """The delimiter, the heading and the column names of a table, from its first characters."""
    delimiter = reading.delimiter or ("\t" if tab_file else "")
    if reading.header is None and not reading.header_row:
        for each in delimiter or DELIMITERS:
            if _names_are_quoted(sample, each):
                rows, _ = _rows_and_lines(sample, each)
                return each, Heading(0, exact=True), tuple(rows[0])
    delimiter = delimiter or _likeliest_delimiter(sample)
    rows, lines = _rows_and_lines(sample, delimiter)
    heading = heading_from_options(reading, rows, lines, source)
    return delimiter, heading, names_in(heading, rows)


def quoted_names_needed(text: str, columns: Sequence[str], delimiter: str) -> bool:
    """Whether the first row of a table, as it is about to be written, would not be recognised as these column names."""
    layout = _table_layout(text[:SAMPLE_CHARACTERS], ReadSettings(), delimiter == "\t", "")
    return layout != (delimiter, Heading(0), tuple(columns))


def _names_are_quoted(sample: str, delimiter: str) -> bool:
    """Whether every cell of the first row is quoted, one at least without need, and no cell below is quoted without need.

    That is how this program writes names which would not be recognised as such: numbers, or a name that is found again below."""
    separator = re.escape(delimiter)
    cell = re.compile(rf'(?:"((?:[^"]|"")*)"|[^"{separator}\r\n]*)({separator}|\r\n|\r|\n|\Z)')
    place, row, needless = 0, 0, [0, 0]
    width = 1
    while place < len(sample):
        match = cell.match(sample, place)
        if match is None:
            return row > 0  # cut off by the end of the sample
        quoted, end = match.groups()
        if quoted is None and row == 0:
            return False
        last_of_row = end != delimiter
        alone = last_of_row and width == 1
        if quoted is not None and not any(sign in quoted for sign in f'{delimiter}"\r\n') and (quoted or not alone):
            needless[row > 0] += 1
        if row > 0 and needless[1]:
            return False
        width = 1 if last_of_row else width + 1
        row += last_of_row
        place = match.end() if match.end() > place else len(sample)
    return needless[0] > 0 and not needless[1]


_LEAST_OF_A_TABLE, _LEAST_BY_COMMAS = 3, 6  # rows; a few lines of prose may well have as many commas


def looks_like_a_table(entry: SourceEntry, reading: ReadSettings) -> bool:
    """Whether a file of text is a table: each of its first rows has as many cells, two at least, separated by tabs; or by another
    delimiter, if the first row looks like names as well."""
    with entry.open() as stream:
        sample = _sample(stream, find_encoding(stream, reading.encoding).name)
    delimiter = reading.delimiter or _likeliest_delimiter(sample)
    rows, _ = _rows_and_lines(sample, delimiter)
    widths = {len(row) for row in rows}
    alike = len(rows) >= (_LEAST_BY_COMMAS if delimiter == "," else _LEAST_OF_A_TABLE) and len(widths) == 1 and widths != {1}
    return alike and (delimiter == "\t" or bool(reading.delimiter) or looks_like_names(rows))


_LARGEST_REGULAR = 1 << 24  # bytes of a chunk that is read at once


def _regular_blocks(entry: SourceEntry, shape: Dialect, reading: ReadSettings, chunk: Chunk) -> list[Block]:
    """The rows of a chunk of a large table by columns, where `regular_rows` finds them; else nothing, and the chunk is for
    `read_delimited`, which reads the same rows one by one."""
    most = min(_LARGEST_REGULAR, reading.largest_cell)
    if chunk == WHOLE or shape.encoding.name not in _UTF8 or (chunk.end is not None and chunk.end - chunk.begin > most):
        return []
    with chunk_stream(entry, chunk) as stream:
        content = stream.read(most + 1)
    found = regular_rows(content, shape.delimiter, len(shape.columns)) if len(content) <= most else None
    if found is None:
        return []
    whole = Block(source=entry.name, columns=shape.columns, rows=found[0], lines=(chunk.line + found[1]).tolist())
    return parts_of_block(whole, shape.heading.rows if chunk.begin == 0 else 0)


def read_delimited(
    opened: Callable[[], BinaryIO], source: str, shape: Dialect, reading: ReadSettings, chunk: Chunk
) -> Iterator[Block]:
    """The rows of a stretch of a table whose shape is known. Blank lines are no rows.

    As long as every quote is closed where a cell ends, whole blocks are read at once. From the block with the first other one on,
    rows are read one by one, see `_row_by_row`. opened: opens the stretch, again and again."""
    doubts = EncodingDoubts(shape.encoding, source)
    line = chunk.line
    skip = shape.heading.rows if chunk.begin == 0 else 0
    with opened() as stream:
        text = _text(stream, shape, chunk)
        sound_until = noted_escapes()
        reader = CSV.reader(text, delimiter=shape.delimiter, strict=True)
        try:
            while rows := next_rows(reader, reading.largest_cell):
                after = chunk.line + reader.line_num
                lines = _first_lines(rows, line, after)
                line = after
                if not all(rows):
                    filled = [place for place, row in enumerate(rows) if row]
                    rows, lines = [rows[place] for place in filled], [lines[place] for place in filled]
                if skip and rows:
                    rows, lines, skip = rows[skip:], lines[skip:], 0
                doubts.check(rows)
                if rows:
                    yield _checked(rows, lines, source, shape, noted_escapes() > sound_until)
            doubts.warn()
            return
        except UnicodeError as error:
            raise _unreadable(source, line, error) from error
        except CSV.Error as error:
            if _TOO_LARGE in str(error):
                raise too_large(f"{source}, from line {line} on,", reading) from error
    with opened() as stream:
        text = _text(stream, shape, chunk)
        deque(islice(text, line - chunk.line), maxlen=0)
        sound_until = noted_escapes()
        try:
            rows_read = _row_by_row(text, line, shape.delimiter, len(shape.columns))
            while batch := next_rows(rows_read, reading.largest_cell):
                one_by_one = list(chain.from_iterable(batch))[skip:]
                skip = 0
                good = [each for each in one_by_one if each.reason is None]
                rows, lines = [each.row for each in good], [each.line for each in good]
                doubts.check(rows)
                block = _checked(rows, lines, source, shape, noted_escapes() > sound_until)
                refused = [RejectedRow(source, each.line, each.reason, tuple(each.row)) for each in one_by_one if each.reason]
                yield replace(block, refused=sorted([*block.refused, *refused], key=lambda row: row.line))
        except (CSV.Error, UnicodeError) as error:
            if _TOO_LARGE in str(error):
                raise too_large(f"{source}, from line {line} on,", reading) from error
            raise _unreadable(source, line, error) from error
    doubts.warn()


def _unreadable(source: str, line: int, error: Exception) -> DataProblem:
    return DataProblem(
        f"{source} cannot be read beyond line {line}: {error}.", "Check --encoding and --delimiter, or mend the line."
    )


def _text(stream: BinaryIO, shape: Dialect, chunk: Chunk) -> io.TextIOWrapper:
    encoding = encoding_in(chunk, shape.encoding.name)
    return io.TextIOWrapper(stream, encoding=encoding, errors=NOTED_ESCAPE, newline="")


@record(frozen=True)
class _Row:
    """A row, the line on which it begins, and why it cannot be used, where a quote is to blame."""

    row: list[str]
    line: int
    reason: RejectionReason | None = None


def _row_by_row(text: Iterator[str], begin: int, delimiter: str, width: int) -> Iterator[list[_Row]]:
    """Each row of text in which quotes stand inside cells, or are not closed; none for a blank line. begin: the number of its
    first line.

    What stands behind a closing quote belongs to the cell. Where a quote that is not closed, or closed in the middle of a cell,
    makes a row go over several lines, and those behind its own are rows of the table, they are taken for such, and the row with
    the quote is refused."""
    lines: list[str] = []

    def noted() -> Iterator[str]:
        for line in text:
            lines.append(line)
            yield line

    for row in CSV.reader(noted(), delimiter=delimiter):
        raw, line = lines.copy(), begin
        lines.clear()
        begin += len(raw)
        if not row:
            yield []
            continue
        open_at_end = any('"' in part for part in raw) and len(list(CSV.reader([*raw, _END], delimiter=delimiter))) == 1
        if not open_at_end and (len(raw) == 1 or _is_sound(raw, delimiter)):
            yield [_Row(row, line)]
            continue
        cell = len(row) - 1 if open_at_end else next(place for place, each in enumerate(row) if _LINE_END.search(each))
        above = sum(len(_LINE_END.findall(each)) for each in row[:cell])  # lines of the row before that of the quote
        behind = list(chain.from_iterable(_row_by_row(iter(raw[above + 1 :]), line + above + 1, delimiter, width)))
        reason = RejectionReason(ReasonKind.OPEN_QUOTE, (), f"in line {line + above}")
        if behind and sum(len(each.row) == width for each in behind) >= _MOST_AGREE * len(behind):
            begun = next(iter(CSV.reader(raw[: above + 1], delimiter=delimiter)))
            yield [_Row(begun, line, reason), *behind]
        else:
            yield [_Row(row, line, reason if open_at_end else None)]


def _is_sound(raw: list[str], delimiter: str) -> bool:
    """Whether each quote of a row stands at an end of a cell, or is doubled."""
    try:
        deque(CSV.reader(raw, delimiter=delimiter, strict=True), maxlen=0)
    except CSV.Error:
        return False
    return True


def _first_lines(rows: list[list[str]], begin: int, after: int) -> list[int]:
    """The line on which each row begins, when they fill the lines from `begin` to before `after`."""
    if after - begin == len(rows):
        return list(range(begin, after))
    lines = []
    for row in rows:
        lines.append(begin)
        begin += 1 + sum(len(_LINE_END.findall(cell)) for cell in row)
    return lines


def _checked(rows: list[list[str]], lines: list[int], source: str, shape: Dialect, suspicious: bool) -> Block:
    """The block with its unusable rows taken out. suspicious: whether bytes that could not be decoded may be among them."""
    width = len(shape.columns)
    damaged = suspicious and _holds_undecodable(rows)
    if not damaged and set(map(len, rows)) == {width}:
        return Block(source=source, columns=shape.columns, rows=rows, lines=lines)
    good: list[list[str]] = []
    good_lines: list[int] = []
    refused: list[RejectedRow] = []
    for row, line in zip(rows, lines, strict=True):
        reason = _width_fault(row, width)
        if damaged and _holds_undecodable([row]):
            reason = _undecodable(row, shape)
        if reason:
            refused.append(RejectedRow(source, line, reason, tuple(row)))
        else:
            good.append(row)
            good_lines.append(line)
    return Block(source=source, columns=shape.columns, rows=good, lines=good_lines, refused=refused)


def _width_fault(row: list[str], width: int) -> RejectionReason | None:
    if len(row) == width:
        return None
    cells = f"{len(row)} cell{'s' if len(row) != 1 else ''}"
    longest = max(cell.count("\n") for cell in row)
    if longest > 20:
        return RejectionReason(ReasonKind.WIDTH, (cells, str(width)), f"a quote is opened that is not closed for {longest} lines")
    return RejectionReason(ReasonKind.WIDTH, (cells, str(width)))


def _holds_undecodable(rows: list[list[str]]) -> bool:
    try:
        "".join(chain.from_iterable(rows)).encode("utf-8")
    except UnicodeEncodeError:
        return True
    return False


def _undecodable(row: list[str], shape: Dialect) -> RejectionReason:
    encoding = shape.encoding.name.removesuffix("-sig")
    for name, cell in zip(shape.columns, row, strict=False):
        for place, character in enumerate(cell):
            if "\udc80" <= character <= "\udcff":
                byte = ord(character) - 0xDC00
                where = f"at character {place + 1} of column {name!r}"
                return RejectionReason(ReasonKind.BYTES, (f"byte 0x{byte:02X} is not {encoding}",), where)
    return RejectionReason(ReasonKind.BYTES, (f"bytes that are not {encoding}",))


def _sample(stream: BinaryIO, encoding: str) -> str:
    start = stream.read(4 * SAMPLE_CHARACTERS)
    stream.seek(0)
    return start.decode(encoding, "replace")[:SAMPLE_CHARACTERS]


def _rows_and_lines(sample: str, delimiter: str) -> tuple[list[list[str]], list[int]]:
    """The first rows that are not blank, and the line at which each begins."""
    rows: list[list[str]] = []
    lines: list[int] = []
    reader = CSV.reader(io.StringIO(sample, newline=""), delimiter=delimiter)
    begin = 1
    for row in reader:
        if row:
            rows.append(row)
            lines.append(begin)
        begin = reader.line_num + 1
        if len(rows) > _SAMPLE_ROWS:
            return rows[:-1], lines[:-1]
    if len(rows) > 1 and len(sample) >= SAMPLE_CHARACTERS:
        rows.pop()  # cut off by the end of the sample
        lines.pop()
    return rows, lines


def _likeliest_delimiter(sample: str) -> str:
    """The delimiter by which most rows have as many cells as the first, or nearly all rows as many as each other, where a title
    is above them; more columns win among equals."""
    best, best_merit = ",", (0.0, 1)
    for delimiter in DELIMITERS:
        rows, _ = _rows_and_lines(sample, delimiter)
        widths = Counter(map(len, rows))
        first, usual = (len(rows[0]), max(widths, key=lambda width: (widths[width], width))) if rows else (1, 1)
        for width in {first, usual}:
            agreement = widths[width] / len(rows) if rows else 0.0
            likely = width > 1 and (width == first or agreement >= _MOST_AGREE)
            if likely and (agreement, width) > best_merit:
                best, best_merit = delimiter, (agreement, width)
    return best
