"""The formats of tables by name. Each is a record; adding one is adding it here."""

from collections.abc import Callable
from pathlib import Path

from upsort.core.errors import UsageProblem, suggestion
from upsort.io.outputs import writers
from upsort.io.sources.addresses import COMPRESSED, ending_of
from upsort.io.tables.binary_tables import parquet_table, spreadsheet_table
from upsort.io.tables.delimited import delimited_table
from upsort.io.tables.json_tables import json_lines_table, json_table
from upsort.io.tables.rows import Format
from upsort.io.tables.text_files import text_table


def _begins(*prefixes: bytes) -> Callable[[bytes], bool]:
    """Whether a file begins with one of some bytes, whatever space stands before text."""
    return lambda beginning: beginning.lstrip(b"\xef\xbb\xbf \t\r\n").startswith(prefixes)


DELIMITED = Format(
    name="delimited",
    endings=("csv", "tsv", "tab"),
    read=delimited_table,
    reads_with=frozenset({"--encoding", "--delimiter", "--header", "--header-row"}),
    to_text=writers.delimited,
)
JSON_LINES = Format(
    name="json lines",
    endings=("jsonl", "ndjson"),
    signature=_begins(b"{"),
    read=json_lines_table,
    reads_with=frozenset({"--encoding"}),
    to_text=writers.json_lines,
    nested=True,
)
TEXT = Format(
    name="text",
    endings=("txt", "text", "md", "log"),
    read_as_one=text_table,
    reads_with=frozenset({"--encoding", "--each-line", "--label-from"}),
)
FORMATS: list[Format] = [
    DELIMITED,
    Format(
        name="json",
        endings=("json",),
        signature=_begins(b"["),
        read=json_table,
        reads_with=frozenset({"--encoding", "--rows"}),
        to_bytes=writers.json_array,
        nested=True,
    ),
    JSON_LINES,
    Format(
        name="spreadsheet",
        endings=("xlsx",),
        signature=lambda beginning: beginning.startswith(b"PK\x03\x04"),
        read=spreadsheet_table,
        reads_with=frozenset({"--header", "--header-row", "--sheet", "--unpack-limit"}),
        to_bytes=writers.spreadsheet,
    ),
    Format(
        name="parquet",
        endings=("parquet",),
        signature=lambda beginning: beginning.startswith(b"PAR1"),
        read=parquet_table,
        reads_with=frozenset({"--unpack-limit"}),
        to_bytes=writers.parquet,
    ),
    TEXT,
]
"""In the order in which they are reported."""


def reading_names() -> list[str]:
    """All names of formats that can be read."""
    return [ending for format_ in FORMATS for ending in format_.endings]


def writing_endings(resumable: bool = False) -> list[str]:
    """The endings of tables that can be written, with their dots. resumable: only of those that can be resumed; others may be
    packed too."""
    plain = [
        f".{ending}"
        for format_ in FORMATS
        for ending in format_.endings
        if (format_.to_text is not None if resumable else format_.written)
    ]
    return plain if resumable else [*plain, *(f"{ending}{COMPRESSED}" for ending in plain[:1])]


def format_called(name: str) -> Format:
    """The format of a name of --as. Raises UsageProblem for one that there is not."""
    format_ = format_of_ending(name)
    if format_ is None:
        raise UsageProblem(f"There is no kind of source {name!r}.", suggestion(name, reading_names(), "kinds"))
    return format_


def format_of_ending(ending: str) -> Format | None:
    """The format that an ending, without its dot, names."""
    return next((format_ for format_ in FORMATS if ending in format_.endings), None)


def ending_to_write(path: Path) -> str:
    """The ending that says what a file to be written holds, without its dot, whatever packs it."""
    name = path.name.lower()
    return name.removesuffix(COMPRESSED).rpartition(".")[2] if "." in name.removesuffix(COMPRESSED) else ""


def format_to_write(path: Path) -> Format:
    """The format that a file to be written is to have. Raises UsageProblem where its ending names none."""
    format_ = format_of_ending(ending_to_write(path))
    if format_ is None or not format_.written:
        raise UsageProblem(f"{path} has no ending that names a kind of table.", f"Use one of {', '.join(writing_endings())}.")
    return format_


def format_of_content(beginning: bytes) -> Format:
    """The format that the beginning of a file without a name looks like; separated cells, where it looks like no other."""
    format_ = next((format_ for format_ in FORMATS if format_.signature is not None and format_.signature(beginning)), None)
    return format_ or DELIMITED


def format_of_file(name: str, alone: bool) -> Format | None:
    """The format that a file's name says. alone: whether it is a source of its own, not one file of a folder or archive."""
    ending = ending_of(name)
    if (format_ := format_of_ending(ending)) is not None:
        return format_
    if not ending or ending.isdigit():
        return DELIMITED if alone else TEXT
    return None
