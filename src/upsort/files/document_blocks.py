"""Blocks of documents as a reader hands them on: texts, what stands beside them, and the rows that they came from; how they are
joined, and how they travel to other processes."""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import fields, replace
from typing import Any

from upsort.core.features.documents import Documents, joined_documents
from upsort.core.packed import Packed, packed, unpacked
from upsort.core.records import record
from upsort.files.rows import in_large


@record(frozen=True, kw_only=True)
class Marks:
    """What the columns beside text and features say of n documents, cell by cell; empty where no column is named.

    ids: what each is called. answers: for each label column its cells. folds, groups, dates, weights: the cells of those
    columns.
    """

    ids: list[str]
    answers: tuple[list[str], ...]
    dates: list[str]
    groups: list[str]
    weights: list[str]
    folds: list[str]

    def __reduce__(self) -> tuple[Any, ...]:
        """Marks travel to other processes packed."""
        return _marks, (
            {
                name: list(map(packed, found)) if name == "answers" else packed(found)
                for name, found in vars(self).items()
            },
        )

    @property
    def labels(self) -> list[str]:
        """The cells of the first label column."""
        return self.answers[0] if self.answers else [""] * len(self.ids)

    @staticmethod
    def joined(parts: Sequence["Marks"]) -> "Marks":
        """Those of consecutive blocks as one."""
        if len(parts) == 1:
            return parts[0]
        lists = {
            field.name: [cell for part in parts for cell in getattr(part, field.name)]
            for field in fields(Marks)
            if field.name != "answers"
        }
        answers = tuple([cell for part in parts for cell in part.answers[at]] for at in range(len(parts[0].answers)))
        return Marks(answers=answers, **lists)


def _marks(found: dict[str, Any]) -> Marks:
    """What `Marks.__reduce__` took apart."""
    answers = tuple(map(unpacked, found.pop("answers")))
    return Marks(answers=answers, **{name: unpacked(cells) for name, cells in found.items()})


@record(frozen=True, kw_only=True)
class DocumentBlock:
    """Usable rows of one table, in order. documents: texts and the columns beside them. rows: all cells, as read. lines: where
    each row begins in `source`."""

    source: str
    columns: tuple[str, ...]
    documents: Documents
    marks: Marks
    rows: list[list[str]]
    lines: list[int]

    def __reduce__(self) -> tuple[Any, ...]:
        """A block travels to other processes with its texts and cells packed."""
        cells = packed([cell for row in self.rows for cell in row])
        parts = tuple(packed(part) for part in self.documents.parts)
        beside = replace(self.documents, parts=())
        return _travelled, (self.source, self.columns, beside, parts, self.marks, cells, self.lines)

    @property
    def texts(self) -> list[str]:
        """The whole text of each document."""
        return self.documents.texts

    @property
    def ids(self) -> list[str]:
        """What each document is called."""
        return self.marks.ids


def _travelled(
    source: str, columns: tuple[str, ...], beside: Documents, parts: Sequence[Packed], marks: Marks, *rows: Any
) -> DocumentBlock:
    """What `DocumentBlock.__reduce__` took apart. rows: their cells and their lines."""
    cells, lines = rows
    held, width = unpacked(cells), len(columns)
    return DocumentBlock(
        source=source,
        columns=columns,
        documents=replace(beside, parts=tuple(unpacked(part) for part in parts)),
        marks=marks,
        rows=[held[at : at + width] for at in range(0, width * len(lines), width)],
        lines=lines,
    )


def joined_blocks(blocks: Sequence[DocumentBlock]) -> DocumentBlock:
    """Consecutive blocks of one table as one."""
    if len(blocks) == 1:
        return blocks[0]
    return DocumentBlock(
        source=blocks[0].source,
        columns=blocks[0].columns,
        documents=joined_documents([block.documents for block in blocks]),
        marks=Marks.joined([block.marks for block in blocks]),
        rows=[row for block in blocks for row in block.rows],
        lines=[line for block in blocks for line in block.lines],
    )


def large_blocks(blocks: Iterable[DocumentBlock], characters: int) -> Iterator[DocumentBlock]:
    """Blocks of at least so many characters of text, see `in_large`; empty ones are left out."""
    filled = (block for block in blocks if block.rows)
    return in_large(filled, _characters, joined_blocks, characters)


def _characters(block: DocumentBlock) -> int:
    return sum(len(text) for part in block.documents.parts for text in part)
