"""From what is named on a command line to tables: every kind of source, one door."""

import sys
import tempfile
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from fnmatch import fnmatch
from itertools import groupby
from pathlib import Path
from shutil import copyfileobj
from typing import BinaryIO, cast

from upsort.core.errors import DataProblem, UsageProblem
from upsort.core.names import suggestion
from upsort.core.plan import Source
from upsort.files.columns import renamed
from upsort.files.delimited import delimited_table
from upsort.files.entries import entries_of, is_packed
from upsort.files.json_tables import json_lines_table, json_table
from upsort.files.parquet_tables import parquet_table
from upsort.files.rows import EmptySource, Entry, Reading, Table
from upsort.files.spreadsheets import spreadsheet_table
from upsort.files.text_files import text_table

STANDARD_INPUT = "-"
KINDS = {
    "csv": "delimited",
    "tsv": "delimited",
    "tab": "delimited",
    "json": "json",
    "jsonl": "json lines",
    "ndjson": "json lines",
    "xlsx": "spreadsheet",
    "parquet": "parquet",
    "txt": "text",
    "text": "text",
    "md": "text",
    "log": "text",
}


@dataclass(frozen=True)
class Inputs:
    """What a command reads. notes: what was found out and should be told. kinds: of source, those of KINDS and `archive`."""

    tables: tuple[Table, ...]
    notes: list[str] = field(default_factory=list)
    kinds: frozenset[str] = frozenset()


def open_inputs(
    names: Sequence[str],
    reading: Reading,
    standard_input: BinaryIO | None = None,
    sources: Mapping[str, Source] | None = None,
    rename: Mapping[str, str] | None = None,
) -> Inputs:
    """Find out about every table in every named source.

    names: paths, patterns, or `-` for standard input, which is kept in a temporary file so that it can be read again.
    sources: choices for single sources, by name or pattern. rename: column names to change in all of them.
    Raises DataProblem for a missing, unreadable or empty source.
    """
    tables: list[Table] = []
    notes: list[str] = []
    kinds: set[str] = set()
    for name in names:
        try:
            here, told, of_kinds = _tables_of(name, reading, standard_input, sources or {}, rename or {})
        except UnicodeError as error:
            raise DataProblem(
                f"{name} is not {reading.encoding or 'of the encoding that it looks like'}: {error}.",
                "Name another one with --encoding, or leave it out.",
            ) from error
        except OSError as error:
            raise DataProblem(
                f"{name} cannot be read: {error.strerror or error}.", "Check the name and the permissions."
            ) from error
        tables += here
        notes += told
        kinds |= of_kinds
    return Inputs(tuple(tables), notes + [note for table in tables for note in table.notes], frozenset(kinds))


def _tables_of(
    name: str,
    reading: Reading,
    standard_input: BinaryIO | None,
    sources: Mapping[str, Source],
    rename: Mapping[str, str],
) -> tuple[list[Table], list[str], set[str]]:
    if name == STANDARD_INPUT:
        entry = Entry("standard input", ("standard input",), _spooled(standard_input))
        chosen = reading if reading.kind else replace(reading, kind=_kind_of_content(entry))
        return [renamed(_table(entry, chosen), rename)], [], {_kind(entry, chosen)}
    found = entries_of(name, reading)
    tables, notes = [], list(found.notes)
    alone = len(found.entries) == 1
    kinds = (
        {"archive"}
        if any(is_packed(part) for entry in found.entries for part in (*entry.path, *Path(name).parts))
        else set()
    )

    def kind_or_none(entry: Entry) -> str:
        try:
            return _kind(entry, _reading_for(entry, reading, sources))
        except UsageProblem:
            if alone:
                raise
            notes.append(f"{entry.name} is of no kind that can be read and was left out.")
            return ""

    for kind, group in groupby(found.entries, kind_or_none):
        kinds |= {kind} - {""}
        if kind == "text":
            members = list(group)
            shown = members[0].name if len(members) == 1 else name
            choice = _reading_for(members[0], reading, sources)
            tables.append(_renamed_for(members[0], text_table(shown, members, choice), sources, rename))
        elif kind:
            for entry in group:
                try:
                    table = _table(entry, _reading_for(entry, reading, sources))
                except EmptySource as problem:
                    if alone:
                        raise
                    notes.append(f"{problem.what} It was left out.")
                    continue
                except (EOFError, ValueError) as error:
                    raise DataProblem(f"{entry.name} is damaged: {error}.", "Get the file again.") from error
                tables.append(_renamed_for(entry, table, sources, rename))
    if not tables:
        raise DataProblem(f"{name} holds nothing that can be read.", f"Kinds: {', '.join(KINDS)}.")
    return tables, notes, kinds


def _table(entry: Entry, reading: Reading) -> Table:
    match _kind(entry, reading):
        case "delimited":
            return delimited_table(entry, reading)
        case "json":
            return json_table(entry, reading)
        case "json lines":
            return json_lines_table(entry, reading)
        case "spreadsheet":
            return spreadsheet_table(entry, reading)
        case "parquet":
            return parquet_table(entry)
        case _:
            return text_table(entry.name, [entry], reading)


def _kind(entry: Entry, reading: Reading) -> str:
    if reading.kind:
        if reading.kind not in KINDS:
            raise UsageProblem(
                f"There is no kind of source {reading.kind!r}.", suggestion(reading.kind, KINDS, "kinds")
            )
        return KINDS[reading.kind]
    if reading.each_line:
        return "text"
    name = entry.path[-1].lower()
    for layer in (".gz", ".xz"):
        name = name.removesuffix(layer)
    ending = name.rpartition(".")[2] if "." in name else ""
    if ending in KINDS:
        return KINDS[ending]
    if not ending or ending.isdigit():
        return "delimited" if len(entry.path) == 1 else "text"
    raise UsageProblem(
        f"{entry.name} has an ending of no known kind.", f"Say what it is with --as: {', '.join(KINDS)}."
    )


def _kind_of_content(entry: Entry) -> str:
    with entry.open() as stream:
        beginning = stream.read(65536)
    if beginning.startswith(b"PAR1"):
        return "parquet"
    if beginning.startswith(b"PK\x03\x04"):
        return "xlsx"
    text = beginning.lstrip(b"\xef\xbb\xbf \t\r\n")
    if text.startswith(b"{"):
        return "jsonl"
    return "json" if text.startswith(b"[") else "csv"


def _source_for(entry: Entry, sources: Mapping[str, Source]) -> Source | None:
    names = (entry.name, entry.path[-1])
    return next((choice for pattern, choice in sources.items() if any(fnmatch(name, pattern) for name in names)), None)


def _reading_for(entry: Entry, reading: Reading, sources: Mapping[str, Source]) -> Reading:
    """The reading with the plan's choices for this source, where the command line leaves them open."""
    choice = _source_for(entry, sources)
    if choice is None:
        return reading
    return replace(
        reading,
        kind=reading.kind or choice.kind,
        encoding=reading.encoding or choice.encoding,
        delimiter=reading.delimiter or choice.delimiter,
        header=reading.header if reading.header is not None else choice.header,
        sheet=reading.sheet or choice.sheet,
    )


def _renamed_for(entry: Entry, table: Table, sources: Mapping[str, Source], rename: Mapping[str, str]) -> Table:
    choice = _source_for(entry, sources)
    return renamed(table, {**(choice.rename if choice is not None else {}), **rename})


def _spooled(standard_input: BinaryIO | None) -> Callable[[], BinaryIO]:
    """Copy standard input to a temporary file that vanishes with the program; give it out again and again."""
    held = tempfile.NamedTemporaryFile(prefix="upsort-")  # noqa: SIM115 - lives as long as the opener
    copyfileobj(standard_input if standard_input is not None else sys.stdin.buffer, held)
    held.flush()

    def reopen() -> BinaryIO:
        return cast(BinaryIO, Path(held.name).open("rb"))

    return reopen
