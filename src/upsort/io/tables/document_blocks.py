"""Blocks of documents as a reader hands them on: texts, what is next to them, and the rows that they came from; how they are
joined, and how they travel to other processes."""

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import accumulate
from typing import Any

from upsort.core.arrays import Compacted, CompactStrings, compact, compacted, concatenated, expanded_text
from upsort.core.features.documents import Documents, joined_documents
from upsort.core.lazy import record
from upsort.io.tables.rows import in_large


@record(frozen=True, kw_only=True)
class RowMetadata:
    """What the columns beside text and features say of n documents, cell by cell; empty where no column is named.

    ids: what each is called. answers: for each label column its cells. folds, groups, dates, weights: the cells of those columns.
    """

    ids: Sequence[str]
    answers: tuple[Sequence[str], ...]
    dates: Sequence[str]
    groups: Sequence[str]
    weights: Sequence[str]
    folds: Sequence[str]

    def __reduce__(self) -> tuple[Any, ...]:
        """Marks travel to other processes packed."""
        return _unpickled_metadata, (self._each(_travelling),)

    @property
    def labels(self) -> Sequence[str]:
        """The cells of the first label column."""
        return self.answers[0] if self.answers else [""] * len(self.ids)

    @property
    def compact(self) -> "RowMetadata":
        """The same in less memory, for many to be kept."""
        return RowMetadata(**self._each(compact))

    @staticmethod
    def joined(parts: Sequence["RowMetadata"]) -> "RowMetadata":
        """Those of consecutive blocks as one."""
        if len(parts) == 1:
            return parts[0]
        names = [name for name in vars(parts[0]) if name != "answers"]
        cells = {name: concatenated([vars(part)[name] for part in parts]) for name in names}
        answers = tuple(concatenated([part.answers[at] for part in parts]) for at in range(len(parts[0].answers)))
        return RowMetadata(answers=answers, **cells)

    def _each(self, made: Callable[[Sequence[str]], Any]) -> dict[str, Any]:
        return {name: tuple(map(made, cells)) if name == "answers" else made(cells) for name, cells in vars(self).items()}


def _unpickled_metadata(state: dict[str, Any]) -> RowMetadata:
    """What `RowMetadata.__reduce__` took apart."""
    return RowMetadata(**RowMetadata(**state)._each(_travelled_cells))


def _travelling(cells: Sequence[str]) -> CompactStrings | Compacted:
    return cells if isinstance(cells, CompactStrings) else compacted(cells)


def _travelled_cells(cells: Sequence[str]) -> Sequence[str]:
    return expanded_text(cells) if isinstance(cells, str | list) else cells


@dataclass(frozen=True, slots=True, kw_only=True)
class KeptRow:
    """A rejected row that is written among the others. at: its place among all rows of the block. id: what it is called. cells:
    one for each column of the table."""

    at: int
    line: int
    id: str
    cells: tuple[str, ...]
    reason: str


@record(frozen=True, kw_only=True)
class DocumentBlock:
    """Usable rows of one table, in order. documents: texts and the columns next to them. rows: all cells, as read. lines: where
    each row begins in `source`. kept: the rejected rows between them, where the reader keeps them."""

    source: str
    columns: tuple[str, ...]
    documents: Documents
    metadata: RowMetadata
    rows: list[list[str]]
    lines: list[int]
    kept: tuple[KeptRow, ...] = ()

    def __reduce__(self) -> tuple[Any, ...]:
        """A block travels to other processes with its texts and cells packed."""
        cells = compacted([cell for row in self.rows for cell in row])
        parts = tuple(compacted(part) for part in self.documents.parts)
        documents = replace(self.documents, parts=())
        return _travelled, (self.source, self.columns, documents, parts, self.metadata, cells, self.lines, self.kept)

    def __len__(self) -> int:
        """The number of its rows, those kept included."""
        return len(self.rows) + len(self.kept)

    @property
    def last(self) -> str:
        """Where its last row is."""
        return f"{self.source}:{max((*self.lines[-1:], *(row.line for row in self.kept[-1:])))}"

    @property
    def texts(self) -> list[str]:
        """The whole text of each document."""
        return self.documents.texts

    @property
    def ids(self) -> Sequence[str]:
        """What each document is called."""
        return self.metadata.ids


def _travelled(
    source: str, columns: tuple[str, ...], documents: Documents, parts: Sequence[Compacted], metadata: RowMetadata, *rows: Any
) -> DocumentBlock:
    """What `DocumentBlock.__reduce__` took apart. rows: their cells and lines, and those that are kept."""
    cells, lines, kept = rows
    unpacked_cells, width = expanded_text(cells), len(columns)
    return DocumentBlock(
        source=source,
        columns=columns,
        documents=replace(documents, parts=tuple(expanded_text(part) for part in parts)),
        metadata=metadata,
        rows=[unpacked_cells[at : at + width] for at in range(0, width * len(lines), width)],
        lines=lines,
        kept=kept,
    )


def joined_blocks(blocks: Sequence[DocumentBlock]) -> DocumentBlock:
    """Consecutive blocks of one table as one."""
    if len(blocks) == 1:
        return blocks[0]
    return DocumentBlock(
        source=blocks[0].source,
        columns=blocks[0].columns,
        documents=joined_documents([block.documents for block in blocks]),
        metadata=RowMetadata.joined([block.metadata for block in blocks]),
        rows=[row for block in blocks for row in block.rows],
        lines=[line for block in blocks for line in block.lines],
        kept=tuple(
            replace(row, at=row.at + before)
            for block, before in zip(blocks, accumulate(map(len, blocks), initial=0), strict=False)
            for row in block.kept
        ),
    )


def large_blocks(blocks: Iterable[DocumentBlock], characters: int) -> Iterator[DocumentBlock]:
    """Blocks of at least so many characters of text, see `in_large`; empty ones are left out."""
    filled = (block for block in blocks if len(block))
    return in_large(filled, _characters, joined_blocks, characters)


def _characters(block: DocumentBlock) -> int:
    return sum(len(text) for part in block.documents.parts for text in part)
