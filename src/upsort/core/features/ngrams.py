"""N-grams: the terms of documents made of neighbouring words, or of neighbouring letters.

Longer n-grams are built from shorter ones: the number of an n-gram's first n − 1 units and the number of its last unit are one
key, and the keys are factorised. Only distinct n-grams become strings.
"""

from collections.abc import Sequence

import numpy as np
import pandas as pd

from upsort.core.arrays import Bools, Codes, Ints
from upsort.core.plan import Features
from upsort.core.text.cleaning import Cleaner
from upsort.core.text.tokeniser import Tokens

GAP = "…"
"""Stands for the word left out of a pair with a gap: `leaves … brown`."""


def units_of(documents: Sequence[str], cleaning: Cleaner, settings: Features) -> Tokens:
    """The words of documents, or their letters, of which terms are made."""
    return cleaning.tokens_of(documents) if settings.units == "words" else letters_of(documents, cleaning)


def letters_of(documents: Sequence[str], cleaning: Cleaner) -> Tokens:
    """The characters of documents after all steps; words are one space apart."""
    tokens = cleaning.tokens_of(documents)
    texts = [
        " ".join([tokens.words[code] for code in tokens.codes[begin:end].tolist()])
        for begin, end in zip(tokens.starts[:-1].tolist(), tokens.starts[1:].tolist(), strict=True)
    ]
    points = np.frombuffer("".join(texts).encode("utf-32-le", "surrogatepass"), dtype="<u4")
    codes, distinct = pd.factorize(points)
    starts = np.concatenate((np.zeros(1, dtype=np.int64), np.cumsum([len(text) for text in texts], dtype=np.int64)))
    return Tokens(
        [chr(point) for point in distinct.tolist()],
        codes.astype(np.int32),
        starts,
        np.zeros(codes.size, dtype=np.int64),
    )


def terms_of(units: Tokens, settings: Features) -> Tokens:
    """All terms of documents: their n-grams of the lengths asked for, document by document (within one in no fixed order)."""
    shortest, longest = min(settings.lengths), max(settings.lengths)
    if shortest == longest == 1 and not settings.skip:
        return units
    joiner = " " if settings.units == "words" else ""
    owner = np.repeat(np.arange(units.starts.size - 1), np.diff(units.starts))
    region = owner
    if settings.within_sentences:
        region = np.cumsum(
            np.concatenate((np.zeros(1, dtype=np.int64), (np.diff(owner) != 0) | (np.diff(units.sentences) != 0)))
        )
        region = region[: owner.size]
    words: list[str] = []
    codes: list[Codes] = []
    owners: list[Ints] = []

    def add(names: list[str], numbers: Codes, of: Ints) -> None:
        codes.append(numbers + np.int32(len(words)))
        owners.append(of)
        words.extend(names)

    names, numbers, places = units.words, units.codes, np.arange(owner.size)
    if shortest == 1:
        add(names, numbers, owner)
    for length in range(2, longest + 1):
        fits = _fits(places, length - 1, region)
        names, numbers = _paired(names, numbers[fits], units.words, units.codes[places[fits] + length - 1], joiner)
        places = places[fits]
        if length >= shortest:
            add(names, numbers, owner[places])
    if settings.skip and settings.units == "words":
        places = np.arange(owner.size)
        places = places[_fits(places, 2, region)]
        names, numbers = _paired(units.words, units.codes[places], units.words, units.codes[places + 2], f" {GAP} ")
        add(names, numbers, owner[places])
    return _by_document(words, np.concatenate(codes), np.concatenate(owners), units.starts.size - 1)


def _fits(places: Ints, reach: int, region: Ints) -> Bools:
    """Which places have a unit `reach` further on in the same region."""
    ends = places + reach
    inside = ends < region.size
    fits: Bools = inside.copy()
    fits[inside] = region[ends[inside]] == region[places[inside]]
    return fits


def _paired(
    names: list[str], numbers: Codes, last_names: list[str], last: Codes, joiner: str
) -> tuple[list[str], Codes]:
    """Distinct pairs of a beginning and a last unit: their names, and which of them stands at each place."""
    width = max(len(last_names), 1)
    codes, distinct = pd.factorize(numbers.astype(np.int64) * width + last)
    pairs = [f"{names[key // width]}{joiner}{last_names[key % width]}" for key in distinct.tolist()]
    return pairs, codes.astype(np.int32)


def _by_document(words: list[str], codes: Codes, owners: Ints, documents: int) -> Tokens:
    order = np.argsort(owners, kind="stable")
    starts = np.concatenate(
        (np.zeros(1, dtype=np.int64), np.cumsum(np.bincount(owners, minlength=documents), dtype=np.int64))
    )
    return Tokens(words, codes[order], starts, np.zeros(codes.size, dtype=np.int64))
