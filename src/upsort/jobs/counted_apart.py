"""Documents counted by those who read them, whose counts stay with them: what comes here is the vocabulary, and what a corpus
keeps of each document beside its counts."""

from collections.abc import Callable, Sequence
from dataclasses import replace
from itertools import islice, pairwise
from typing import Any

import numpy as np
from scipy.sparse import csr_array

from upsort.core.features.beside import Cells
from upsort.core.features.counting import BLOCK_CHARACTERS, Counts, TermCounting, joined
from upsort.core.features.measured import Measured
from upsort.core.features.measuring import all_cells, prefixes
from upsort.core.features.prints import Prints
from upsort.core.features.prints import joined as joined_prints
from upsort.core.features.terms_apart import Chosen, Vocabulary, chosen, countable, in_terms, of_all, vocabulary_of
from upsort.core.judging.copies_apart import PrintsApart
from upsort.core.parted import Parted, joins, merged
from upsort.core.plan import Clean, Features
from upsort.core.records import record
from upsort.core.text.cleaning import Cleaner, cleaner
from upsort.core.text.resources import Resources
from upsort.files import remarks
from upsort.files.document_blocks import DocumentBlock
from upsort.files.documents import Reader
from upsort.files.rows import Refused
from upsort.jobs.reading import Piece, Reading, apart_for
from upsort.jobs.work import Work

WORTH_IT = 24
"""Pieces of tables, of about a megabyte each, from which on the counts stay with those who read them. What is asked of parts
takes some hundredths of a second each time, whatever their size."""
WORDS_OF_A_PART = 1 << 21
"""Of the counts that are asked for sums: so many that a part is larger than the sums by label, which are dense."""


@record(frozen=True, kw_only=True)
class _Counting:
    """What those who read and count need. settings, resources: of a cleaner, which is made where it is used. keep: what is kept
    of a block beside its counts."""

    reading: Reading
    settings: Clean
    resources: Resources
    features: Features
    prefixes: tuple[str, ...]
    keep: Callable[[DocumentBlock], Any]


@record(frozen=True, kw_only=True)
class CountedApart:
    """kept: of each block. prints: of all documents, where blocks have them."""

    measured: Measured
    kept: list[Any]
    prints: PrintsApart | None


@record(frozen=True, kw_only=True)
class _Block:
    """One that was counted. spaced: whether a word of it holds a space, so that longer terms cannot be told apart by theirs."""

    counts: Counts
    cells: Cells
    kept: Any
    prints: Prints | None
    spaced: bool


@record(frozen=True, kw_only=True)
class _Piece:
    """A piece that was read and counted."""

    blocks: list[_Block]
    refused: list[Refused]
    remarks: dict[str, int]


@record(frozen=True, kw_only=True)
class _Brief:
    """The same without the counts."""

    tokens: list[Any]
    cells: list[Cells]
    kept: list[Any]
    printed: bool
    spaced: bool
    refused: list[Refused]
    remarks: dict[str, int]


def can_be(work: Work, cleaning: Cleaner) -> bool:
    """Whether the counts of documents may stay with those who read them, and better do: all tables are read apart, in many
    pieces, and nothing is learned of the words beyond the terms."""
    features, columns = work.plan.features, work.plan.columns
    begins = prefixes(columns, features)
    return (
        work.engine.hands is not None
        and work.sorter is None
        and not (features.hash_bits or features.vectors_file or features.vocabulary_file or features.skip)
        and not columns.document_vectors
        and not (cleaning.forms is not None and cleaning.forms.counted)
        and not any(one != other and other.startswith(one) for one in begins for other in begins)
        and _many(work)
    )


def _many(work: Work) -> bool:
    """Whether all tables can be read apart, and in enough pieces."""
    divisions = [table.division for table in work.inputs.tables]
    if not all(division is not None and apart_for(work.engine)(division) for division in divisions):
        return False
    pieces = (stretch for division in divisions if division is not None for stretch in division.stretches())
    return sum(1 for _ in islice(pieces, WORTH_IT)) == WORTH_IT


def counted_apart(
    work: Work, reader: Reader, cleaning: Cleaner, at_least: int, keep: Callable[[DocumentBlock], Any]
) -> CountedApart | None:
    """All usable documents. keep: what is kept of each block, whose `prints` stay with who read it. at_least: documents that
    a term must stand in. None where the terms cannot be told apart after all, or there is no document."""
    hands, features = work.engine.hands, work.plan.features
    assert hands is not None
    begins = prefixes(work.plan.columns, features)
    reading = Reading(inputs=work.inputs, reader=reader, characters=BLOCK_CHARACTERS)
    job = hands.held(
        _Counting(
            reading=reading,
            settings=cleaning.settings,
            resources=cleaning.resources,
            features=countable(features, at_least),
            prefixes=begins,
            keep=keep,
        )
    )
    blocks, prints, briefs = [], [], []
    for piece in reading.pieces(apart_for(work.engine)):
        counted = hands.work(_counted, job, piece)
        blocks.append(hands.work(_blocks, counted))
        prints.append(hands.work(_prints, counted))
        briefs.append(hands.work(_brief, counted))
    told: list[_Brief] = []
    for place in range(len(briefs)):
        told += hands.results([briefs[place]])
        briefs[place] = None
        work.engine.piece_done()
        work.advance(sum(len(one) for one in told[-1].tokens))
    longer = max(features.lengths) > 1 and features.units == "words" and at_least > 1
    sizes = [len(tokens) for brief in told for tokens in brief.tokens]
    if not sum(sizes) or (longer and any(one.spaced for one in told)):
        return None
    for brief in told:
        remarks.given(brief.remarks)
        for refused in brief.refused:
            work.aside.add(refused)
    kept = [one for brief in told for one in brief.kept]
    filled = [block for block, brief in zip(blocks, told, strict=True) if brief.tokens]
    vocabularies = merged(hands, [hands.work(_terms, block) for block in filled], of_all)
    (found,) = hands.results([hands.work(_chosen, features, at_least, begins, *vocabularies)])
    del vocabularies
    terms = hands.held(found.terms)
    tokens = np.concatenate([tokens for brief in told for tokens in brief.tokens])
    ends = [0, *np.cumsum([sum(map(len, brief.tokens)) for brief in told if brief.tokens]).tolist()]
    words = np.concatenate(([0], np.cumsum(tokens)))[ends]
    where = joins(words, WORDS_OF_A_PART)
    measured = Measured(
        counts=Parted(
            [hands.work(_part, terms, *filled[begin:end]) for begin, end in pairwise(where)],
            np.array(ends, dtype=np.int64)[where],
            len(found.terms),
            hands,
        ),
        terms=found.terms,
        tokens=tokens,
        cells=all_cells([cells for brief in told for cells in brief.cells]),
        distinct=found.distinct,
        seen_once=found.seen_once,
        left_out=max(found.distinct - len(found.terms), 0),
        blocks=np.cumsum([0, *sizes], dtype=np.int64),
    )
    printed = [one for one, brief in zip(prints, told, strict=True) if brief.printed]
    edges = np.cumsum([0, *(sum(map(len, brief.tokens)) for brief in told if brief.printed)])
    return CountedApart(measured=measured, kept=kept, prints=PrintsApart(printed, edges, hands) if printed else None)


def _counted(job: _Counting, piece: Piece[DocumentBlock]) -> _Piece:
    before = remarks.taken()
    cleaning = cleaner(job.settings, job.resources, job.features.within_sentences)
    read = job.reading.read(piece)
    blocks = [_block(job, cleaning, block) for block in read.blocks]
    found = remarks.taken()
    remarks.given(before)
    return _Piece(blocks=blocks, refused=read.refused, remarks=found)


def _block(job: _Counting, cleaning: Cleaner, block: DocumentBlock) -> _Block:
    counts, spaced = [], False
    for prefix, texts in zip(job.prefixes, block.documents.parts, strict=True):
        tokens = cleaning.words_of(texts)
        counting = TermCounting(job.features, prefix, cleaning.forms)
        counting.add(tokens)
        spaced = spaced or any(" " in word for word in tokens.words)
        counts.append(counting.counts())
    kept = job.keep(block)
    return _Block(
        counts=joined(counts),
        cells=block.documents.cells(job.features.measures),
        kept=replace(kept, prints=None),
        prints=kept.prints,
        spaced=spaced,
    )


def _blocks(counted: _Piece) -> list[Counts]:
    return [block.counts for block in counted.blocks]


def _prints(counted: _Piece) -> Prints | None:
    found = [block.prints for block in counted.blocks if block.prints is not None]
    return joined_prints(found) if found else None


def _brief(counted: _Piece) -> _Brief:
    return _Brief(
        tokens=[block.counts.tokens for block in counted.blocks],
        cells=[block.cells for block in counted.blocks],
        kept=[block.kept for block in counted.blocks],
        printed=any(block.prints is not None for block in counted.blocks),
        spaced=any(block.spaced for block in counted.blocks),
        refused=counted.refused,
        remarks=counted.remarks,
    )


def _terms(blocks: list[Counts]) -> Vocabulary:
    return vocabulary_of(blocks)


def _chosen(settings: Features, at_least: int, begins: Sequence[str], *vocabularies: Vocabulary) -> Chosen:
    return chosen(of_all(*vocabularies), settings, at_least, begins)


def _part(terms: list[str], *pieces: list[Counts]) -> csr_array:
    return in_terms([block for blocks in pieces for block in blocks], terms)
