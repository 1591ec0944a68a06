"""Blocks of documents as they come from files: texts, and the columns next to them."""

import re
from collections.abc import Callable, Sequence
from dataclasses import field, replace
from math import log1p
from typing import Literal

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Bools, Floats, Ints, chosen_texts, concatenated
from upsort.core.lazy import record

Measure = Literal["words", "characters", "capitals", "punctuation", "links", "digits"]
_LINK = re.compile(r"https?://|\bwww\.", re.IGNORECASE)
_PUNCTUATION = re.compile(r"[^\w\s]")
_WORD = re.compile(r"\w+")
_DIGIT = re.compile(r"\d")


@record(frozen=True, kw_only=True)
class ExtraCells:
    """The values of such columns, nothing learned of them yet; n documents.

    numbers: (n, m) float64, NaN where missing, under number_names. categories: (n, c) int64, places in the values of each
    category column, −1 where the cell is empty, under category_names."""

    number_names: tuple[str, ...]
    numbers: Floats
    category_names: tuple[str, ...]
    categories: Ints
    category_values: tuple[tuple[str, ...], ...]

    @property
    def width(self) -> int:
        """How many columns there are of either kind."""
        return len(self.number_names) + len(self.category_names)

    def rows(self, chosen: Bools | Ints) -> "ExtraCells":
        """The values of some documents."""
        return ExtraCells(
            number_names=self.number_names,
            numbers=self.numbers[chosen],
            category_names=self.category_names,
            categories=self.categories[chosen],
            category_values=self.category_values,
        )


def no_cells(documents: int) -> ExtraCells:
    """No column at all."""
    return ExtraCells(
        number_names=(),
        numbers=np.zeros((documents, 0)),
        category_names=(),
        categories=np.zeros((documents, 0), dtype=np.int64),
        category_values=(),
    )


@record(frozen=True, kw_only=True)
class ExtraColumns:
    """What training learned of the columns next to the text.

    number_names: (m) names; mean, deviation: (m,); marked: (m,) whether missing values have a column. categories: for each
    category column its name and the values that have a column.

    A number is standardised by the mean and the standard deviation of the training documents, (value − mean) / deviation. A
    missing one counts as the mean; where some were missing in training, a column of their own marks them. A category is a column
    for each value that training saw, 1 where a document has it. Lengths are taken as ln(1 + length), since they are skewed."""

    number_names: tuple[str, ...] = ()
    mean: Floats = field(default_factory=lambda: np.zeros(0))
    deviation: Floats = field(default_factory=lambda: np.zeros(0))
    marked: Bools = field(default_factory=lambda: np.zeros(0, dtype=bool))
    categories: tuple[tuple[str, tuple[str, ...]], ...] = ()

    @property
    def names(self) -> list[str]:
        """The names of the feature columns, in order."""
        marked = [f"{name} is missing" for name, mark in zip(self.number_names, self.marked.tolist(), strict=True) if mark]
        return [*self.number_names, *marked, *(f"column:{name}={value}" for name, values in self.categories for value in values)]

    def columns(self, cells: ExtraCells) -> csr_array:
        """(n, q) the feature columns of documents."""
        missing = np.isnan(cells.numbers)
        standardised = (np.where(missing, self.mean, cells.numbers) - self.mean) / self.deviation
        blocks = [standardised, missing[:, self.marked].astype(np.float64)]
        for place, (_, values) in enumerate(self.categories):
            positions = np.array([values.index(v) if v in values else -1 for v in cells.category_values[place]] + [-1])
            columns = positions[cells.categories[:, place]]
            blocks.append((columns[:, None] == np.arange(len(values))).astype(np.float64))
        return csr_array(np.hstack(blocks))

    def unseen(self, cells: ExtraCells) -> dict[str, int]:
        """Category values that training did not see, as `column=value`, with their documents."""
        unseen_values = {}
        for place, (name, values) in enumerate(self.categories):
            for number, value in enumerate(cells.category_values[place]):
                if value not in values:
                    unseen_values[f"{name}={value}"] = int((cells.categories[:, place] == number).sum())
        return {name: documents for name, documents in unseen_values.items() if documents}


def learn_extra_columns(cells: ExtraCells) -> ExtraColumns:
    """Means, deviations and categories of training documents. A number that never varies gets the deviation 1."""
    missing = np.isnan(cells.numbers)
    given = np.maximum((~missing).sum(axis=0), 1)
    values = np.where(missing, 0.0, cells.numbers)
    mean = values.sum(axis=0) / given
    deviation = np.sqrt((np.where(missing, 0.0, values - mean) ** 2).sum(axis=0) / given)
    deviation[deviation <= 1e-12 * np.maximum(np.abs(mean), 1.0)] = 1.0
    categories = []
    for place, name in enumerate(cells.category_names):
        present = np.unique(cells.categories[:, place])
        values_seen = sorted(cells.category_values[place][number] for number in present.tolist() if number >= 0)
        categories.append((name, tuple(values_seen)))
    return ExtraColumns(
        number_names=cells.number_names,
        mean=mean,
        deviation=deviation,
        marked=np.asarray(missing.any(axis=0)),
        categories=tuple(categories),
    )


def text_measures(texts: Sequence[str], measures: Sequence[Measure]) -> Floats:
    """(n, len(measures)) measures of texts as they were written.

    words, characters: ln(1 + how many). capitals: share of the letters. punctuation: share of the characters. links, digits: 1
    where the text holds one."""
    ways: dict[Measure, Callable[[str], float]] = {
        "words": lambda text: log1p(len(_WORD.findall(text))),
        "characters": lambda text: log1p(len(text)),
        "capitals": lambda text: sum(map(str.isupper, text)) / max(sum(map(str.isalpha, text)), 1),
        "punctuation": lambda text: len(_PUNCTUATION.findall(text)) / max(len(text), 1),
        "links": lambda text: float(_LINK.search(text) is not None),
        "digits": lambda text: float(_DIGIT.search(text) is not None),
    }
    columns = [[ways[measure](text) for text in texts] for measure in measures]
    return np.array(columns, dtype=np.float64).reshape(len(measures), len(texts)).T


@record(frozen=True, kw_only=True)
class Documents:
    """n documents.

    parts: one list of n texts, or one for each text column where these are kept apart.
    numbers: (n, m) float64, NaN where a cell is empty, under number_names. categories: n cells for each of category_names."""

    parts: tuple[Sequence[str], ...]
    number_names: tuple[str, ...]
    numbers: Floats
    category_names: tuple[str, ...]
    categories: tuple[list[str], ...]

    def __len__(self) -> int:
        return len(self.parts[0])

    @property
    def texts(self) -> Sequence[str]:
        """The whole text of each document, its parts joined by line ends."""
        if len(self.parts) == 1:
            return self.parts[0]
        return ["\n".join(part for part in parts if part) for parts in zip(*self.parts, strict=True)]

    def rows(self, chosen: Sequence[int]) -> "Documents":
        """Some of the documents; one may come several times."""
        return replace(
            self,
            parts=tuple(chosen_texts(part, chosen) for part in self.parts),
            numbers=self.numbers[list(chosen)],
            categories=tuple([cells[place] for place in chosen] for cells in self.categories),
        )

    def cells(self, measures: Sequence[Measure] = ()) -> ExtraCells:
        """The values next to the text, and those measured of it: numbers named column:NAME and text:MEASURE."""
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
        parts=tuple(concatenated([block.parts[place] for block in blocks]) for place in range(len(first.parts))),
        number_names=first.number_names,
        numbers=np.vstack([block.numbers for block in blocks]),
        category_names=first.category_names,
        categories=tuple(
            [cell for block in blocks for cell in block.categories[place]] for place in range(len(first.categories))
        ),
    )
