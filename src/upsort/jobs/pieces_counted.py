"""What those do who read and count some pieces of tables whose counts stay with them: run anywhere, on what it is given alone."""

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Ints
from upsort.core.features.beside import ExtraCells
from upsort.core.features.hashing import RecordedNames
from upsort.core.features.measured import CorpusCounts
from upsort.core.features.measuring import CorpusCounter
from upsort.core.features.prints import Fingerprints
from upsort.core.features.prints import joined as join_fingerprints
from upsort.core.features.terms_apart import ChosenTerms, Vocabulary, in_columns, in_terms, partitioned, vocabulary_of
from upsort.core.plan import Clean, Columns, Features
from upsort.core.records import record
from upsort.core.text.cleaning import cleaner
from upsort.core.text.final_forms import CountedWords, FinalForms
from upsort.core.text.resources import Resources
from upsort.files import remarks
from upsort.files.document_blocks import DocumentBlock
from upsort.files.rows import RejectedRow
from upsort.jobs.reading import DocumentReading, ReadPiece

Keep = Callable[[DocumentBlock], tuple[Any, Fingerprints | None]]
"""What is kept of a block beside its counts, and the prints that stay where it is read."""


@record(frozen=True, kw_only=True)
class CountingTask:
    """What is needed to read and count. settings, resources: of a cleaner, which is made where it is used. keep: what is kept
    of a block beside its counts, here and where it is read."""

    reading: DocumentReading
    settings: Clean
    resources: Resources
    columns: Columns
    features: Features
    keep: Keep


@record(frozen=True, kw_only=True)
class CountedBrief:
    """What is told of some pieces. sizes: documents of each block. tokens: (n,) words of each document. kept: of each block.
    spaced: whether a word holds a space, so that longer terms cannot be told apart by theirs. names: of hashed terms, for each
    part of the text."""

    sizes: list[int]
    tokens: Ints
    cells: ExtraCells | None
    block_data: list[Any]
    printed: bool
    spaced: bool
    names: list[RecordedNames]
    refused: list[RejectedRow]
    remarks: dict[str, int]


@record(frozen=True, kw_only=True)
class CountedPieces:
    """Pieces that were read and counted."""

    brief: CountedBrief
    measured: CorpusCounts | None
    fingerprints: Fingerprints | None
    words: CountedWords | None


def count_pieces(job: CountingTask, *pieces: ReadPiece[DocumentBlock]) -> CountedPieces:
    """Read and count consecutive pieces."""
    before = remarks.drain()
    cleaning = cleaner(job.settings, job.resources, job.features.within_sentences)
    measuring = CorpusCounter(job.columns, job.features, cleaning.forms, elsewhere=True)
    memory = measuring.memory_of(cleaning)
    sizes, block_data, fingerprints, refused = list[int](), list[Any](), list[Fingerprints](), list[RejectedRow]()
    for piece in pieces:
        read = job.reading.read(piece)
        refused += read.refused
        for block in read.blocks:
            tokens = [cleaning.words_of(texts, memory) for texts in block.documents.parts]
            measuring.add(block.documents.cells(job.features.measures), tokens)
            sizes.append(len(block.rows))
            extracted, printed = job.keep(block)
            block_data.append(extracted)
            fingerprints += [printed] if printed is not None else []
    measured = measuring.measured() if sizes else None
    notice_counts = remarks.drain()
    remarks.merge_notices(before)
    return CountedPieces(
        brief=CountedBrief(
            sizes=sizes,
            tokens=measured.tokens if measured is not None else np.zeros(0, dtype=np.int64),
            cells=measured.cells if measured is not None else None,
            block_data=block_data,
            printed=bool(fingerprints),
            spaced=memory is not None and _spaced(memory.words, cleaning.forms),
            names=[table for table in measuring.tables if isinstance(table, RecordedNames)],
            refused=refused,
            remarks=notice_counts,
        ),
        measured=measured,
        fingerprints=join_fingerprints(fingerprints) if fingerprints else None,
        words=cleaning.forms.counted_words() if cleaning.forms is not None and cleaning.forms.counted else None,
    )


def _spaced(words: Sequence[str], forms: FinalForms | None) -> bool:
    return (forms is not None and forms.spaced) or any(" " in word for word in words)


def vocabulary_partitions(corpus: CorpusCounts, many: int) -> list[Vocabulary]:
    """The terms, see `dealt`."""
    return partitioned(vocabulary_of(corpus.local_counts, corpus.terms), many)


def columns_of(*corpora: Ints | CorpusCounts) -> Ints:
    """The hashed columns that any of them has."""
    return np.unique(np.concatenate([part.hashed if isinstance(part, CorpusCounts) else part for part in corpora]))


def in_all_terms(counts: CorpusCounts, corpus: ChosenTerms) -> csr_array:
    """The counts in the columns of the corpus."""
    return in_terms(counts.local_counts, counts.terms, corpus.terms)


def in_all_columns(counts: CorpusCounts, columns: Ints) -> csr_array:
    """The same of hashed terms."""
    assert counts.hashed is not None
    return in_columns(counts.local_counts, np.searchsorted(columns, counts.hashed), columns.size)
