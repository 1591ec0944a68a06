"""What those do who read and count some pieces of tables whose counts stay with them: run anywhere, on what it is given alone."""

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Ints
from upsort.core.features.beside import Cells
from upsort.core.features.hashing import ToldNames
from upsort.core.features.measured import Measured
from upsort.core.features.measuring import Measuring
from upsort.core.features.prints import Prints
from upsort.core.features.prints import joined as joined_prints
from upsort.core.features.terms_apart import Chosen, Vocabulary, dealt, in_columns, in_terms, vocabulary_of
from upsort.core.plan import Clean, Columns, Features
from upsort.core.records import record
from upsort.core.text.cleaning import cleaner
from upsort.core.text.final_forms import CountedWords, FinalForms
from upsort.core.text.resources import Resources
from upsort.files import remarks
from upsort.files.document_blocks import DocumentBlock
from upsort.files.rows import Refused
from upsort.jobs.reading import Piece, Reading

Keep = Callable[[DocumentBlock], tuple[Any, Prints | None]]
"""What is kept of a block beside its counts, and the prints that stay where it is read."""


@record(frozen=True, kw_only=True)
class Counting:
    """What is needed to read and count. settings, resources: of a cleaner, which is made where it is used. keep: what is kept
    of a block beside its counts, here and where it is read."""

    reading: Reading
    settings: Clean
    resources: Resources
    columns: Columns
    features: Features
    keep: Keep


@record(frozen=True, kw_only=True)
class Brief:
    """What is told of some pieces. sizes: documents of each block. tokens: (n,) words of each document. kept: of each block.
    spaced: whether a word holds a space, so that longer terms cannot be told apart by theirs. names: of hashed terms, for each
    part of the text."""

    sizes: list[int]
    tokens: Ints
    cells: Cells | None
    kept: list[Any]
    printed: bool
    spaced: bool
    names: list[ToldNames]
    refused: list[Refused]
    remarks: dict[str, int]


@record(frozen=True, kw_only=True)
class Counted:
    """Pieces that were read and counted."""

    brief: Brief
    measured: Measured | None
    prints: Prints | None
    words: CountedWords | None


def counted(job: Counting, *pieces: Piece[DocumentBlock]) -> Counted:
    """Read and count consecutive pieces."""
    before = remarks.taken()
    cleaning = cleaner(job.settings, job.resources, job.features.within_sentences)
    measuring = Measuring(job.columns, job.features, cleaning.forms, elsewhere=True)
    memory = measuring.memory_of(cleaning)
    sizes, kept, prints, refused = list[int](), list[Any](), list[Prints](), list[Refused]()
    for piece in pieces:
        read = job.reading.read(piece)
        refused += read.refused
        for block in read.blocks:
            tokens = [cleaning.words_of(texts, memory) for texts in block.documents.parts]
            measuring.add(block.documents.cells(job.features.measures), tokens)
            sizes.append(len(block.rows))
            told, printed = job.keep(block)
            kept.append(told)
            prints += [printed] if printed is not None else []
    measured = measuring.measured() if sizes else None
    found = remarks.taken()
    remarks.given(before)
    return Counted(
        brief=Brief(
            sizes=sizes,
            tokens=measured.tokens if measured is not None else np.zeros(0, dtype=np.int64),
            cells=measured.cells if measured is not None else None,
            kept=kept,
            printed=bool(prints),
            spaced=memory is not None and _spaced(memory.words, cleaning.forms),
            names=[table for table in measuring.tables if isinstance(table, ToldNames)],
            refused=refused,
            remarks=found,
        ),
        measured=measured,
        prints=joined_prints(prints) if prints else None,
        words=cleaning.forms.counted_words() if cleaning.forms is not None and cleaning.forms.counted else None,
    )


def _spaced(words: Sequence[str], forms: FinalForms | None) -> bool:
    return (forms is not None and forms.spaced) or any(" " in word for word in words)


def stretches_of(found: Measured, many: int) -> list[Vocabulary]:
    """The terms, see `dealt`."""
    return dealt(vocabulary_of(found.here, found.terms), many)


def columns_of(*found: Ints | Measured) -> Ints:
    """The hashed columns that any of them has."""
    return np.unique(np.concatenate([one.hashed if isinstance(one, Measured) else one for one in found]))


def in_all_terms(found: Measured, corpus: Chosen) -> csr_array:
    """The counts in the columns of the corpus."""
    return in_terms(found.here, found.terms, corpus.terms)


def in_all_columns(found: Measured, columns: Ints) -> csr_array:
    """The same of hashed terms."""
    assert found.hashed is not None
    return in_columns(found.here, np.searchsorted(columns, found.hashed), columns.size)
