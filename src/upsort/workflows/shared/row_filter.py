"""Which documents of the sources a corpus keeps, and the rows they become, whole or in passages.

The filter runs block by block, in any process; rules that need all documents use a first pass."""

import re
from array import array
from collections import Counter
from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from upsort.core.arrays import Ints, blank_places, chosen_texts, distinct_sorted, mapped, tally
from upsort.core.errors import UsageProblem, nearest, quoted
from upsort.core.evaluation.duplicates import find_duplicates
from upsort.core.features.fingerprints import Fingerprints, fingerprints_of, joined
from upsort.core.lazy import record
from upsort.core.plan import Columns, Plan
from upsort.core.text.characters import is_repetition, lines_between, passages, renamed_label
from upsort.io.tables.columnar import chosen_rows, column_of, origins_of
from upsort.io.tables.columns import (
    PASSAGE_COLUMNS,
    ColumnMapper,
    ColumnRoles,
    column_in,
    column_place,
    merged_columns_nested,
    roles_in,
)
from upsort.io.tables.documents import texts_of, unreadable_rows
from upsort.io.tables.nested_values import flat_names, outer_names
from upsort.io.tables.rows import Block, ReasonKind, RejectedRow, RejectionReason, SourceTable, TextOf

if TYPE_CHECKING:
    from upsort.core.evaluation.duplicates import Duplicates

SOURCE_COLUMN = "source"
MARK_COLUMN = "set_aside"


@record(frozen=True, kw_only=True)
class FilteredRows:
    """A block on its way: the texts as they will stand, the labels, and why rows are to be set aside, by their places."""

    block: Block
    roles: ColumnRoles
    texts: Sequence[str]
    labels: Sequence[str]
    faults: dict[int, RejectionReason]

    @property
    def sound(self) -> Ints:
        """The places of the rows that have no fault."""
        return np.setdiff1d(np.arange(len(self.texts)), list(self.faults), assume_unique=True)


class CorpusRows:
    """Rows of the corpus. tables: the columns of each source. nested: whether cells of the output may hold nested values."""

    def __init__(self, tables: Sequence[Sequence[str]], choices: Plan, nested: bool) -> None:
        self.choices, self.settings = choices, choices.gather
        self.source_columns = self._source_columns(tables, nested)
        self.columns = self._output_columns()
        self.by_name = ColumnMapper(self.source_columns)

    def of(self, documents: FilteredRows, written: list[int]) -> list[Sequence[str]]:
        """The columns of those rows of a block that are written."""
        block, roles, settings = documents.block, documents.roles, self.settings
        rows = block.rows if len(written) == len(block.rows) else chosen_rows(block.rows, written)
        texts, origins = chosen_texts(documents.texts, written), chosen_texts(origins_of(block), written)
        columns = self.by_name.cells(block.columns, rows)
        label_at, text_at = self._source_position(self.choices.columns.label), self._text_at()
        if label_at is not None and roles.label is not None:
            columns[label_at] = chosen_texts(documents.labels, written)
        if SOURCE_COLUMN not in self.source_columns:
            columns.append(origins)
        if settings.passages and text_at is not None:
            how = (settings.passages, settings.passage_unit, settings.overlap)
            pieces = [passages(text, *how) or [text] for text in texts]
            places = [place for place, passages_of_row in enumerate(pieces) for _ in passages_of_row]
            identities = column_of(rows, roles.id) if roles.id is not None else origins
            columns = [chosen_texts(column, places) for column in [*columns, identities]]
            columns[text_at] = [piece for passages_of_row in pieces for piece in passages_of_row]
            columns.append([str(number) for passages_of_row in pieces for number in range(1, len(passages_of_row) + 1)])
            written = [written[place] for place in places]
        elif settings.lines and text_at is not None:
            columns[text_at] = texts
        if settings.keep:
            columns.append([str(documents.faults.get(row, "")) for row in written])
        return columns

    def _text_at(self) -> int | None:
        return self._source_position(self.choices.columns.text[0]) if self.choices.columns.text else None

    def _source_position(self, column: str) -> int | None:
        return self.source_columns.index(column) if column in self.source_columns else None

    def _source_columns(self, tables: Sequence[Sequence[str]], nested: bool) -> list[str]:
        """The columns of the sources that go into the corpus, in the order in which they first appear. nested: whether its cells
        may hold nested values; else what is inside them goes into columns of its own."""
        every = [name for name in merged_columns_nested(tables) if name != MARK_COLUMN]
        if not self.settings.take:
            named, usual = self.choices.columns, set(outer_names(every) if nested else flat_names(every))
            return [name for name in every if name in usual or name in {*named.text, named.label}]
        chosen = [every[column_place(name, every, "the sources together")] for name in self.settings.take]
        needed = [name for name in (*self.choices.columns.text, self.choices.columns.label) if name and name not in chosen]
        if needed and self.settings.passages:
            raise UsageProblem(f"Passages need the column {needed[0]!r} in the corpus.", "Add it to --take.")
        return chosen

    def _output_columns(self) -> list[str]:
        settings = self.settings
        columns = [*self.source_columns]
        if SOURCE_COLUMN not in columns:
            columns.append(SOURCE_COLUMN)
        if settings.passages:
            columns += [name for name in PASSAGE_COLUMNS if name not in columns]
        return [*columns, MARK_COLUMN] if settings.keep else columns


Placed = tuple[int, Block]
"""A block and the number of its table."""


class RowFilter:
    """Judges documents by themselves. Raises UsageProblem for columns that a source does not have, and for a wrong pattern."""

    def __init__(self, tables: Sequence[SourceTable], choices: Plan, rows: CorpusRows) -> None:
        self.choices, self.settings, self.rows = choices, choices.gather, rows
        self.names = [table.name for table in tables]
        self.junk = [_checked_pattern(pattern) for pattern in self.settings.junk]
        self.roles = [_roles(table, choices.columns) for table in tables]
        self._labels: dict[str, str] = {}
        self._wanted = frozenset(map(self._label, self.settings.labels) if self.settings.fold_case else self.settings.labels)

    def __call__(self, placed: Placed) -> FilteredRows:
        """The documents of a block."""
        number, block = placed
        settings, roles = self.settings, self.roles[number]
        texts = texts_of(block.rows, roles)
        if settings.lines:
            first, last = settings.lines
            texts = [lines_between(text, max(first, 1), last or None) for text in texts]
        faults = self._faults(texts) | dict(unreadable_rows(block, roles))
        labels: Sequence[str] = [""] * len(texts)
        if roles.label is not None:
            labels = mapped(column_of(block.rows, roles.label), lambda cell: self._label(roles.label_in(cell)))
            if self._wanted:
                for row, label in enumerate(labels):
                    if label not in self._wanted and row not in faults:
                        faults[row] = (
                            RejectionReason(ReasonKind.NOT_CHOSEN, (), label) if label else RejectionReason(ReasonKind.NO_LABEL)
                        )
        return FilteredRows(block=block, roles=roles, texts=texts, labels=labels, faults=faults)

    def written_labels(self, documents: FilteredRows) -> set[str]:
        """The labels of a block as its source has them."""
        place = documents.roles.label
        return set(map(str.strip, tally(column_of(documents.block.rows, place)))) if place is not None else set()

    def _label(self, written: str) -> str:
        """The label that a cell represents; each spelling is worked out once."""
        if written not in self._labels:
            settings = self.settings
            label = renamed_label(written, settings.relabel, settings.fold_case, self.choices.clean.language)
            self._labels[written] = label
        return self._labels[written]

    def _faults(self, texts: Sequence[str]) -> dict[int, RejectionReason]:
        """Why texts are of no use by themselves, by their places."""
        settings = self.settings
        faults = dict.fromkeys(blank_places(texts), RejectionReason(ReasonKind.NO_TEXT))

        def add(places: Ints, reason: RejectionReason) -> None:
            for place in places.tolist():
                faults.setdefault(place, reason)

        if settings.at_least_words or "repetitions" in settings.drop:
            fingerprints = fingerprints_of(texts, with_shingles=False)
            too_short = RejectionReason(ReasonKind.TOO_SHORT, (str(settings.at_least_words),))
            add(np.flatnonzero(fingerprints.words < settings.at_least_words), too_short)
            if "repetitions" in settings.drop:
                repeated = is_repetition(fingerprints.words, fingerprints.distinct)
                add(np.flatnonzero(repeated), RejectionReason(ReasonKind.REPETITION))
        for pattern in self.junk:
            found = [place for place, text in enumerate(texts) if pattern.search(text)]
            add(np.array(found, dtype=np.int64), RejectionReason(ReasonKind.JUNK, (), f"matches {pattern.pattern}"))
        return faults


_UNDER_ANOTHER_LABEL = {ReasonKind.OTHERWISE_LABELLED_COPY, ReasonKind.OTHERWISE_LABELLED_NEAR_COPY}


@record(frozen=True, kw_only=True)
class SeenRows:
    """What the first pass sees of a block: the labels, lines and prints of the documents that have no fault of their own. key:
    the block."""

    key: tuple[int, str]
    labels: Sequence[str]
    lines: list[int]
    fingerprints: Fingerprints | None


class RowInspector:
    """The first pass over blocks. copies, near: whether copies, and near-copies, are to be found."""

    def __init__(self, row_filter: RowFilter, copies: bool, near: bool) -> None:
        self.row_filter, self.copies, self.near = row_filter, copies, near

    def __call__(self, placed: Placed) -> SeenRows:
        documents = self.row_filter(placed)
        sound = documents.sound
        return SeenRows(
            key=_key(placed),
            labels=chosen_texts(documents.labels, sound),
            lines=[documents.block.lines[row] for row in sound.tolist()],
            fingerprints=fingerprints_of(chosen_texts(documents.texts, sound), self.near) if self.copies else None,
        )


class FirstPass:
    """What the first pass found out about the documents that have no fault of their own, in their order."""

    def __init__(self, similarity: float | None) -> None:
        self.similarity = similarity
        self.similar: int | None = None  # documents that are no copies and resemble another
        self.labels: Counter[str] = Counter()
        self.copies: Duplicates | None = None
        self.copy_of: Ints = np.zeros(0, dtype=np.int64)
        self.label_names: list[str] = []
        self.label_numbers = array("i")
        self.tables = array("i")
        self.lines = array("q")
        self.before: dict[tuple[int, str], int] = {}  # documents before those of a block
        self._numbers: dict[str, int] = {}
        self._fingerprints: list[Fingerprints] = []

    def add(self, seen: SeenRows) -> None:
        """A block more."""
        self.before[seen.key] = self.labels.total()
        self.labels.update(tally(seen.labels))
        if seen.fingerprints is None:
            return
        numbers = self._numbers
        self.label_numbers.extend(numbers.setdefault(label, len(numbers)) for label in seen.labels)
        self.tables.extend([seen.key[0]] * len(seen.labels))
        self.lines.extend(seen.lines)
        self._fingerprints.append(seen.fingerprints)

    def finish(self, similar_from: float) -> None:
        """All blocks have been added. similar_from: the similarity from which documents resemble each other."""
        if self._fingerprints:
            least = None if self.similarity is None else min(self.similarity, similar_from)
            every = find_duplicates(joined(self._fingerprints), least)
            duplicates = every if self.similarity is None else every.above(self.similarity)
            self.copies, self.copy_of = duplicates, duplicates.earliest()
            if least is not None:
                pairs, kept = every.above(similar_from).pairs, self.copy_of < 0
                both = kept[pairs.later] & kept[pairs.earlier]
                self.similar = distinct_sorted(np.concatenate((pairs.later[both], pairs.earlier[both]))).size
            self.label_names, self._fingerprints = list(self._numbers), []


@record(frozen=True, kw_only=True)
class GatheredRows:
    """What a block comes to. table: its number. columns: of rows of the corpus, or text: the same as text, where they are written
    so. count: how many. read, documents, marked: rows read, documents kept, those of them marked as to be set aside. refused:
    rows to set aside. labels: of the documents kept; spelt: of all; written: as the source has them. conflicts: copies that are
    under another label."""

    table: int
    columns: list[Sequence[str]]
    text: str
    count: int
    read: int
    documents: int
    marked: int
    conflicts: int
    refused: list[RejectedRow]
    labels: Counter[str]
    spelt: Counter[str]
    written: set[str]


@record
class RowGatherer:
    """Turns blocks into rows of the corpus. first_pass: what the first pass found, where there was one. text_of: makes text of
    rows, column by column."""

    row_filter: RowFilter
    first_pass: FirstPass | None = None
    text_of: TextOf | None = None

    def __call__(self, placed: Placed) -> GatheredRows:
        row_filter, block = self.row_filter, placed[1]
        keep = row_filter.settings.keep
        documents = row_filter(placed)
        spelt = tally(documents.labels) if documents.roles.label is not None else Counter[str]()
        if self.first_pass is not None:
            documents = self._judged(documents, self.first_pass, self.first_pass.before.get(_key(placed), 0))
        faults = documents.faults
        usable = list(range(len(block.rows))) if keep else documents.sound.tolist()
        columns = row_filter.rows.of(documents, usable)
        text = self.text_of(columns) if self.text_of is not None and usable else ""
        refused = list(block.refused)
        if not keep:
            refused += [
                RejectedRow(block.source, block.lines[row], fault, tuple(block.rows[row])) for row, fault in faults.items()
            ]
        labels = tally(chosen_texts(documents.labels, usable))
        labels.pop("", None)
        return GatheredRows(
            table=placed[0],
            columns=[] if text else columns,
            text=text,
            count=len(columns[0]),
            read=len(block.rows) + len(block.refused),
            documents=len(usable),
            marked=len(faults) if keep else 0,
            conflicts=sum(fault.why in _UNDER_ANOTHER_LABEL for fault in faults.values()),
            refused=sorted(refused, key=lambda rejected: rejected.line),
            labels=labels,
            spelt=spelt,
            written=row_filter.written_labels(documents),
        )

    def _judged(self, documents: FilteredRows, first_pass: FirstPass, before: int) -> FilteredRows:
        """What the first pass says to set aside or rename is. before: documents before those of the block."""
        settings, labels, faults, sound = self.row_filter.settings, documents.labels, documents.faults, documents.sound
        if first_pass.copies is not None:
            dropped = first_pass.copy_of[before:][: sound.size] >= 0
            if "copies" not in settings.drop:
                dropped &= first_pass.copies.exact[before:][: sound.size] < 0
            for place in np.flatnonzero(dropped).tolist():
                faults[int(sound[place])] = self._reason(first_pass, before + place, labels[int(sound[place])])
        rare = {label for label, times in first_pass.labels.items() if label and times < settings.rare_below}
        if rare and settings.rare_into:
            labels = [settings.rare_into if at not in faults and label in rare else label for at, label in enumerate(labels)]
        elif rare:
            for row, label in enumerate(labels):
                if label in rare and row not in faults:
                    faults[row] = RejectionReason(ReasonKind.RARE, (), f"{label}: {first_pass.labels[label]} documents")
        return replace(documents, labels=labels)

    def _reason(self, first_pass: FirstPass, place: int, label: str) -> RejectionReason:
        """Why a copy is set aside. place: of the document among those that the first pass saw."""
        assert first_pass.copies is not None
        first, exact = int(first_pass.copy_of[place]), first_pass.copies.exact[place] >= 0
        origin = f"{self.row_filter.names[first_pass.tables[first]]}:{first_pass.lines[first]}"
        theirs = first_pass.label_names[first_pass.label_numbers[first]]
        likeness = "" if exact else f", similarity {first_pass.copies.similarity[place]:.2f}"
        if theirs and label and theirs != label:
            why = ReasonKind.OTHERWISE_LABELLED_COPY if exact else ReasonKind.OTHERWISE_LABELLED_NEAR_COPY
            return RejectionReason(why, (), f"of {origin}{likeness}: {theirs} there, {label} here")
        return RejectionReason(ReasonKind.COPY if exact else ReasonKind.NEAR_COPY, (), f"of {origin}{likeness}")


def _key(placed: Placed) -> tuple[int, str]:
    number, block = placed
    return number, block.origin(0) if block.lines else ""


def _roles(table: SourceTable, named: Columns) -> ColumnRoles:
    if named.id and not column_in(
        named.id, table.columns
    ):  # as with any other missing column its cells are empty, which is reported
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


def _checked_pattern(text: str) -> "re.Pattern[str]":
    try:
        return re.compile(text)
    except re.error as error:
        mark = f" at character {error.pos + 1}" if error.pos is not None else ""
        raise UsageProblem(f"The junk pattern {text!r} is no regular expression: {error.msg}{mark}.", "Mend it.") from None
