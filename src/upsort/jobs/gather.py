"""Gathering sources into one corpus: columns mapped, labels tidied, long documents cut, what is of no use set aside.

The sources are read once, or twice where something must be known of all documents before any is written (which labels are
rare, which documents are copies). Only prints of the documents are held in between.
"""

import re
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from upsort.core import plan
from upsort.core.errors import UsageProblem
from upsort.core.judging.near_copies import Copies, Prints, find_copies, joined, prints_of
from upsort.core.labels import mapped, spellings
from upsort.core.names import nearest
from upsort.core.text.passages import kept_lines, passages
from upsort.core.text.repetition import is_repetition
from upsort.files.columns import Roles, column_place, roles_in
from upsort.files.documents import texts_of
from upsort.files.rows import Block, Refused, Table
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.files.tables_out import RowWriter, check_ending, table_file
from upsort.files.writing import check_writable
from upsort.jobs.corpus import Advance, no_progress

SOURCE_COLUMN = "source"
MARK_COLUMN = "set_aside"
PASSAGE_COLUMNS = ("document", "passage")
_PRINTED_CHARACTERS = 2_000_000


@dataclass
class GatherResult:
    """documents: written (before cutting into passages). rows: written. marked: kept, but marked as to be set aside.

    per_source: rows read and documents written of each table. labels: documents of each. spellings: groups of labels that
    differ only in case, spaces or punctuation. conflicts: copies that stand under another label than what they copy.
    missing: for each table, the columns of the corpus that it lacks.
    """

    documents: int = 0
    rows: int = 0
    marked: int = 0
    conflicts: int = 0
    per_source: dict[str, list[int]] = field(default_factory=dict)
    labels: Counter[str] = field(default_factory=Counter)
    spellings: list[list[tuple[str, int]]] = field(default_factory=list)
    missing: dict[str, list[str]] = field(default_factory=dict)


@dataclass(frozen=True)
class _Row:
    """A row on its way: its text as it will stand, its label, and why it is to be set aside (empty where it is not)."""

    cells: list[str]
    text: str
    label: str
    origin: str
    reason: str


class _Looked:
    """What the first pass found out about the documents that have no fault of their own, in their order."""

    def __init__(self) -> None:
        self.labels: Counter[str] = Counter()
        self.copies: Copies | None = None
        self.label_names: list[str] = []
        self.label_numbers: list[int] = []
        self.origins: list[tuple[int, int]] = []


def gather(
    inputs: Inputs, choices: plan.Plan, output: Path, aside: SetAside, advance: Advance = no_progress
) -> GatherResult:
    """Write the corpus to `output`. Raises UsageProblem for columns that a source does not have."""
    check_ending(output)
    check_writable(output)
    work = _Gathering(inputs, choices, aside, advance)
    with table_file(output, work.columns) as writer:
        return work.run(writer)


class _Gathering:
    def __init__(self, inputs: Inputs, choices: plan.Plan, aside: SetAside, advance: Advance) -> None:
        self.inputs, self.choices, self.aside, self.advance = inputs, choices, aside, advance
        self.settings = choices.gather
        self.junk = [_checked_pattern(pattern) for pattern in self.settings.junk]
        self.roles = [_roles(table, choices.columns) for table in inputs.tables]
        self.taken = self._taken()
        self.columns = self._output_columns()
        self.result = GatherResult(per_source={table.name: [0, 0] for table in inputs.tables})
        for table in inputs.tables:
            lacking = [name for name in self.taken if name not in table.columns]
            if lacking:
                self.result.missing[table.name] = lacking
        self.spelt: Counter[str] = Counter()
        self.places: dict[str, list[int | None]] = {}

    def run(self, writer: RowWriter) -> GatherResult:
        drop = self.settings.drop
        copies_wanted = "copies" in drop or "near-copies" in drop
        looked = self._look(copies_wanted) if copies_wanted or self.settings.rare_below else None
        place = -1
        for table, roles, block in self._blocks():
            unusable = [(refused, True) for refused in block.refused]
            out: list[list[str]] = []
            for row, line in zip(self._rows_of(block, roles), block.lines, strict=True):
                reason, label = row.reason, row.label
                if not reason and looked is not None:
                    place += 1
                    reason, label = self._judged(looked, place, label)
                if reason:
                    unusable.append((Refused(block.source, line, reason, tuple(row.cells)), False))
                if not reason or self.settings.keep:
                    out.extend(self._output_rows(table, roles, row, label, reason))
                    self.result.documents += 1
                    self.result.per_source[table.name][1] += 1
                    self.result.marked += bool(reason)
                    if label:
                        self.result.labels[label] += 1
            for refused, broken in sorted(unusable, key=lambda entry: entry[0].line):
                if broken or not self.settings.keep:
                    self.aside.add(refused)
            self.result.per_source[table.name][0] += len(block.rows) + len(block.refused)
            writer.writerows(out)
            self.result.rows += len(out)
            self.advance(len(block.rows))
        self.result.spellings = spellings(self.spelt)
        return self.result

    def _look(self, copies_wanted: bool) -> _Looked:
        looked = _Looked()
        parts: list[Prints] = []
        held: list[str] = []
        size = 0
        numbers: dict[str, int] = {}
        with_signatures = "near-copies" in self.settings.drop
        for table, roles, block in self._blocks():
            table_number = self.inputs.tables.index(table)
            for row, line in zip(self._rows_of(block, roles), block.lines, strict=True):
                if row.reason:
                    continue
                looked.labels[row.label] += 1
                if not copies_wanted:
                    continue
                looked.label_numbers.append(numbers.setdefault(row.label, len(numbers)))
                looked.origins.append((table_number, line))
                held.append(row.text)
                size += len(row.text)
                if size > _PRINTED_CHARACTERS:
                    parts.append(prints_of(held, with_signatures))
                    held, size = [], 0
        if copies_wanted:
            parts.append(prints_of(held, with_signatures))
            looked.copies = find_copies(joined(parts), self.settings.similarity if with_signatures else None)
            looked.label_names = list(numbers)
        self.spelt.clear()
        return looked

    def _judged(self, looked: _Looked, place: int, label: str) -> tuple[str, str]:
        """Why a document without a fault of its own is set aside after all, and its label when it is not."""
        if looked.copies is not None:
            first, exact = int(looked.copies.of()[place]), looked.copies.exact[place] >= 0
            if first >= 0 and (not exact or "copies" in self.settings.drop):
                table, line = looked.origins[first]
                origin = f"{self.inputs.tables[table].name}:{line}"
                theirs = looked.label_names[looked.label_numbers[first]]
                kind = "exact copy" if exact else "near copy"
                likeness = "" if exact else f", similarity {looked.copies.similarity[place]:.2f}"
                if theirs and label and theirs != label:
                    self.result.conflicts += 1
                    return f"{kind} under another label, of {origin}{likeness}: {theirs} there, {label} here", label
                return f"{kind}, of {origin}{likeness}", label
        if label and looked.labels[label] < self.settings.rare_below:
            if not self.settings.rare_into:
                return f"rare label, {label}: {looked.labels[label]} documents", label
            return "", self.settings.rare_into
        return "", label

    def _blocks(self) -> Iterator[tuple[Table, Roles, Block]]:
        for table, roles in zip(self.inputs.tables, self.roles, strict=True):
            for block in table.blocks():
                yield table, roles, block

    def _rows_of(self, block: Block, roles: Roles) -> Iterator[_Row]:
        settings = self.settings
        texts = texts_of(block.rows, roles)
        if settings.lines:
            texts = [kept_lines(text, *_line_range(settings.lines)) for text in texts]
        faults = self._faults(texts)
        for cells, text, origin, fault in zip(block.rows, texts, block.origins(), faults, strict=True):
            label = ""
            if roles.label is not None:
                label = mapped(cells[roles.label], settings.relabel, settings.fold_case, self.choices.clean.language)
                self.spelt[label] += 1
                if not fault and settings.labels and label not in settings.labels:
                    fault = f"label not chosen, {label}" if label else "no label"
            yield _Row(cells, text, label, origin, fault)

    def _faults(self, texts: Sequence[str]) -> list[str]:
        """Why each text is of no use by itself; empty where it is not."""
        settings = self.settings
        faults = ["" if text and not text.isspace() else "no text" for text in texts]
        if settings.at_least_words or "repetitions" in settings.drop:
            prints = prints_of(list(texts), with_signatures=False)
            for place in np.flatnonzero(prints.words < settings.at_least_words).tolist():
                faults[place] = faults[place] or f"shorter than {settings.at_least_words} words"
            if "repetitions" in settings.drop:
                for place, (words, distinct) in enumerate(
                    zip(prints.words.tolist(), prints.distinct.tolist(), strict=True)
                ):
                    if is_repetition(words, distinct):
                        faults[place] = faults[place] or "the same few words repeated"
        for pattern in self.junk:
            for place, text in enumerate(texts):
                if not faults[place] and pattern.search(text):
                    faults[place] = f"junk, matches {pattern.pattern}"
        return faults

    def _taken(self) -> list[str]:
        """The columns of the sources that go into the corpus, in the order in which they first appear."""
        every = list(dict.fromkeys(name for table in self.inputs.tables for name in table.columns))
        every = [name for name in every if name != MARK_COLUMN]
        if not self.settings.take:
            return every
        chosen = [every[column_place(name, every, "the sources together")] for name in self.settings.take]
        needed = [
            name for name in (*self.choices.columns.text, self.choices.columns.label) if name and name not in chosen
        ]
        if needed and self.settings.passages:
            raise UsageProblem(f"Passages need the column {needed[0]!r} in the corpus.", "Add it to --take.")
        return chosen

    def _output_columns(self) -> list[str]:
        settings = self.settings
        columns = [*self.taken]
        if SOURCE_COLUMN not in columns:
            columns.append(SOURCE_COLUMN)
        if settings.passages:
            columns += [name for name in PASSAGE_COLUMNS if name not in columns]
        return [*columns, MARK_COLUMN] if settings.keep else columns

    def _output_rows(self, table: Table, roles: Roles, row: _Row, label: str, reason: str) -> list[list[str]]:
        places = self._places(table)
        cells = [row.cells[place] if place is not None else "" for place in places]
        label_at = self._taken_at(self.choices.columns.label)
        if label_at is not None and roles.label is not None:
            cells[label_at] = label
        if SOURCE_COLUMN not in self.taken:
            cells.append(row.origin)
        mark = [reason] if self.settings.keep else []
        text_at = self._taken_at(self.choices.columns.text[0]) if self.choices.columns.text else None
        if not self.settings.passages:
            if self.settings.lines and text_at is not None:
                cells[text_at] = row.text
            return [cells + mark]
        assert text_at is not None
        identity = row.cells[roles.id] if roles.id is not None else row.origin
        cut = passages(row.text, self.settings.passages, self.settings.passage_unit, self.settings.overlap)
        rows = []
        for number, passage in enumerate(cut or [row.text], 1):
            new = list(cells)
            new[text_at] = passage
            rows.append([*new, identity, str(number), *mark])
        return rows

    def _places(self, table: Table) -> list[int | None]:
        if table.name not in self.places:
            self.places[table.name] = [
                table.columns.index(name) if name in table.columns else None for name in self.taken
            ]
        return self.places[table.name]

    def _taken_at(self, column: str) -> int | None:
        return self.taken.index(column) if column in self.taken else None


def _roles(table: Table, named: plan.Columns) -> Roles:
    try:
        return roles_in(table.columns, table.name, named)
    except UsageProblem as problem:
        missing = [name for name in (*named.text, named.label, named.id) if name and name not in table.columns]
        close = nearest(missing[0], table.columns, most=1) if missing else []
        column = close[0] if close else table.columns[0]
        raise UsageProblem(
            problem.what,
            f"{problem.remedy} To call a column otherwise: --rename {column}={missing[0] if missing else '…'}.",
        ) from None


def _line_range(lines: tuple[int, int]) -> tuple[int, int | None]:
    first, last = lines
    return max(first, 1), last if last else None


def _checked_pattern(text: str) -> "re.Pattern[str]":
    try:
        return re.compile(text)
    except re.error as error:
        mark = f" at character {error.pos + 1}" if error.pos is not None else ""
        raise UsageProblem(
            f"The junk pattern {text!r} is no regular expression: {error.msg}{mark}.", "Mend it."
        ) from None
