"""N-grams: terms made of neighbouring words, or of neighbouring letters.

An n-gram is a number: that of the pair of its first n − 1 units and its last, looked up in a table of pairs. What is in too few
documents never gets a name, and no n-gram is built on a beginning that does."""

from collections.abc import Callable
from dataclasses import field, replace
from typing import Any

import numpy as np

from upsort.core.arrays import AnyArray, Bools, Codes, Ints, WordKeys, factorize, word_keys
from upsort.core.lazy import kernels, record
from upsort.core.matrices.sparse import Triplets, narrow
from upsort.core.plan import Features
from upsort.core.text.characters import joined_words
from upsort.core.text.tokeniser import Tokens, with_present_words

GAP = "…"
"""Represents the word left out of a pair with a gap: `leaves … brown`."""

_LARGE = 1 << 19  # units for which loading compiled passes pays
_SLOTS = 1 << 16
OfChosen = Callable[[Any], AnyArray]
"""Gives the names, or keys, of the n-grams of some numbers."""


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


@record(frozen=True, kw_only=True)
class _Level:
    """The n-grams of one length. numbers: (places,) int32, which of them begins at each place of the text, −1 for none. distinct:
    how many there are. keys_of: by which some of them come in the order of their names, or nearly so. ranks: (distinct,) their
    places in that order, once they are counted."""

    numbers: Codes
    distinct: int
    names_of: OfChosen
    keys_of: OfChosen
    ranks: Ints


def grams_of(units: Tokens, settings: Features, at_least: int = 1, suffix: str = "") -> list[Grams]:
    """The terms of documents: single units first, where they are asked for, then the longer ones and those with a gap.

    units: words or letters of all documents. at_least: documents that a term must be in. suffix: what each name ends with."""
    units = _in_order(with_present_words(units))
    if not settings.within_sentences:
        units = Tokens(units.words, units.codes, units.starts, np.zeros(0, dtype=np.int64))
    words = np.array(units.words, dtype=object)
    level = singles = _Level(
        numbers=units.codes,
        distinct=words.size,
        names_of=words.__getitem__,
        keys_of=lambda chosen: chosen,
        ranks=np.arange(words.size),
    )
    grams, enough = _counted(level, units, at_least, suffix)
    if at_least > 1:
        rare = word_keys(name + suffix for name in words[~enough].tolist())
        grams = replace(grams, rare=rare)
    found = [grams] if min(settings.lengths) == 1 else []
    usable, joiner = enough, " " if settings.units == "words" else ""
    for length in range(2, max(settings.lengths) + 1):
        level = _paired(_without(level, enough), units, usable, length - 1, joiner + words)
        grams, enough = _counted(level, units, at_least, suffix)
        if length >= min(settings.lengths):
            found.append(grams)
    if settings.skip and settings.units == "words":
        gapped = _paired(_without(singles, usable), units, usable, 2, f" {GAP} " + words)
        found.append(_counted(gapped, units, at_least, suffix)[0])
    return found


def _in_order(units: Tokens) -> Tokens:
    """The same units, numbered in the order of their spelling."""
    order = sorted(range(len(units.words)), key=units.words.__getitem__)
    rank = np.empty(len(order), dtype=np.int32)
    rank[order] = np.arange(len(order), dtype=np.int32)
    codes = rank[units.codes] if order else units.codes
    return Tokens([units.words[place] for place in order], codes, units.starts, units.sentences)


def _without(level: _Level, enough: Bools) -> _Level:
    """The n-grams that are in enough documents."""
    if enough.all():
        return level
    numbers = level.numbers.copy()
    numbers[~np.append(enough, False)[numbers]] = -1
    return replace(level, numbers=numbers)


def _paired(level: _Level, units: Tokens, usable: Bools, reach: int, endings: AnyArray) -> _Level:
    """N-grams one unit longer: those of `level`, each with the unit `reach` further on in the same document and sentence.

    usable: which units are in enough documents. endings: what each adds to a name."""
    text = (level.numbers, units.codes, usable, units.starts, units.sentences, reach)
    passes, size = kernels(units.codes.size, _LARGE), units.codes.size
    numbers, firsts, lasts = result = np.empty(size, np.int32), np.empty(size, np.int32), np.empty(size, np.int32)
    state = np.zeros(2, dtype=np.int64)
    if passes is None:
        _pairs_one_by_one(text, result, state)
    else:
        table = np.zeros((_SLOTS, 2), dtype=np.uint64)
        while passes.pairs(text, table, result, state) != passes.DONE:
            larger = np.zeros((4 * len(table), 2), dtype=np.uint64)
            passes.move(table, larger)
            table = larger
    distinct = int(state[1])
    firsts, lasts = firsts[:distinct].copy(), lasts[:distinct].copy()

    def names_of(chosen: Ints) -> AnyArray:
        names: AnyArray = level.names_of(firsts[chosen]) + endings[lasts[chosen]]
        return names

    def keys_of(chosen: Ints) -> Ints:
        return (level.ranks[firsts[chosen]] << 32) | lasts[chosen]

    ranks = np.zeros(distinct, dtype=np.int64)
    return _Level(numbers=numbers, distinct=distinct, names_of=names_of, keys_of=keys_of, ranks=ranks)


def _pairs_one_by_one(text: tuple[Any, ...], result: tuple[Codes, Codes, Codes], state: Ints) -> None:
    """As `kernels.pairs`."""
    numbers, codes, usable, starts, sentences, reach = text
    paired, firsts, lasts = result
    known: dict[tuple[int, int], int] = {}
    paired[:] = -1
    owner = np.repeat(np.arange(starts.size - 1), np.diff(starts))
    inside = (owner[reach:] == owner[:-reach]) & (numbers[:-reach] >= 0) & usable[codes[reach:]]
    if sentences.size:
        inside &= sentences[reach:] == sentences[:-reach]
    places = np.flatnonzero(inside)
    both = zip(numbers[places].tolist(), codes[places + reach].tolist(), strict=True)
    paired[places] = [known.setdefault(pair, len(known)) for pair in both]
    state[1] = len(known)
    for side, values in zip((firsts, lasts), zip(*known, strict=True), strict=False):
        side[: len(known)] = values


def _counted(level: _Level, units: Tokens, at_least: int, suffix: str) -> tuple[Grams, Bools]:
    """The n-grams that are in enough documents as terms, and which those are."""
    passes, starts = kernels(units.codes.size, _LARGE), units.starts
    rows: AnyArray
    if passes is None:
        places = np.flatnonzero(level.numbers >= 0)
        owner = np.repeat(np.arange(starts.size - 1), np.diff(starts))[places]
        keys, counts = np.unique(owner * max(level.distinct, 1) + level.numbers[places], return_counts=True)
        rows, columns = np.divmod(keys, max(level.distinct, 1))
    else:
        seen = np.full((level.distinct, 2), -1, dtype=np.int64)
        table = np.empty((3, level.numbers.size), dtype=np.int32)
        rows, columns, counts = table[:, : passes.count(level.numbers, starts, seen, tuple(table))]
    frequency = np.bincount(columns, minlength=level.distinct)
    seen_once = int((counts[frequency[columns] == 1] == 1).sum())
    enough = frequency >= at_least
    chosen = np.flatnonzero(enough)
    chosen = chosen[np.argsort(level.keys_of(chosen))]
    level.ranks[chosen] = np.arange(chosen.size)
    inside = enough[columns]
    rows, columns, counts = rows[inside], level.ranks[columns[inside]], counts[inside]
    names = level.names_of(chosen)
    called = (names + suffix if suffix else names).tolist()
    cells = Triplets(narrow(rows), narrow(columns), narrow(counts), chosen.size)
    return Grams(names=called, cells=cells, distinct=level.distinct, seen_once=seen_once), enough


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
