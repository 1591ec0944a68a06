"""Opens what a command line names as tables, whatever kind of source it is."""

import csv
import io
import sys
from collections.abc import Callable, Mapping, Sequence
from dataclasses import field, replace
from fnmatch import fnmatch
from itertools import groupby
from pathlib import Path, PurePath
from typing import BinaryIO

from upsort.core.errors import DataProblem, UsageProblem, listed, suggestion
from upsort.core.lazy import record
from upsort.core.plan import Source
from upsort.io.outputs.atomic import LocalCopies
from upsort.io.sources.addresses import is_archive, is_compressed, is_database, without_secrets
from upsort.io.sources.database_tables import database_table
from upsort.io.sources.entries import entries_of
from upsort.io.tables.columnar import without_large_rows
from upsort.io.tables.columns import merged_columns, renamed, with_partition_columns
from upsort.io.tables.delimited import looks_like_a_table
from upsort.io.tables.formats import DELIMITED, TEXT, format_called, format_of_content, format_of_file, reading_names
from upsort.io.tables.rows import EmptySource, Format, ReadSettings, SourceEntry, SourceNote, SourceTable

_BEGINNING = 65536  # bytes that tell what comes on standard input
STANDARD_INPUT = "-"
DATABASE = "database"
"""The kind of a source that is one."""


@record(frozen=True)
class Inputs:
    """What a command reads. notes: what was detected and should be reported. kinds: the names of the formats, `archive` and
    `database`."""

    tables: tuple[SourceTable, ...]
    notes: list[SourceNote] = field(default_factory=list)
    kinds: frozenset[str] = frozenset()

    def sentences(self, every: bool) -> list[str]:
        """The notes, those of one kind together. every: whether to name all sources that they are about."""
        kinds: dict[str, list[SourceNote]] = {}
        for note in self.notes:
            kinds.setdefault(note.kind, []).append(note)
        sentences = []
        for first, *others in kinds.values():
            sentences.append(str(first))
            if others:
                sentences.append(f"Likewise: {listed([note.source for note in others], len(others) if every else _NAMED)}.")
        return sentences


_SAMPLE = 1 << 18  # bytes
_NAMED = 3  # sources
_LINES = {".csv", ".tsv", ".jsonl"}


def about_rows(inputs: Inputs) -> int:
    """About how many rows the tables have, by the beginnings of their files; 0 where that cannot be said of one of them."""
    total = 0.0
    for path in (Path(table.name) for table in inputs.tables):
        if path.suffix.lower() not in _LINES or not path.is_file():
            return 0
        with path.open("rb") as file:
            sample = file.read(_SAMPLE)
        try:
            records = sum(1 for _ in csv.reader(io.StringIO(sample.decode("latin-1"))))
        except csv.Error:
            return 0
        total += records * path.stat().st_size / max(len(sample), 1)
    return round(total)


def open_inputs(
    names: Sequence[str],
    reading: ReadSettings,
    standard_input: BinaryIO | None = None,
    sources: Mapping[str, Source] | None = None,
    rename: Mapping[str, str] | None = None,
) -> Inputs:
    """Find out about every table in every named source.

    names: paths, patterns, or `-` for standard input, which is kept in a temporary file so that it can be read again. sources:
    choices for single sources, by name or pattern. rename: column names to change in all of them. Raises DataProblem for a
    missing, unreadable or empty source."""
    tables: list[SourceTable] = []
    notes: list[SourceNote] = []
    kinds: set[str] = set()
    for name in names:
        if not name:
            raise UsageProblem("A source has no name.", "Name a file, a folder or an address.")
        try:
            tables_here, notices, of_kinds = _tables_of(name, reading, standard_input, sources or {}, rename or {})
        except UnicodeError as error:
            raise DataProblem(
                f"{name} is not {reading.encoding or 'of the encoding that it looks like'}: {error}.",
                "Name another one with --encoding, or leave it out.",
            ) from error
        except OSError as error:
            raise DataProblem(
                f"{name} cannot be read: {error.strerror or error}.", "Check the name and the permissions."
            ) from error
        tables += tables_here
        notes += notices
        kinds |= of_kinds
    columns = merged_columns(table.columns for table in tables)
    for old, new in (rename or {}).items():
        if old not in columns and new not in columns:
            raise UsageProblem(f"There is no column {old!r} to rename.", suggestion(old, columns, "columns"))
    tables = [replace(table, alone=len(tables) == 1) for table in tables]
    return Inputs(tuple(tables), notes + [note for table in tables for note in table.notes], frozenset(kinds))


def _tables_of(
    name: str, reading: ReadSettings, standard_input: BinaryIO | None, sources: Mapping[str, Source], rename: Mapping[str, str]
) -> tuple[list[SourceTable], list[SourceNote], set[str]]:
    if name == STANDARD_INPUT:
        called = getattr(standard_input, "called", "standard input")
        entry = SourceEntry(name=called, path=(called,), open=_spooled(standard_input), passing=True)
        typed = format_called(reading.kind) if reading.kind else _kind_of_content(entry)
        return [renamed(_table(entry, reading, typed), rename)], [], {typed.name}
    if is_database(name):
        return [renamed(_bounded(database_table(without_secrets(name), reading), reading), rename)], [], {DATABASE}
    discovered = entries_of(name, reading)
    tables, notes = [], list(discovered.notes)
    alone = len(discovered.entries) == 1
    kinds = (
        {"archive"}
        if any(is_compressed(part) for entry in discovered.entries for part in (*entry.path, *Path(name).parts))
        else set()
    )

    def kind_or_none(entry: SourceEntry) -> Format | None:
        try:
            return _kind(entry, _reading_for(entry, reading, sources))
        except UsageProblem:
            if alone:
                raise
            notes.append(SourceNote(entry.name, " is of no kind that can be read and was left out."))
            return None

    for kind, group in groupby(discovered.entries, kind_or_none):
        if kind is None:
            continue
        kinds.add(kind.name)
        if kind.read_as_one is not None:
            members = list(group)
            shown = members[0].name if len(members) == 1 else name
            choice = _reading_for(members[0], reading, sources)
            table = _bounded(kind.read_as_one(shown, members, choice), choice)
            tables.append(_renamed_for(members[0], table, sources, rename))
        else:
            for entry in group:
                try:
                    table = _table(entry, _reading_for(entry, reading, sources), kind)
                except EmptySource as problem:
                    if alone:
                        raise
                    notes.append(SourceNote(entry.name, f"{problem.what.removeprefix(entry.name)} It was left out."))
                    continue
                except (EOFError, ValueError) as error:
                    raise DataProblem(f"{entry.name} is damaged: {error}.", "Get the file again.") from error
                table = with_partition_columns(table, [part for part in PurePath(entry.name).parts[:-1] if not is_archive(part)])
                tables.append(_renamed_for(entry, table, sources, rename))
    if not tables:
        raise DataProblem(f"{name} holds nothing that can be read.", f"Kinds: {', '.join(reading_names())}.")
    return tables, notes, kinds


def _table(entry: SourceEntry, reading: ReadSettings, kind: Format) -> SourceTable:
    if kind.read is not None:
        return _bounded(kind.read(entry, reading), reading)
    if kind.read_as_one is not None:
        return _bounded(kind.read_as_one(entry.name, [entry], reading), reading)
    raise UsageProblem(f"{entry.name}: {kind.name} can be written, but not read.", "Name another source.")


def _bounded(table: SourceTable, reading: ReadSettings) -> SourceTable:
    return table.through(lambda blocks: without_large_rows(blocks, reading))


def _kind(entry: SourceEntry, reading: ReadSettings) -> Format:
    if reading.kind:
        return format_called(reading.kind)
    if reading.each_line:
        return TEXT
    format_ = format_of_file(entry.path[-1], alone=len(entry.path) == 1)
    if format_ is None:
        raise UsageProblem(
            f"{entry.name} has an ending of no known kind.", f"Name its format with --as: {', '.join(reading_names())}."
        )
    if format_ is TEXT and len(entry.path) == 1 and not reading.label_from and looks_like_a_table(entry, reading):
        return DELIMITED
    return format_


def _kind_of_content(entry: SourceEntry) -> Format:
    with entry.open() as stream:
        return format_of_content(stream.read(_BEGINNING))


def _source_for(entry: SourceEntry, sources: Mapping[str, Source]) -> Source | None:
    around = [place for place in PurePath(entry.name).parents if place.name]  # its folders, and the archive it is in
    names = {entry.name, entry.path[-1], *map(str, around), *(place.name for place in around)}
    return next((choice for pattern, choice in sources.items() if any(fnmatch(name, pattern) for name in names)), None)


def _reading_for(entry: SourceEntry, reading: ReadSettings, sources: Mapping[str, Source]) -> ReadSettings:
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
        header_row=reading.header_row or choice.header_row,
        sheet=reading.sheet or choice.sheet,
        rows=reading.rows or choice.rows,
    )


def _renamed_for(entry: SourceEntry, table: SourceTable, sources: Mapping[str, Source], rename: Mapping[str, str]) -> SourceTable:
    choice = _source_for(entry, sources)
    return renamed(table, {**(choice.rename if choice is not None else {}), **rename})


def _spooled(standard_input: BinaryIO | None) -> Callable[[], BinaryIO]:
    """Copy standard input to a file that vanishes with the program; give it out again and again."""
    return LocalCopies().of(standard_input if standard_input is not None else sys.stdin.buffer)
