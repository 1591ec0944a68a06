"""Plain text: each file a document, or each line of it; the label from the folder, the file's name or a pattern."""

import re
from collections.abc import Iterator, Sequence
from pathlib import Path, PurePosixPath

from upsort.core.errors import UsageProblem
from upsort.io.sources.addresses import unpacked_name
from upsort.io.tables.bounds import size_text, with_rows_bounded
from upsort.io.tables.encoding import find_encoding
from upsort.io.tables.rows import (
    WHOLE,
    Block,
    Chunk,
    Chunking,
    ReadSettings,
    ReasonKind,
    RejectedRow,
    RejectionReason,
    SourceEntry,
    SourceTable,
    blocks_of,
)

_FILES_A_BLOCK = 200
_FILES_PER_CHUNK = 5 * _FILES_A_BLOCK
_SHOWN = 1000  # bytes of a file that is too large


def text_table(name: str, entries: Sequence[SourceEntry], reading: ReadSettings) -> SourceTable:
    """Text files as one table with the columns file, label (where labels are to be had) and text."""
    label_from = reading.label_from or ("folder" if any(len(entry.path) > 2 for entry in entries) else "")
    columns = ("file", "label", "text") if label_from else ("file", "text")

    def blocks(chunk: Chunk) -> Iterator[Block]:
        chosen = entries[chunk.begin : chunk.end]
        if reading.each_line:
            for entry in chosen:
                yield from blocks_of(entry.name, columns, _lines(entry, label_from, reading))
            return
        for begin in range(0, len(chosen), _FILES_A_BLOCK):
            found = [_file(entry, label_from, reading) for entry in chosen[begin : begin + _FILES_A_BLOCK]]
            rows = [row for row in found if not isinstance(row, RejectedRow)]
            refused = [row for row in found if isinstance(row, RejectedRow)]
            files = [row[0] for row in rows]
            yield Block(source=name, columns=columns, rows=rows, lines=[1] * len(rows), refused=refused, files=files)

    def chunks() -> Iterator[Chunk]:
        some = 1 if reading.each_line else _FILES_PER_CHUNK
        for begin in range(0, len(entries), some):
            yield Chunk(begin=begin, end=begin + some)

    return SourceTable(
        name=name,
        columns=columns,
        blocks=lambda: blocks(WHOLE),
        text="text",
        label="label" if label_from else "",
        division=Chunking(chunks, blocks, any(entry.passing for entry in entries)) if len(entries) > 1 else None,
    )


def _file(entry: SourceEntry, label_from: str, reading: ReadSettings) -> list[str] | RejectedRow:
    with entry.open() as stream:
        encoding = find_encoding(stream, reading.encoding).name
        content = stream.read(reading.largest_cell + 1)
    if len(content) > reading.largest_cell:
        reason = RejectionReason(ReasonKind.TOO_LARGE, (size_text(reading.largest_cell),), "--largest-cell allows more")
        return RejectedRow(entry.name, 1, reason, (content[:_SHOWN].decode(encoding, "backslashreplace"),))
    try:
        text = content.decode(encoding).removeprefix("\ufeff")
    except UnicodeDecodeError as error:
        reason = RejectionReason(ReasonKind.BYTES, (f"byte {error.start + 1} is not {encoding.removesuffix('-sig')}",))
        return RejectedRow(entry.name, 1, reason, (content.decode(encoding, "backslashreplace"),))
    return [entry.name, *_labels(entry, label_from), text.replace("\r\n", "\n")]


def _lines(entry: SourceEntry, label_from: str, reading: ReadSettings) -> Iterator[tuple[int, list[str]] | RejectedRow]:
    labels = _labels(entry, label_from)
    with with_rows_bounded(entry.open(), entry.name, reading) as stream:
        encoding = find_encoding(stream, reading.encoding).name
        for number, line in enumerate(stream, 1):
            try:
                text = line.decode(encoding).removeprefix("\ufeff").rstrip("\r\n")
            except UnicodeDecodeError as error:
                reason = RejectionReason(ReasonKind.BYTES, (f"byte {error.start + 1} is not {encoding.removesuffix('-sig')}",))
                yield RejectedRow(entry.name, number, reason, (line.decode(encoding, "backslashreplace"),))
                continue
            if text.strip():
                yield number, [entry.name, *labels, text]


def _labels(entry: SourceEntry, label_from: str) -> list[str]:
    match label_from:
        case "":
            return []
        case "folder":
            return [_path_of(entry)[-2]]
        case "name":
            name = PurePosixPath(unpacked_name(entry.path[-1]))
            return [name.stem if name.suffix[1:].isalpha() else name.name]
        case _:
            match = checked_pattern(label_from).search("/".join(_path_of(entry)))
            return [match.group(1) if match else ""]


def _path_of(entry: SourceEntry) -> tuple[str, ...]:
    """Folders and name; of a file that is named alone, or by a pattern, the folder that it is in."""
    if len(entry.path) > 1:
        return entry.path
    standard_input = entry.passing and "://" not in entry.name
    return ("" if standard_input else Path(entry.name).absolute().parent.name, *entry.path)


def checked_pattern(text: str) -> "re.Pattern[str]":
    """The regular expression of --label-from. Raises UsageProblem for a wrong one and for one without a group."""
    try:
        pattern = re.compile(text)
    except re.error as error:
        raise UsageProblem(f"--label-from {text!r} is no regular expression: {error}.", "Or use folder or name.") from None
    if pattern.groups < 1:
        raise UsageProblem(f"--label-from {text!r} has no group.", "Put the label in brackets, for example 'book-([a-z]+)'.")
    return pattern
