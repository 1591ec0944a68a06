"""N-grams: terms made of neighbouring words, or of neighbouring letters, found by sorting numbers.

An n-gram is a number: that of its first n − 1 units times the number of distinct units, plus the number of its last. Such a
number and the number of its document, side by side in one 64-bit key, are sorted once; the runs of the sorted keys are all
that there is to know: which n-grams there are, in how many documents, how often in each. What stands in too few documents
never gets a name, and no n-gram is built on a beginning that does.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import pandas as pd

from upsort.core.arrays import AnyArray, Bools, Codes, Ints
from upsort.core.plan import Features
from upsort.core.sparse import Triplets
from upsort.core.text.tokeniser import Tokens

GAP = "…"
"""Stands for the word left out of a pair with a gap: `leaves … brown`."""

_KEY_BITS = 63
_SMALL = 1 << 16  # so few places are sorted as they are
_SPREAD = np.uint64(0x9E3779B97F4A7C15)  # 2^64 divided by the golden ratio: Knuth, vol. 3, section 6.4
Namer = Callable[[Ints], list[str]]


@dataclass(frozen=True)
class Grams:
    """The terms of one length.

    names: the terms in at least so many documents as was asked for. cells: how often each stands in each document.
    distinct, seen_once: of all terms, those in too few documents included.
    """

    names: list[str]
    cells: Triplets
    distinct: int
    seen_once: int


@dataclass(frozen=True)
class _Level:
    """The n-grams of one length: where they stand, and how they are told apart and named.

    places: where each begins. numbers: which it is, below `span`.
    """

    places: AnyArray
    numbers: Ints
    span: int
    names_of: Namer


def grams_of(units: Tokens, settings: Features, at_least: int = 1, prefix: str = "") -> list[Grams]:
    """The terms of documents, a `Grams` for each length asked for and one for pairs with a gap.

    units: words or letters of all documents. at_least: documents that a term must stand in. prefix: what each name begins with.
    """
    shortest, longest = min(settings.lengths), max(settings.lengths)
    documents = units.starts.size - 1
    singles, enough = _single_units(units, at_least, prefix)
    found = [singles] if shortest == 1 else []
    if longest == 1 and not settings.skip:
        return found
    width = max(len(units.words), 1)
    owner = np.repeat(np.arange(documents, dtype=np.int32), np.diff(units.starts))
    region = _regions(owner, units.sentences) if settings.within_sentences else owner
    places = np.flatnonzero(enough[units.codes]) if at_least > 1 else np.arange(owner.size)
    if owner.size < np.iinfo(np.int32).max:
        places = places.astype(np.int32)
    level = _Level(places, units.codes[places].astype(np.int64), width, _names_by(units.words))
    joiner = " " if settings.units == "words" else ""
    for length in range(2, longest + 1):
        level = _extended(level, units, enough, region, length - 1, joiner, documents)
        grams, frequent = _grouped(level, owner, documents, at_least, prefix)
        if length >= shortest:
            found.append(grams)
        if length < longest and at_least > 1:
            kept = np.isin(level.numbers, frequent)
            level = _Level(level.places[kept], level.numbers[kept], level.span, level.names_of)
    if settings.skip and settings.units == "words":
        start = _Level(places, units.codes[places].astype(np.int64), width, _names_by(units.words))
        level = _extended(start, units, enough, region, 2, f" {GAP} ", documents)
        found.append(_grouped(level, owner, documents, at_least, prefix)[0])
    return found


def _names_by(words: list[str]) -> Namer:
    return lambda numbers: [words[number] for number in numbers.tolist()]


def _single_units(units: Tokens, at_least: int, prefix: str) -> tuple[Grams, Bools]:
    """The units themselves as terms, sorted, and which of them stand in enough documents."""
    width, documents = len(units.words), units.starts.size - 1
    order = np.array(sorted(range(width), key=units.words.__getitem__), dtype=np.int64)
    rank = np.empty(width, dtype=np.int64)
    rank[order] = np.arange(width)
    bits = max(width - 1, 1).bit_length()
    keys = np.repeat(np.arange(documents) << bits, np.diff(units.starts))
    keys |= rank[units.codes] if width else 0
    keys.sort()
    begins = np.flatnonzero(_changes(keys))
    counts = np.diff(begins, append=keys.size).astype(np.int32)
    keys = keys[begins]
    columns = (keys & ((1 << bits) - 1)).astype(np.int32)
    keys >>= bits
    totals = np.bincount(units.codes, minlength=width)
    enough = np.bincount(columns, minlength=width) >= at_least
    kept = np.flatnonzero(enough)
    cells = Triplets(keys.astype(np.int32), columns, counts, width)
    if kept.size < width:
        place = np.cumsum(enough, dtype=np.int32) - 1
        inside = enough[columns]
        cells = Triplets(cells.rows[inside], place[columns[inside]], counts[inside], kept.size)
    names = [prefix + units.words[number] for number in order[kept].tolist()]
    return Grams(names, cells, int((totals > 0).sum()), int((totals == 1).sum())), enough[rank]


def _extended(
    level: _Level, units: Tokens, enough: Bools, region: AnyArray, reach: int, joiner: str, documents: int
) -> _Level:
    """N-grams one unit longer: the beginnings of `level`, each with the unit `reach` further on in the same region.

    Their numbers are made smaller where they would not fit into a key.
    """
    width = max(len(units.words), 1)
    beyond = int(np.searchsorted(level.places, region.size - reach))
    places = level.places[:beyond]
    inside = region[places + reach] == region[places]
    inside &= enough[units.codes[places + reach]]
    places, numbers = places[inside], level.numbers[:beyond][inside]
    numbers *= width
    numbers += units.codes[places + reach]
    bits = max(documents - 1, 1).bit_length()
    span = level.span * width
    distinct: Ints | None = None
    if span.bit_length() + bits > _KEY_BITS - 8:  # room for a further unit of few kinds
        codes, distinct = pd.factorize(numbers)
        numbers, span = codes.astype(np.int64), max(len(distinct), 1)

    def names_of(chosen: Ints) -> list[str]:
        originals = chosen if distinct is None else distinct[chosen]
        beginnings = level.names_of(originals // width)
        lasts = [units.words[number] for number in (originals % width).tolist()]
        return [f"{beginning}{joiner}{last}" for beginning, last in zip(beginnings, lasts, strict=True)]

    return _Level(places, numbers, span, names_of)


def _grouped(level: _Level, owner: Codes, documents: int, at_least: int, prefix: str) -> tuple[Grams, Ints]:
    """The n-grams in at least so many documents, and their numbers, ascending."""
    bits = max(documents - 1, 1).bit_length()
    likely = _likely_frequent(level.numbers, at_least)
    keys = level.numbers[likely] << np.int64(bits)
    keys |= owner[level.places[likely]]
    alone = level.numbers.size - keys.size
    keys.sort()
    begins = np.flatnonzero(_changes(keys))
    counts = np.diff(begins, append=keys.size).astype(np.int32)
    keys = keys[begins]
    owners = (keys & np.int64((1 << bits) - 1)).astype(np.int32)
    keys >>= np.int64(bits)
    firsts = np.flatnonzero(_changes(keys))
    frequency = np.diff(firsts, append=keys.size)
    seen_once = int((counts[firsts[frequency == 1]] == 1).sum()) + alone
    distinct = int(firsts.size) + alone
    enough = frequency >= at_least
    frequent = keys[firsts[enough]]
    if at_least > 1:
        inside = np.repeat(enough, frequency)
        owners, counts = owners[inside], counts[inside]
    columns = np.repeat(np.arange(frequent.size, dtype=np.int32), frequency[enough])
    names = level.names_of(frequent)
    return Grams(
        [prefix + name for name in names] if prefix else names,
        Triplets(owners, columns, counts, frequent.size),
        distinct,
        seen_once,
    ), frequent


def _likely_frequent(numbers: Ints, at_least: int) -> Bools:
    """Where a number may come twice; False only where it surely stands alone. Nothing is left out when single ones count.

    Numbers are thrown into many more boxes than there are places; what is alone in its box is alone.
    """
    if at_least < 2 or numbers.size < _SMALL:
        return np.ones(numbers.size, dtype=bool)
    bits = numbers.size.bit_length()
    boxes = (numbers.astype(np.uint64) * _SPREAD >> np.uint64(64 - bits)).astype(np.int32)
    held = np.zeros(1 << bits, dtype=np.uint8)
    held[boxes] = 1
    first = np.zeros(1 << bits, dtype=np.int32)
    first[boxes] = np.arange(boxes.size, dtype=np.int32)
    again = first[boxes] != np.arange(boxes.size, dtype=np.int32)
    held[boxes[again]] = 2
    likely: Bools = held[boxes] == 2
    return likely


def _changes(sorted_values: Ints) -> Bools:
    """Where a value differs from the one before."""
    new = np.empty(sorted_values.size, dtype=bool)
    new[:1] = True
    np.not_equal(sorted_values[1:], sorted_values[:-1], out=new[1:])
    return new


def letters_of(tokens: Tokens) -> Tokens:
    """The characters of cleaned documents, in which words are one space apart."""
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


def _regions(owner: Codes, sentences: Ints) -> Ints:
    """A number for each stretch of units that belong to one sentence of one document."""
    ends = np.flatnonzero((np.diff(owner) != 0) | (np.diff(sentences) != 0))
    return np.searchsorted(ends, np.arange(owner.size)).astype(np.int64)
