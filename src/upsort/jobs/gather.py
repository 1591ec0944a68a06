"""Gathering sources into one corpus: columns mapped, labels tidied, long documents cut, what is of no use set aside.

The sources are read once, or twice where something must be known of all documents before any is written (which labels are
rare, which documents are copies). Only prints of the documents are held in between.
"""

import re
from array import array
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import field, replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from upsort.core import plan
from upsort.core.arrays import Ints
from upsort.core.errors import UsageProblem
from upsort.core.features.prints import Prints, joined, prints_of
from upsort.core.judging.near_copies import find_copies
from upsort.core.lists import quoted
from upsort.core.names import nearest
from upsort.core.records import record
from upsort.core.text.labels import mapped, spellings
from upsort.core.text.lowercase import lower
from upsort.core.text.passages import kept_lines, passages
from upsort.core.text.repetition import is_repetition
from upsort.files.by_name import ByName, all_together
from upsort.files.columns import Roles, column_in, column_place, roles_in
from upsort.files.documents import PASSAGE_COLUMNS, texts_of
from upsort.files.format import RowWriter
from upsort.files.formats import format_to_write
from upsort.files.inner_values import flat_names, outer_names
from upsort.files.reasons import Reason, Why
from upsort.files.rows import Block, Refused, Table
from upsort.files.tables_out import table_file
from upsort.files.writing import check_writable
from upsort.jobs.work import Work

if TYPE_CHECKING:
    from upsort.core.judging.near_copies import Copies

SOURCE_COLUMN = "source"
MARK_COLUMN = "set_aside"
_PRINTED_CHARACTERS = 2_000_000


@record(kw_only=True)
class GatherResult:
    """documents: written (before cutting into passages). rows: written. marked: kept, but marked as to be set aside.

    per_source: rows read and documents written of each table. labels: documents of each. spellings: groups of labels that
    differ only in case, spaces or punctuation. conflicts: copies that stand under another label than what they copy.
    missing: for each table, the columns of the corpus that it lacks. unseen: labels that were chosen or renamed but stand
    nowhere, with the nearest that do.
    """

    documents: int = 0
    rows: int = 0
    marked: int = 0
    conflicts: int = 0
    per_source: dict[str, list[int]] = field(default_factory=dict)
    labels: Counter[str] = field(default_factory=Counter)
    spellings: list[list[tuple[str, int]]] = field(default_factory=list)
    missing: dict[str, list[str]] = field(default_factory=dict)
    unseen: dict[str, list[str]] = field(default_factory=dict)


@record(frozen=True, kw_only=True)
class _Documents:
    """A block on its way, row by row: the text as it will stand, the label, and why it is to be set aside, where it is."""

    block: Block
    roles: Roles
    texts: list[str]
    labels: list[str]
    faults: list[Reason | None]


class _Looked:
    """What the first pass found out about the documents that have no fault of their own, in their order."""

    def __init__(self) -> None:
        self.labels: Counter[str] = Counter()
        self.copies: Copies | None = None
        self.copy_of: Ints = np.zeros(0, dtype=np.int64)
        self.label_names: list[str] = []
        self.label_numbers = array("i")
        self.tables = array("i")
        self.lines = array("q")


def gather(work: Work, output: Path) -> GatherResult:
    """Write the corpus to `output`. Raises UsageProblem for columns that a source does not have."""
    format_to_write(output)
    check_writable(output)
    gathering = _Gathering(work, format_to_write(output).nested)
    with table_file(output, gathering.columns) as writer:
        return gathering.run(writer)


class _Gathering:
    def __init__(self, work: Work, nested: bool) -> None:
        self.inputs, self.choices, self.aside, self.advance = work.inputs, work.plan, work.aside, work.advance
        inputs, choices = work.inputs, work.plan
        self.settings = choices.gather
        self.junk = [_checked_pattern(pattern) for pattern in self.settings.junk]
        if choices.columns.id:  # one table may lack it, not all
            column_place(
                choices.columns.id, all_together(table.columns for table in inputs.tables), "None of the sources"
            )
        self.roles = [_roles(table, choices.columns) for table in inputs.tables]
        self.taken = self._taken(nested)
        self.columns = self._output_columns()
        self.result = GatherResult(per_source={table.name: [0, 0] for table in inputs.tables})
        for table in inputs.tables:
            lacking = [name for name in self.taken if name not in table.columns]
            if lacking:
                self.result.missing[table.name] = lacking
        self.spelt: Counter[str] = Counter()
        self.by_name = ByName(self.taken)
        self.labels_as_written: dict[str, str] = {}

    def run(self, writer: RowWriter) -> GatherResult:
        drop = self.settings.drop
        copies_wanted = "copies" in drop or "near-copies" in drop
        looked = self._look(copies_wanted) if copies_wanted or self.settings.rare_below else None
        judged = 0
        for table, documents in self._blocks():
            block = documents.block
            if looked is not None:
                for row, fault in enumerate(documents.faults):
                    if not fault:
                        verdict = self._judged(looked, judged, documents.labels[row])
                        documents.faults[row], documents.labels[row] = verdict
                        judged += 1
            kept = [row for row, fault in enumerate(documents.faults) if self.settings.keep or not fault]
            self._set_aside(documents)
            out = self._output_rows(documents, kept)
            writer.writerows(out)
            self.result.labels.update(filter(None, (documents.labels[row] for row in kept)))
            self.result.marked += sum(documents.faults[row] is not None for row in kept)
            self.result.documents += len(kept)
            self.result.rows += len(out)
            counts = self.result.per_source[table.name]
            counts[0] += len(block.rows) + len(block.refused)
            counts[1] += len(kept)
            self.advance(len(block.rows))
        self.result.spellings = spellings(self.spelt)
        written = {label.strip() for label in self.labels_as_written}
        wanted = [label for label in self.settings.labels if label not in self.spelt]
        wanted += [
            label
            for label in self.settings.relabel
            if label not in written and label not in {lower(name, self.choices.clean.language) for name in written}
        ]
        self.result.unseen = {label: nearest(label, sorted(written - {""})) for label in wanted}
        return self.result

    def _set_aside(self, documents: _Documents) -> None:
        block = documents.block
        refused = list(block.refused)
        if not self.settings.keep:
            refused += [
                Refused(block.source, block.lines[row], fault, tuple(block.rows[row]))
                for row, fault in enumerate(documents.faults)
                if fault
            ]
        for one in sorted(refused, key=lambda one: one.line):
            self.aside.add(one)

    def _look(self, copies_wanted: bool) -> _Looked:
        looked = _Looked()
        parts: list[Prints] = []
        held: list[str] = []
        size = 0
        numbers: dict[str, int] = {}
        with_signatures = "near-copies" in self.settings.drop
        for table, documents in self._blocks():
            table_number = self.inputs.tables.index(table)
            sound = [row for row, fault in enumerate(documents.faults) if not fault]
            looked.labels.update(documents.labels[row] for row in sound)
            if not copies_wanted:
                continue
            looked.label_numbers.extend(numbers.setdefault(documents.labels[row], len(numbers)) for row in sound)
            looked.tables.extend([table_number] * len(sound))
            looked.lines.extend(documents.block.lines[row] for row in sound)
            texts = [documents.texts[row] for row in sound]
            held += texts
            size += sum(map(len, texts))
            if size > _PRINTED_CHARACTERS:
                parts.append(prints_of(held, with_signatures))
                held, size = [], 0
        if copies_wanted:
            parts.append(prints_of(held, with_signatures))
            found = find_copies(joined(parts), self.settings.similarity if with_signatures else None)
            looked.copies, looked.copy_of = found, found.of()
            looked.label_names = list(numbers)
        self.spelt.clear()
        return looked

    def _judged(self, looked: _Looked, place: int, label: str) -> tuple[Reason | None, str]:
        """Why a document without a fault of its own is set aside after all, and its label when it is not."""
        if looked.copies is not None:
            first, exact = int(looked.copy_of[place]), looked.copies.exact[place] >= 0
            if first >= 0 and (not exact or "copies" in self.settings.drop):
                origin = f"{self.inputs.tables[looked.tables[first]].name}:{looked.lines[first]}"
                theirs = looked.label_names[looked.label_numbers[first]]
                likeness = "" if exact else f", similarity {looked.copies.similarity[place]:.2f}"
                if theirs and label and theirs != label:
                    self.result.conflicts += 1
                    why = Why.OTHERWISE_LABELLED_COPY if exact else Why.OTHERWISE_LABELLED_NEAR_COPY
                    return Reason(why, (), f"of {origin}{likeness}: {theirs} there, {label} here"), label
                return Reason(Why.COPY if exact else Why.NEAR_COPY, (), f"of {origin}{likeness}"), label
        if label and looked.labels[label] < self.settings.rare_below:
            if not self.settings.rare_into:
                return Reason(Why.RARE, (), f"{label}: {looked.labels[label]} documents"), label
            return None, self.settings.rare_into
        return None, label

    def _blocks(self) -> Iterator[tuple[Table, _Documents]]:
        settings = self.settings
        for table, roles in zip(self.inputs.tables, self.roles, strict=True):
            for block in table.blocks():
                texts = texts_of(block.rows, roles)
                if settings.lines:
                    texts = [kept_lines(text, *_line_range(settings.lines)) for text in texts]
                faults = self._faults(texts)
                labels = [""] * len(texts)
                if roles.label is not None:
                    labels = [self._label(row[roles.label]) for row in block.rows]
                    self.spelt.update(labels)
                    if settings.labels:
                        for row, label in enumerate(labels):
                            if not faults[row] and label not in settings.labels:
                                faults[row] = Reason(Why.NOT_CHOSEN, (), label) if label else Reason(Why.NO_LABEL)
                yield table, _Documents(block=block, roles=roles, texts=texts, labels=labels, faults=faults)

    def _label(self, written: str) -> str:
        """The label that a cell stands for; each spelling is worked out once."""
        if written not in self.labels_as_written:
            settings = self.settings
            label = mapped(written, settings.relabel, settings.fold_case, self.choices.clean.language)
            self.labels_as_written[written] = label
        return self.labels_as_written[written]

    def _faults(self, texts: Sequence[str]) -> list[Reason | None]:
        """Why each text is of no use by itself; None where it is not."""
        settings = self.settings
        faults = [None if text and not text.isspace() else Reason(Why.NO_TEXT) for text in texts]
        if settings.at_least_words or "repetitions" in settings.drop:
            prints = prints_of(list(texts), with_shingles=False)
            for place in np.flatnonzero(prints.words < settings.at_least_words).tolist():
                faults[place] = faults[place] or Reason(Why.TOO_SHORT, (str(settings.at_least_words),))
            if "repetitions" in settings.drop:
                for place, (words, distinct) in enumerate(
                    zip(prints.words.tolist(), prints.distinct.tolist(), strict=True)
                ):
                    if is_repetition(words, distinct):
                        faults[place] = faults[place] or Reason(Why.REPETITION)
        for pattern in self.junk:
            for place, text in enumerate(texts):
                if not faults[place] and pattern.search(text):
                    faults[place] = Reason(Why.JUNK, (), f"matches {pattern.pattern}")
        return faults

    def _taken(self, nested: bool) -> list[str]:
        """The columns of the sources that go into the corpus, in the order in which they first appear. nested: whether its cells
        may hold nested values; else what is inside them goes into columns of its own."""
        every = [name for name in all_together(table.columns for table in self.inputs.tables) if name != MARK_COLUMN]
        if not self.settings.take:
            named, usual = self.choices.columns, set(outer_names(every) if nested else flat_names(every))
            return [name for name in every if name in usual or name in {*named.text, named.label}]
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

    def _output_rows(self, documents: _Documents, kept: list[int]) -> list[list[str]]:
        """The rows of the corpus for the rows `kept` of a block."""
        block, roles = documents.block, documents.roles
        rows = self.by_name.rows(block.columns, [block.rows[row] for row in kept])
        label_at, text_at = self._taken_at(self.choices.columns.label), self._text_at()
        if label_at is not None and roles.label is not None:
            for cells, row in zip(rows, kept, strict=True):
                cells[label_at] = documents.labels[row]
        origins = block.origins()
        if SOURCE_COLUMN not in self.taken:
            for cells, row in zip(rows, kept, strict=True):
                cells.append(origins[row])
        if self.settings.passages and text_at is not None:
            rows, kept = self._cut(documents, rows, kept, text_at, origins)
        elif self.settings.lines and text_at is not None:
            for cells, row in zip(rows, kept, strict=True):
                cells[text_at] = documents.texts[row]
        if self.settings.keep:
            for cells, row in zip(rows, kept, strict=True):
                fault = documents.faults[row]
                cells.append(str(fault) if fault is not None else "")
        return rows

    def _cut(
        self, documents: _Documents, rows: list[list[str]], kept: list[int], text_at: int, origins: list[str]
    ) -> tuple[list[list[str]], list[int]]:
        """The rows of the passages, and which row of the block each comes from."""
        settings, identity_at = self.settings, documents.roles.id
        cut: list[list[str]] = []
        source_rows: list[int] = []
        for cells, row in zip(rows, kept, strict=True):
            identity = documents.block.rows[row][identity_at] if identity_at is not None else origins[row]
            text = documents.texts[row]
            pieces = passages(text, settings.passages, settings.passage_unit, settings.overlap) or [text]
            for number, passage in enumerate(pieces, 1):
                cut.append([*cells[:text_at], passage, *cells[text_at + 1 :], identity, str(number)])
                source_rows.append(row)
        return cut, source_rows

    def _text_at(self) -> int | None:
        return self._taken_at(self.choices.columns.text[0]) if self.choices.columns.text else None

    def _taken_at(self, column: str) -> int | None:
        return self.taken.index(column) if column in self.taken else None


def _roles(table: Table, named: plan.Columns) -> Roles:
    if named.id and not column_in(
        named.id, table.columns
    ):  # as with any other missing column its cells are empty, which is told
        named = replace(named, id="")
    try:
        return roles_in(table.columns, table.name, named)
    except UsageProblem as problem:
        missing = [name for name in (*named.text, named.label) if name and name not in table.columns]
        close = nearest(missing[0], table.columns, most=1) if missing else []
        old, new = close[0] if close else "OLD", missing[0] if missing else "NEW"
        raise UsageProblem(
            problem.what, f"{problem.remedy} To call a column otherwise: --rename {quoted(old)}={quoted(new)}."
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
