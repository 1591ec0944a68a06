"""A block of documents as it comes from files: texts, and what stands in the columns beside them."""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from upsort.core.arrays import Floats
from upsort.core.features.beside import ExtraCells, Measure, text_measures
from upsort.core.records import record


@record(frozen=True, kw_only=True)
class Documents:
    """n documents.

    parts: one list of n texts, or one for each text column where these are kept apart.
    numbers: (n, m) float64, NaN where a cell is empty, under number_names. categories: n cells for each of category_names.
    """

    parts: tuple[list[str], ...]
    number_names: tuple[str, ...]
    numbers: Floats
    category_names: tuple[str, ...]
    categories: tuple[list[str], ...]

    def __len__(self) -> int:
        return len(self.parts[0])

    @property
    def texts(self) -> list[str]:
        """The whole text of each document, its parts joined by line ends."""
        if len(self.parts) == 1:
            return self.parts[0]
        return ["\n".join(part for part in parts if part) for parts in zip(*self.parts, strict=True)]

    def rows(self, chosen: Sequence[int]) -> "Documents":
        """Some of the documents; one may come several times."""
        return replace(
            self,
            parts=tuple([part[place] for place in chosen] for part in self.parts),
            numbers=self.numbers[list(chosen)],
            categories=tuple([cells[place] for place in chosen] for cells in self.categories),
        )

    def cells(self, measures: Sequence[Measure] = ()) -> ExtraCells:
        """The values beside the text, and those measured of it: numbers named column:NAME and text:MEASURE."""
        names = [*(f"column:{name}" for name in self.number_names), *(f"text:{measure}" for measure in measures)]
        numbers = np.hstack((self.numbers, text_measures(self.texts, measures))) if measures else self.numbers
        values = [sorted({cell for cell in column if cell}) for column in self.categories]
        codes = np.full((len(self), len(values)), -1, dtype=np.int64)
        for place, (column, distinct) in enumerate(zip(self.categories, values, strict=True)):
            number = {value: code for code, value in enumerate(distinct)}
            codes[:, place] = [number.get(cell, -1) for cell in column]
        return ExtraCells(
            number_names=tuple(names),
            numbers=numbers,
            category_names=self.category_names,
            categories=codes,
            category_values=tuple(map(tuple, values)),
        )


def joined_documents(blocks: Sequence[Documents]) -> Documents:
    """Consecutive blocks as one."""
    first = blocks[0]
    if len(blocks) == 1:
        return first
    return Documents(
        parts=tuple([text for block in blocks for text in block.parts[place]] for place in range(len(first.parts))),
        number_names=first.number_names,
        numbers=np.vstack([block.numbers for block in blocks]),
        category_names=first.category_names,
        categories=tuple(
            [cell for block in blocks for cell in block.categories[place]] for place in range(len(first.categories))
        ),
    )
