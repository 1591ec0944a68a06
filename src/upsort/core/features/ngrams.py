"""N-grams: terms made of neighbouring words, or of neighbouring letters, found by sorting numbers.

An n-gram is a number: that of its first n − 1 units times the number of distinct units, plus the number of its last. Such a
number and the number of its document, side by side in one 64-bit key, are sorted once; the runs of the sorted keys are all that
there is to know: which n-grams there are, in how many documents, how often in each. What is in too few documents never gets a
name, and no n-gram is built on a beginning that does.

N-grams with different first units have nothing to do with each other. So they are found part by part, each part those that begin
with some of the units: that bounds the memory next to the result, and threads can share the parts."""

from collections.abc import Callable
from dataclasses import field

import numpy as np

from upsort.core.arrays import AnyArray, Bools, Ints, WordKeys, factorize, word_keys
from upsort.core.executors import map_threads
from upsort.core.lazy import record
from upsort.core.matrices.sparse import Triplets, balanced_ranges, narrow
from upsort.core.plan import Features
from upsort.core.text.characters import joined_words
from upsort.core.text.tokeniser import Tokens, with_present_words

GAP = "…"
"""Represents the word left out of a pair with a gap: `leaves … brown`."""

_KEY_BITS = 63
_PIECE = 1 << 18
Namer = Callable[[Ints], AnyArray]
"""Gives the names of n-grams, as an array of strings."""


@record(frozen=True, kw_only=True)
class Grams:
    """The terms of one length.

    names: the terms in at least so many documents as was asked for. cells: how often each is in each document. distinct,
    seen_once: of all terms, those in too few documents included. rare: the keys of words in too few documents."""

    names: list[str]
    cells: Triplets
    distinct: int
    seen_once: int
    rare: WordKeys = field(default_factory=lambda: word_keys(()))


@record(frozen=True)
class _Level:
    """The n-grams of one length: where they stand, and how they are distinguished and named.

    places: where each begins. numbers: which it is, below `span`."""

    places: AnyArray
    numbers: AnyArray
    span: int
    names_of: Namer


def grams_of(units: Tokens, settings: Features, at_least: int = 1, suffix: str = "", threads: int = 1) -> list[Grams]:
    """The terms of documents: single units first, where they are asked for, then parts of the longer ones and those with a gap.

    units: words or letters of all documents. at_least: documents that a term must are in. suffix: what each name ends with."""
    units = _in_order(with_present_words(units))
    singles, enough = _single_units(units, at_least, suffix, threads)
    levels = [singles] if min(settings.lengths) == 1 else []
    if max(settings.lengths) == 1 and not settings.skip:
        return levels
    documents = units.starts.size - 1
    owner = narrow(np.repeat(np.arange(documents, dtype=np.int32), np.diff(units.starts)))
    region = _regions(owner, units.sentences) if settings.within_sentences else owner
    words = np.array(units.words, dtype=object)
    text = _Text(
        units=units,
        words=words,
        enough=enough,
        owner=owner,
        region=region,
        bits=max(documents - 1, 1).bit_length(),
        at_least=at_least,
        suffix=suffix,
    )
    parts = map_threads(lambda bounds: _longer(text, settings, *bounds), _parts(units, threads), threads)
    return levels + [grams for part in parts for grams in part]


@record(frozen=True, kw_only=True)
class _Text:
    """What the parts share.

    words: those of the units, as an array. enough: which units are in enough documents. owner: the document of each place.
    region: the same, or a number for each sentence. bits: that the number of a document takes."""

    units: Tokens
    words: AnyArray
    enough: Bools
    owner: AnyArray
    region: AnyArray
    bits: int
    at_least: int
    suffix: str


def _parts(units: Tokens, threads: int) -> list[tuple[int, int]]:
    """Ranges of units that begin about as many n-grams each."""
    before = np.zeros(len(units.words) + 1, dtype=np.int64)
    np.cumsum(np.bincount(units.codes, minlength=len(units.words)), out=before[1:])
    return balanced_ranges(before, threads)


def _longer(text: _Text, settings: Features, begin: int, end: int) -> list[Grams]:
    """The terms of more than one unit whose first is one of those from `begin` up to `end`."""
    units, longest = text.units, max(settings.lengths)
    begins = units.codes >= begin
    begins &= units.codes < end
    places = _places_of(begins)
    places = places[text.enough[units.codes[places]]]
    level = first = _Level(places, units.codes[places], max(len(units.words), 1), text.words.__getitem__)
    levels: list[Grams] = []
    joiner = " " if settings.units == "words" else ""
    for length in range(2, longest + 1):
        level = _extended(level, text, length - 1, joiner)
        grams, frequent = _grouped(level, text)
        if length >= min(settings.lengths):
            levels.append(grams)
        if length < longest and text.at_least > 1:
            frequent_rows = np.isin(level.numbers, frequent)
            level = _Level(level.places[frequent_rows], level.numbers[frequent_rows], level.span, level.names_of)
    if settings.skip and settings.units == "words":
        levels.append(_grouped(_extended(first, text, 2, f" {GAP} "), text)[0])
    return levels


def _in_order(units: Tokens) -> Tokens:
    """The same units, numbered in the order of their spelling, in which nearly all n-grams then come too."""
    order = sorted(range(len(units.words)), key=units.words.__getitem__)
    rank = np.empty(len(order), dtype=np.int32)
    rank[order] = np.arange(len(order), dtype=np.int32)
    codes = rank[units.codes] if order else units.codes
    return Tokens([units.words[place] for place in order], codes, units.starts, units.sentences)


def _single_units(units: Tokens, at_least: int, suffix: str, threads: int) -> tuple[Grams, Bools]:
    """The units themselves as terms, and which of them are in enough documents."""
    width = len(units.words)
    totals = np.bincount(units.codes, minlength=width)
    bits = max(width - 1, 1).bit_length()

    def counted(bounds: tuple[int, int]) -> tuple[AnyArray, AnyArray, AnyArray]:
        begin, end = bounds
        sizes = np.diff(units.starts[begin : end + 1])
        keys = np.repeat(np.arange(begin, end) << bits, sizes)
        keys |= units.codes[units.starts[begin] : units.starts[end]]
        keys, counts = _runs(keys)
        columns = _last_bits(keys, bits)
        keys >>= bits
        return narrow(keys), columns, counts

    pieces = map_threads(counted, balanced_ranges(units.starts, threads), threads)
    rows, columns, counts = (np.concatenate(arrays) for arrays in zip(*pieces, strict=True))
    del pieces
    enough = np.bincount(columns, minlength=width) >= at_least
    frequent = np.flatnonzero(enough)
    cells = Triplets(rows, columns, counts, width)
    if frequent.size < width:
        place = np.cumsum(enough, dtype=np.int32) - 1
        inside = enough[columns]
        cells = Triplets(rows[inside], place[columns[inside]], counts[inside], frequent.size)
    names = [units.words[number] + suffix for number in frequent.tolist()]
    rare = word_keys(units.words[number] + suffix for number in np.flatnonzero((totals > 0) & ~enough).tolist())
    once = int((totals == 1).sum())
    return Grams(names=names, cells=cells, distinct=int((totals > 0).sum()), seen_once=once, rare=rare), enough


def _extended(level: _Level, text: _Text, reach: int, joiner: str) -> _Level:
    """N-grams one unit longer: the beginnings of `level`, each with the unit `reach` further on in the same region.

    Their numbers are made smaller where they would not fit into a key next to the bits of a document."""
    units, region = text.units, text.region
    width = max(len(units.words), 1)
    beyond = int(np.searchsorted(level.places, region.size - reach))
    places = level.places[:beyond]
    inside = region[reach:][places] == region[places]
    inside &= text.enough[units.codes[reach:][places]]
    places, numbers = places[inside], level.numbers[:beyond][inside].astype(np.int64)
    numbers *= width
    numbers += units.codes[reach:][places]
    span = level.span * width
    distinct: Ints | None = None
    if span.bit_length() + text.bits > _KEY_BITS - 8:  # room for a further unit of few kinds
        codes, distinct = factorize(numbers)
        numbers, span = codes.astype(np.int64), max(len(distinct), 1)

    def names_of(chosen: Ints) -> AnyArray:
        originals = chosen if distinct is None else distinct[chosen]
        names: AnyArray = level.names_of(originals // width) + (joiner + text.words)[originals % width]
        return names

    return _Level(places, numbers, span, names_of)


def _grouped(level: _Level, text: _Text) -> tuple[Grams, Ints]:
    """The n-grams in enough documents, and their numbers, ascending."""
    bits = text.bits
    keys = level.numbers << np.int64(bits)
    keys |= text.owner[level.places]
    keys, counts = _runs(keys)
    owners = _last_bits(keys, bits)
    keys >>= np.int64(bits)
    firsts = _places_of(_changes(keys))
    frequency = narrow(np.diff(firsts, append=firsts.dtype.type(keys.size)))
    seen_once = int((counts[firsts[frequency == 1]] == 1).sum())
    distinct = int(firsts.size)
    enough = frequency >= text.at_least
    frequent = keys[firsts[enough]]
    del keys, firsts
    if text.at_least > 1:
        inside = np.repeat(enough, frequency)
        owners, counts = owners[inside], counts[inside]
    columns = np.repeat(np.arange(frequent.size, dtype=np.int32), frequency[enough])
    names = level.names_of(frequent)
    cells = Triplets(owners, columns, counts, frequent.size)
    called = (names + text.suffix if text.suffix else names).tolist()
    return Grams(names=called, cells=cells, distinct=distinct, seen_once=seen_once), frequent


def _runs(keys: Ints) -> tuple[Ints, AnyArray]:
    """The distinct keys, ascending, and how often each comes. The keys given are sorted in place and lost."""
    keys.sort()
    new = _changes(keys)
    begins = _places_of(new)
    counts = narrow(np.diff(begins, append=begins.dtype.type(keys.size)))
    for begin in range(0, begins.size, _PIECE):  # each moves to the front, so none is lost before its turn
        end = min(begin + _PIECE, begins.size)
        keys[begin:end] = keys[begins[begin:end]]
    return keys[: begins.size], counts


def _places_of(flags: Bools) -> AnyArray:
    """Where marks are true, worked out piece by piece."""
    places = np.empty(np.count_nonzero(flags), dtype=np.int32 if flags.size < np.iinfo(np.int32).max else np.int64)
    at = 0
    for begin in range(0, flags.size, _PIECE):
        positions = np.flatnonzero(flags[begin : begin + _PIECE])
        positions += begin
        places[at : at + positions.size] = positions
        at += positions.size
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
    """The characters of cleaned documents, see `joined_words`."""
    texts = [
        joined_words([tokens.words[code] for code in tokens.codes[begin:end].tolist()])
        for begin, end in zip(tokens.starts[:-1].tolist(), tokens.starts[1:].tolist(), strict=True)
    ]
    points = np.frombuffer("".join(texts).encode("utf-32-le", "surrogatepass"), dtype="<u4")
    codes, distinct = factorize(points)
    starts = np.concatenate((np.zeros(1, dtype=np.int64), np.cumsum([len(text) for text in texts], dtype=np.int64)))
    return Tokens([chr(point) for point in distinct.tolist()], codes.astype(np.int32), starts, np.zeros(0, dtype=np.int64))


def pairs_of_letters(tokens: Tokens) -> Tokens:
    """The pairs of neighbouring letters in documents without spaces, to show what they are about; other words as they are."""
    texts = [
        [tokens.words[code] for code in tokens.codes[begin:end].tolist()]
        for begin, end in zip(tokens.starts[:-1].tolist(), tokens.starts[1:].tolist(), strict=True)
    ]
    pairs = [
        [piece for word in joined_words(words).split(" ") for piece in ([word] if word.isascii() else _pairs_in(word))]
        for words in texts
    ]
    numbers: dict[str, int] = {}
    codes = np.array([numbers.setdefault(pair, len(numbers)) for row in pairs for pair in row], dtype=np.int32)
    starts = np.concatenate((np.zeros(1, dtype=np.int64), np.cumsum([len(row) for row in pairs], dtype=np.int64)))
    return Tokens(list(numbers), codes, starts, np.zeros(0, dtype=np.int64))


def _pairs_in(word: str) -> list[str]:
    return [word[at : at + 2] for at in range(max(len(word) - 1, 1))] if word else []


def _regions(owner: AnyArray, sentences: Ints) -> Ints:
    """A number for each stretch of units that belong to one sentence of one document."""
    ends = np.flatnonzero((owner[1:] != owner[:-1]) | (np.diff(sentences) != 0))
    return np.searchsorted(ends, np.arange(owner.size)).astype(np.int64)
