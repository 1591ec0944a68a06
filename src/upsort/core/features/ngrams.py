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

from upsort.core.arrays import AnyArray, Bools, Ints
from upsort.core.plan import Features
from upsort.core.sparse import Triplets, narrow
from upsort.core.text.tokeniser import Tokens

GAP = "…"
"""Stands for the word left out of a pair with a gap: `leaves … brown`."""

_KEY_BITS = 63
_AT_ONCE = 1 << 18
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
    numbers: AnyArray
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
    owner = narrow(np.repeat(np.arange(documents, dtype=np.int32), np.diff(units.starts)))
    region = _regions(owner, units.sentences) if settings.within_sentences else owner
    places = _places_of(enough[units.codes])
    first = _Level(places, units.codes[places], width, _names_by(units.words))
    joiner = " " if settings.units == "words" else ""
    bits = max(documents - 1, 1).bit_length()
    with_gap: list[Grams] = []
    if settings.skip and settings.units == "words":
        level = _extended(first, units, enough, region, 2, f" {GAP} ", bits)
        names_of, keys = level.names_of, _keys(level.numbers, owner[level.places], bits)
        del level
        with_gap.append(_grouped(keys, bits, at_least, names_of, prefix)[0])
    level = first
    del first
    for length in range(2, longest + 1):
        level = _extended(level, units, enough, region, length - 1, joiner, bits)
        numbers = level.numbers if length == longest else level.numbers.copy()
        names_of, keys = level.names_of, _keys(numbers, owner[level.places], bits)
        if length == longest:
            del level, numbers, owner, region  # room for what follows
        grams, frequent = _grouped(keys, bits, at_least, names_of, prefix)
        if length >= shortest:
            found.append(grams)
        if length < longest and at_least > 1:
            kept = np.isin(level.numbers, frequent)
            level = _Level(level.places[kept], level.numbers[kept], level.span, names_of)
    return found + with_gap


def _names_by(words: list[str]) -> Namer:
    return lambda numbers: [words[number] for number in numbers.tolist()]


def _single_units(units: Tokens, at_least: int, prefix: str) -> tuple[Grams, Bools]:
    """The units themselves as terms, sorted, and which of them stand in enough documents."""
    width, documents = len(units.words), units.starts.size - 1
    order = np.array(sorted(range(width), key=units.words.__getitem__), dtype=np.int64)
    rank = np.empty(width, dtype=np.int32)
    rank[order] = np.arange(width, dtype=np.int32)
    bits = max(width - 1, 1).bit_length()
    keys = np.repeat(np.arange(documents) << bits, np.diff(units.starts))
    keys |= rank[units.codes] if width else 0
    keys, counts = _runs(keys)
    columns = _last_bits(keys, bits)
    keys >>= bits
    rows = narrow(keys)
    del keys
    totals = np.bincount(units.codes, minlength=width)
    enough = np.bincount(columns, minlength=width) >= at_least
    kept = np.flatnonzero(enough)
    cells = Triplets(rows, columns, counts, width)
    if kept.size < width:
        place = np.cumsum(enough, dtype=np.int32) - 1
        inside = enough[columns]
        cells = Triplets(cells.rows[inside], place[columns[inside]], counts[inside], kept.size)
    names = [prefix + units.words[number] for number in order[kept].tolist()]
    return Grams(names, cells, int((totals > 0).sum()), int((totals == 1).sum())), enough[rank]


def _extended(
    level: _Level, units: Tokens, enough: Bools, region: AnyArray, reach: int, joiner: str, bits: int
) -> _Level:
    """N-grams one unit longer: the beginnings of `level`, each with the unit `reach` further on in the same region.

    Their numbers are made smaller where they would not fit into a key beside the bits of a document.
    """
    width = max(len(units.words), 1)
    beyond = int(np.searchsorted(level.places, region.size - reach))
    places = level.places[:beyond]
    inside = region[reach:][places] == region[places]
    inside &= enough[units.codes[reach:][places]]
    places, numbers = places[inside], level.numbers[:beyond][inside].astype(np.int64)
    numbers *= width
    numbers += units.codes[reach:][places]
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


def _keys(numbers: Ints, owners: AnyArray, bits: int) -> Ints:
    """For each place the number of its n-gram, and in the last bits that of its document. The numbers are used up."""
    numbers <<= bits
    numbers |= owners
    return numbers


def _grouped(keys: Ints, bits: int, at_least: int, names_of: Namer, prefix: str) -> tuple[Grams, Ints]:
    """The n-grams in at least so many documents, and their numbers, ascending. keys: as of `_keys`; they are used up."""
    keys, counts = _runs(keys)
    owners = _last_bits(keys, bits)
    keys >>= np.int64(bits)
    firsts = _places_of(_changes(keys))
    frequency = narrow(np.diff(firsts, append=firsts.dtype.type(keys.size)))
    seen_once = int((counts[firsts[frequency == 1]] == 1).sum())
    distinct = int(firsts.size)
    enough = frequency >= at_least
    frequent = keys[firsts[enough]]
    del keys, firsts
    if at_least > 1:
        inside = np.repeat(enough, frequency)
        owners, counts = owners[inside], counts[inside]
    columns = np.repeat(np.arange(frequent.size, dtype=np.int32), frequency[enough])
    names = names_of(frequent)
    cells = Triplets(owners, columns, counts, frequent.size)
    return Grams([prefix + name for name in names] if prefix else names, cells, distinct, seen_once), frequent


def _runs(keys: Ints) -> tuple[Ints, AnyArray]:
    """The distinct keys, ascending, and how often each comes. The keys given are sorted in place and lost."""
    keys.sort()
    new = _changes(keys)
    begins = _places_of(new)
    counts = narrow(np.diff(begins, append=begins.dtype.type(keys.size)))
    for begin in range(0, begins.size, _AT_ONCE):  # each moves to the front, so none is lost before its turn
        end = min(begin + _AT_ONCE, begins.size)
        keys[begin:end] = keys[begins[begin:end]]
    return keys[: begins.size], counts


def _places_of(marks: Bools) -> AnyArray:
    """Where marks are true, worked out piece by piece."""
    places = np.empty(np.count_nonzero(marks), dtype=np.int32 if marks.size < np.iinfo(np.int32).max else np.int64)
    at = 0
    for begin in range(0, marks.size, _AT_ONCE):
        found = np.flatnonzero(marks[begin : begin + _AT_ONCE])
        found += begin
        places[at : at + found.size] = found
        at += found.size
    return places


def _last_bits(keys: Ints, bits: int) -> AnyArray:
    """The number in the last so many bits of each key."""
    mask = (1 << bits) - 1
    numbers = np.empty(keys.size, dtype=np.min_scalar_type(mask))
    return np.bitwise_and(keys, mask, out=numbers, casting="unsafe")


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
        np.zeros(0, dtype=np.int64),
    )


def _regions(owner: AnyArray, sentences: Ints) -> Ints:
    """A number for each stretch of units that belong to one sentence of one document."""
    ends = np.flatnonzero((owner[1:] != owner[:-1]) | (np.diff(sentences) != 0))
    return np.searchsorted(ends, np.arange(owner.size)).astype(np.int64)
