"""The rows of a corpus: which columns of the sources go into it, and what a document comes to, in passages or whole."""

from collections.abc import Sequence

from upsort.core.errors import UsageProblem
from upsort.core.plan import Plan
from upsort.core.records import record
from upsort.core.text.passages import passages
from upsort.files.by_name import ColumnMapper, merged_columns_nested
from upsort.files.columns import ColumnRoles, column_place
from upsort.files.documents import PASSAGE_COLUMNS
from upsort.files.inner_values import flat_names, outer_names
from upsort.files.reasons import RejectionReason
from upsort.files.rows import Block

SOURCE_COLUMN = "source"
MARK_COLUMN = "set_aside"


@record(frozen=True, kw_only=True)
class FilteredRows:
    """A block on its way, row by row: the text as it will stand, the label, and why it is to be set aside, where it is."""

    block: Block
    roles: ColumnRoles
    texts: list[str]
    labels: list[str]
    faults: list[RejectionReason | None]


class CorpusRows:
    """Rows of the corpus. tables: the columns of each source. nested: whether cells of the output may hold nested values."""

    def __init__(self, tables: Sequence[Sequence[str]], choices: Plan, nested: bool) -> None:
        self.choices, self.settings = choices, choices.gather
        self.source_columns = self._source_columns(tables, nested)
        self.columns = self._output_columns()
        self.by_name = ColumnMapper(self.source_columns)

    def of(self, documents: FilteredRows, written: list[int]) -> list[list[str]]:
        """Those for the rows `kept` of a block."""
        block, roles = documents.block, documents.roles
        rows = self.by_name.rows(block.columns, [block.rows[row] for row in written])
        label_at, text_at = self._source_position(self.choices.columns.label), self._text_at()
        if label_at is not None and roles.label is not None:
            for cells, row in zip(rows, written, strict=True):
                cells[label_at] = documents.labels[row]
        origins = block.origins()
        if SOURCE_COLUMN not in self.source_columns:
            for cells, row in zip(rows, written, strict=True):
                cells.append(origins[row])
        if self.settings.passages and text_at is not None:
            rows, written = self._cut(documents, rows, written, text_at, origins)
        elif self.settings.lines and text_at is not None:
            for cells, row in zip(rows, written, strict=True):
                cells[text_at] = documents.texts[row]
        if self.settings.keep:
            for cells, row in zip(rows, written, strict=True):
                fault = documents.faults[row]
                cells.append(str(fault) if fault is not None else "")
        return rows

    def _cut(
        self, documents: FilteredRows, rows: list[list[str]], written: list[int], text_at: int, origins: list[str]
    ) -> tuple[list[list[str]], list[int]]:
        """The rows of the passages, and which row of the block each comes from."""
        settings, identity_at = self.settings, documents.roles.id
        cut: list[list[str]] = []
        source_rows: list[int] = []
        for cells, row in zip(rows, written, strict=True):
            identity = documents.block.rows[row][identity_at] if identity_at is not None else origins[row]
            text = documents.texts[row]
            pieces = passages(text, settings.passages, settings.passage_unit, settings.overlap) or [text]
            for number, passage in enumerate(pieces, 1):
                cut.append([*cells[:text_at], passage, *cells[text_at + 1 :], identity, str(number)])
                source_rows.append(row)
        return cut, source_rows

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
        needed = [
            name for name in (*self.choices.columns.text, self.choices.columns.label) if name and name not in chosen
        ]
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
