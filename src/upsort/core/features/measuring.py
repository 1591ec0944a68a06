"""Measuring a corpus block by block: terms of each part of the text counted, columns beside it collected."""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from upsort.core.arrays import Ints
from upsort.core.features.beside import ExtraCells
from upsort.core.features.counting import TermCounting, joined
from upsort.core.features.hashing import HashedCounting, RecordedNames, TermNames, names_of_columns
from upsort.core.features.measured import CorpusCounts
from upsort.core.plan import Columns, Features
from upsort.core.text.cleaning import Cleaner
from upsort.core.text.final_forms import FinalForms
from upsort.core.text.tokeniser import Tokens
from upsort.core.text.word_memory import WordMemory


def prefixes(columns: Columns, features: Features) -> tuple[str, ...]:
    """What the terms of each part of the text begin with: nothing, or the column's name where columns are kept apart."""
    return tuple(f"{name}:" for name in columns.text) if features.apart and len(columns.text) > 1 else ("",)


class CorpusCounter:
    """Collects blocks of documents; `measured` gives what was found, whatever the blocks were.

    forms: what the steps on words still to be done make of the tokens. elsewhere: whether names of hashed terms are kept
    elsewhere; `tables` then have what is to be told there.
    """

    def __init__(
        self, columns: Columns, features: Features, forms: FinalForms | None = None, elsewhere: bool = False
    ) -> None:
        self.features = features
        begins = prefixes(columns, features)
        self.tables: list[TermNames | RecordedNames] = [RecordedNames() if elsewhere else TermNames() for _ in begins]
        self.hashed: list[HashedCounting] = []
        self.plain: list[TermCounting] = []
        if features.hash_bits:
            named = zip(begins, self.tables, strict=True)
            self.hashed = [HashedCounting(features, begin, forms, table) for begin, table in named]
        else:
            self.plain = [TermCounting(features, begin, forms) for begin in begins]
        self.cells: list[ExtraCells] = []

    def memory_of(self, cleaning: Cleaner) -> WordMemory | None:
        """What the tokens are to be cut with: one memory for all, unless they are hashed, where none is to grow."""
        return None if self.hashed else cleaning.memory()

    def add(self, cells: ExtraCells, tokens: Sequence[Tokens]) -> None:
        """A block of documents: what stands beside their text, and the tokens of each of its parts."""
        for place, part in enumerate(tokens):
            (self.hashed[place] if self.hashed else self.plain[place]).add(part)
        self.cells.append(cells)

    def measured(self, at_least: int = 1, threads: int = 1) -> CorpusCounts:
        """Everything. at_least: documents in which a term must stand to be counted at all."""
        hashed = None
        if self.hashed:
            counts, hashed = HashedCounting.combined(self.hashed)
            name_tables = [table for table in self.tables if isinstance(table, TermNames)]
            counts = replace(counts, terms=names_of_columns(name_tables, hashed, self.features.hash_bits))
        else:
            counts = joined([counting.counts(at_least, threads) for counting in self.plain])
        left_out = max(counts.distinct - len(counts.terms), 0) if hashed is None else 0
        return CorpusCounts(
            counts=counts.matrix,
            terms=counts.terms,
            tokens=counts.tokens,
            cells=all_cells(self.cells),
            vectors=None,
            hashed=hashed,
            distinct=counts.distinct,
            seen_once=counts.seen_once,
            left_out=left_out,
            blocks=np.cumsum([0, *(len(cells.numbers) for cells in self.cells)], dtype=np.int64),
        )


def all_cells(blocks: Sequence[ExtraCells]) -> ExtraCells:
    """The cells of consecutive blocks of documents; category values are numbered anew over all of them."""
    first = blocks[0]
    values = [
        tuple(sorted({value for block in blocks for value in block.category_values[place]}))
        for place in range(len(first.category_names))
    ]
    codes: list[Ints] = []
    for block in blocks:
        renumbered = np.full_like(block.categories, -1)
        for place, all_values in enumerate(values):
            new = np.array([*(all_values.index(value) for value in block.category_values[place]), -1], dtype=np.int64)
            renumbered[:, place] = new[block.categories[:, place]]
        codes.append(renumbered)
    return ExtraCells(
        number_names=first.number_names,
        numbers=np.vstack([block.numbers for block in blocks]),
        category_names=first.category_names,
        categories=np.vstack(codes),
        category_values=tuple(values),
    )
