"""Blocks of documents as a reader hands them on: texts, what is next to them, and the rows that they came from."""

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import accumulate
from typing import Any

from upsort.core.arrays import TextColumn, compact, concatenated
from upsort.core.features.documents import Documents, joined_documents
from upsort.core.lazy import record
from upsort.io.tables.columnar import joined_rows
from upsort.io.tables.rows import Rows, in_large


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
    rows: Rows
    lines: list[int]
    kept: tuple[KeptRow, ...] = ()

    def __len__(self) -> int:
        """The number of its rows, those kept included."""
        return len(self.rows) + len(self.kept)

    @property
    def last(self) -> str:
        """Where its last row is."""
        return f"{self.source}:{max((*self.lines[-1:], *(row.line for row in self.kept[-1:])))}"

    @property
    def texts(self) -> Sequence[str]:
        """The whole text of each document."""
        return self.documents.texts

    @property
    def ids(self) -> Sequence[str]:
        """What each document is called."""
        return self.metadata.ids


def joined_blocks(blocks: Sequence[DocumentBlock]) -> DocumentBlock:
    """Consecutive blocks of one table as one."""
    if len(blocks) == 1:
        return blocks[0]
    return DocumentBlock(
        source=blocks[0].source,
        columns=blocks[0].columns,
        documents=joined_documents([block.documents for block in blocks]),
        metadata=RowMetadata.joined([block.metadata for block in blocks]),
        rows=joined_rows([block.rows for block in blocks]),
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
    parts = block.documents.parts
    return sum(part.characters if isinstance(part, TextColumn) else sum(map(len, part)) for part in parts)
