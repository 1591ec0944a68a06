"""Compiled passes over UTF-8 text, whose tokens are found, numbered and looked up in one go, and over fingerprints.

Loading this module takes some tenths of a second, and compiling seconds, once: the compiled code is kept next to the module, or
in the user's cache. All functions release the interpreter lock."""

from collections.abc import Callable
from typing import Any

import numba
import numpy as np

_DIGIT, _INNER, _DIGIT_INNER, _IDEOGRAPH, _MARK, _UNKNOWN = 1, 3, 4, 5, 6, 255  # classes of `characters`; below 2: in words
DONE, CLASS_MISSING, TABLE_FULL = range(3)


def compiled(function: Callable[..., Any]) -> Callable[..., Any]:
    """Compile a function at its first call, and keep the result where there is a place for it."""
    choices: dict[str, Any] = {"nogil": True, "fastmath": True}
    try:
        return numba.njit(cache=True, **choices)(function)  # type: ignore[no-any-return]
    except RuntimeError:  # no place where what is compiled could be kept
        return numba.njit(**choices)(function)  # type: ignore[no-any-return]


@compiled
def _character(raw, place, classes):  # type: ignore[no-untyped-def]
    """The code point at a place (RFC 3629, section 3), its class and its bytes."""
    lead = np.int64(raw[place])
    if lead < 0x80:
        return lead, np.int64(classes[lead]), 1
    point = np.int64(raw[place + 1] & 0x3F)
    if lead < 0xE0:
        point |= (lead & 0x1F) << 6
        return point, np.int64(classes[point]), 2
    point = (point << 6) | np.int64(raw[place + 2] & 0x3F)
    if lead < 0xF0:
        point |= (lead & 0x0F) << 12
        return point, np.int64(classes[point]), 3
    point = (point << 6) | np.int64(raw[place + 3] & 0x3F) | ((lead & 0x07) << 18)
    return point, np.int64(classes[point]), 4


@compiled
def cut(text, memory, result):  # type: ignore[no-untyped-def]
    """Cut documents into tokens and number them; see `tokeniser` for the rules.

    text: raw, edges, classes, letters and seed. memory: table, known and state. result: codes, starts and spans.

    raw: (bytes,) uint8. edges: (n + 1,) int64, where documents begin. letters: (256,) uint8, what becomes of each byte.
    classes: (code points,) uint8, a class each, or 255 where it is not known yet. table: (slots, 2) uint64, a power of two of
    slots, each a hash and (number << 32 | place + 1) of a token, or zeros. known: uint8, the distinct tokens, a zero behind each.
    state: int64, the numbers of documents done, of distinct tokens, of bytes of `known`, and of tokens; and the code point whose
    class is missing. codes, starts: the result, as in `Tokens`. spans: (tokens, 2) int64, where each token begins and ends; empty
    where that is not wanted. seed: uint64, another one in each process, so that no text can be made whose tokens collide; the
    result does not depend on it.

    Returns DONE, or what has to be mended before it goes on with the document at which it stopped. A table is at most half full
    (linear probing: Knuth, vol. 3, section 6.4). Tokens with one hash are compared byte by byte."""
    raw, edges, classes, letters, seed = text
    table, known, state = memory
    codes, starts, spans = result
    documents, distinct, used, n = state[0], state[1], state[2], state[3]
    mask, slots = np.uint64(table.shape[0] - 1), table.shape[0]
    for document in range(documents, edges.size - 1):
        place, end = edges[document], edges[document + 1]
        starts[document] = n
        state[0], state[1], state[2], state[3] = document, distinct, used, n
        while place < end:
            point, kind, width = _character(raw, place, classes)
            if kind == _UNKNOWN:
                state[1], state[2], state[4] = distinct, used, point
                return CLASS_MISSING
            if kind > _DIGIT and kind != _IDEOGRAPH:
                place += width
                continue
            begin = place
            hashed = seed
            alone = kind == _IDEOGRAPH
            while True:
                for at in range(place, place + width):
                    hashed = (hashed ^ np.uint64(letters[raw[at]])) * np.uint64(0x100000001B3)
                place += width
                if place >= end or alone:
                    break
                before = kind
                point, kind, width = _character(raw, place, classes)
                if kind == _INNER or (kind == _DIGIT_INNER and before == _DIGIT):
                    if place + width >= end:
                        break
                    point, following, _ = _character(raw, place + width, classes)
                    if following <= (_DIGIT if kind == _INNER else -1) or (kind == _DIGIT_INNER and following == _DIGIT):
                        continue
                    if following != _UNKNOWN:
                        break
                    kind = following
                if kind == _UNKNOWN:
                    state[1], state[2], state[4] = distinct, used, point
                    return CLASS_MISSING
                if kind > _DIGIT and kind != _MARK:
                    break
            size = place - begin
            hashed ^= hashed >> np.uint64(32)
            slot = hashed & mask
            code = np.int64(-1)
            while table[slot, 1] != 0:
                if table[slot, 0] == hashed:
                    first = np.int64(table[slot, 1] & np.uint64(0xFFFFFFFF)) - 1
                    same = 0
                    while same < size and known[first + same] == letters[raw[begin + same]]:
                        same += 1
                    if same == size and known[first + size] == 0:
                        code = np.int64(table[slot, 1] >> np.uint64(32))
                        break
                slot = (slot + np.uint64(1)) & mask
            if code < 0:
                if 2 * (distinct + 1) > slots or used + size + 1 > known.size:
                    state[1], state[2] = distinct, used
                    return TABLE_FULL
                code = distinct
                table[slot, 0] = hashed
                table[slot, 1] = (np.uint64(code) << np.uint64(32)) | np.uint64(used + 1)
                for at in range(size):
                    known[used + at] = letters[raw[begin + at]]
                known[used + size] = 0
                used += size + 1
                distinct += 1
            codes[n] = code
            if spans.size:
                spans[n, 0], spans[n, 1] = begin, place
            n += 1
    starts[edges.size - 1] = n
    state[0], state[1], state[2], state[3] = edges.size - 1, distinct, used, n
    return DONE


@compiled
def move(table, larger):  # type: ignore[no-untyped-def]
    """Put the tokens of a table into a larger one, which is empty."""
    mask = np.uint64(larger.shape[0] - 1)
    for row in range(table.shape[0]):
        if table[row, 1] != 0:
            slot = table[row, 0] & mask
            while larger[slot, 1] != 0:
                slot = (slot + np.uint64(1)) & mask
            larger[slot, 0], larger[slot, 1] = table[row, 0], table[row, 1]


@compiled
def least_values(shingles, starts, orders, least):  # type: ignore[no-untyped-def]
    """The least value of each document's shingles in each of some random orders.

    shingles: uint32, of one document after the other, from starts[d] to starts[d + 1]. orders: (2, places) uint32, factors and
    summands. least: (n, places) uint16, the last bits of the result; documents without shingles are left as they are."""
    places = orders.shape[1]
    values = np.empty(places, np.uint32)
    for document in range(starts.size - 1):
        if starts[document] == starts[document + 1]:
            continue
        values[:] = 0xFFFFFFFF
        for at in range(starts[document], starts[document + 1]):
            shingle = shingles[at]
            for place in range(places):
                value = np.uint32(shingle * orders[0, place] + orders[1, place])
                values[place] = min(values[place], value)
        for place in range(places):
            least[document, place] = np.uint16(values[place])


@compiled
def band_keys(signatures, begin, keys):  # type: ignore[no-untyped-def]
    """Four places of each signature from `begin` on, behind the last the first, as one number. signatures: (n, places) uint16.
    keys: (n,) uint64, the result."""
    places = signatures.shape[1]
    for document in range(keys.size):
        key = np.uint64(0)
        for place in range(begin, begin + 4):
            key = (key << np.uint64(16)) | np.uint64(signatures[document, place % places])
        keys[document] = key


@compiled
def not_alone(keys, factor, shift, seen, found):  # type: ignore[no-untyped-def]
    """Mark the keys (uint64) that come more than once, and few others: those that share a bit of a table with another, by the
    bits of key · factor from `shift` on. seen: (bytes, 2) uint8, for keys that came once and more often, zeros. found: (n,) bool,
    the result."""
    for place in range(keys.size):
        slot = (keys[place] * factor) >> shift
        bit = np.uint8(1 << (slot & np.uint64(7)))
        if seen[slot >> np.uint64(3), 0] & bit:
            seen[slot >> np.uint64(3), 1] |= bit
        else:
            seen[slot >> np.uint64(3), 0] |= bit
    for place in range(keys.size):
        slot = (keys[place] * factor) >> shift
        found[place] = (seen[slot >> np.uint64(3), 1] >> (slot & np.uint64(7))) & np.uint64(1)


@compiled
def agreeing(checks, one, other, least, chosen):  # type: ignore[no-untyped-def]
    """Mark the pairs of different documents that agree in enough places. checks: (n, places). one, other: (p,) documents. chosen:
    (p,) bool, the result."""
    places = checks.shape[1]
    for pair in range(one.size):
        first, second = one[pair], other[pair]
        equal = 0
        for place in range(places):
            equal += checks[first, place] == checks[second, place]
        chosen[pair] = equal >= least and first != second


@compiled
def nearest(search, others, allowed, candidates, result):  # type: ignore[no-untyped-def]
    """The greatest similarity of each row of hashes to the documents searched; see `novelty`, whose plain way says the same.

    search, others: hashes (uint32, one row after the other, ascending in each), where each row begins, and until which hash all
    of a row are known; search also: the distinct hashes, ascending, where the documents with each begin, and these. allowed: (n,)
    which documents count. candidates: how many are compared at most. result: (rows,)."""
    hashes, starts, until, distinct, begins, documents = search
    theirs, their_starts, their_until = others
    times, touched = np.zeros(allowed.size, np.int32), np.empty(allowed.size, np.int32)
    best = np.empty(candidates, np.int32)
    for row in range(their_starts.size - 1):
        begin, end = their_starts[row], their_starts[row + 1]
        met, most = 0, 0
        for at in range(begin, end):
            place, beyond = 0, distinct.size
            while place < beyond:
                middle = (place + beyond) // 2
                if distinct[middle] < theirs[at]:
                    place = middle + 1
                else:
                    beyond = middle
            if place == distinct.size or distinct[place] != theirs[at]:
                continue
            for document in documents[begins[place] : begins[place + 1]]:
                if allowed[document]:
                    if times[document] == 0:
                        touched[met] = document
                        met += 1
                    times[document] += 1
                    most = max(most, times[document])
        n = 0
        for document in touched[:met]:
            often = times[document]
            if 2 * often < most:
                continue
            place = n
            while place > 0 and (
                often > times[best[place - 1]] or (often == times[best[place - 1]] and document < best[place - 1])
            ):
                place -= 1
            if place < candidates:
                n = min(n + 1, candidates)
                for at in range(n - 1, place, -1):
                    best[at] = best[at - 1]
                best[place] = document
        for chosen in best[:n]:
            limit = min(their_until[row], until[chosen])
            one, other, common, either = begin, starts[chosen], 0, 0
            while True:
                left = np.int64(theirs[one]) if one < end else limit + 1
                right = np.int64(hashes[other]) if other < starts[chosen + 1] else limit + 1
                if left > limit and right > limit:
                    break
                common += left == right
                either += 1
                one += left <= right
                other += right <= left
            result[row] = max(result[row], common / max(either, 1))
        for document in touched[:met]:
            times[document] = 0


@compiled
def pairs(text, table, result, state):  # type: ignore[no-untyped-def]
    """Number the pairs of what is at each place and the unit `reach` places further on in the same document and sentence.

    text: numbers (places,) int32 of what is there, −1 where nothing is to be paired; codes (places,) int32 of units; usable,
    for each unit whether it is paired; starts and sentences, as in `Tokens`; reach. table: (slots, 2) uint64, a power of two of
    slots, each a mixed pair and its number + 1, or zeros. result: (places,) int32, the number of each pair, −1 where there is
    none; firsts and lasts, the two sides of each pair. state: int64, the numbers of documents done, and of pairs.

    Returns DONE, or TABLE_FULL before the document that it could not do."""
    numbers, codes, usable, starts, sentences, reach = text
    paired, firsts, lasts = result
    mask, slots = np.uint64(table.shape[0] - 1), table.shape[0]
    n = state[1]
    for document in range(state[0], starts.size - 1):
        state[0], state[1] = document, n
        begin, end = starts[document], starts[document + 1]
        for place in range(begin, end):
            paired[place] = -1
            other = place + reach
            if other >= end or numbers[place] < 0 or not usable[codes[other]]:
                continue
            if sentences.size and sentences[place] != sentences[other]:
                continue
            mixed = ((np.uint64(numbers[place]) << np.uint64(32)) | np.uint64(codes[other])) * np.uint64(0x9E3779B97F4A7C15)
            mixed ^= mixed >> np.uint64(32)  # each step can be undone, so that no two pairs are mixed up
            slot = mixed & mask
            while table[slot, 1] != 0 and table[slot, 0] != mixed:
                slot = (slot + np.uint64(1)) & mask
            if table[slot, 1] == 0:
                if 2 * (n + 1) > slots:
                    state[1] = n
                    return TABLE_FULL
                table[slot, 0], table[slot, 1] = mixed, np.uint64(n + 1)
                firsts[n], lasts[n] = numbers[place], codes[other]
                n += 1
            paired[place] = np.int64(table[slot, 1]) - 1
    state[0], state[1] = starts.size - 1, n
    return DONE


@compiled
def count(numbers, starts, seen, cells):  # type: ignore[no-untyped-def]
    """Count how often each number occurs in each document, in the order in which each first occurs there.

    numbers: (places,) int32, −1 for nothing. seen: (distinct, 2) int64 of −1, the last document and cell of each number. cells:
    rows, columns and counts, (places,) int32 each, the result. Returns how many cells there are."""
    rows, columns, counts = cells
    n = 0
    for document in range(starts.size - 1):
        for place in range(starts[document], starts[document + 1]):
            number = numbers[place]
            if number < 0:
                continue
            if seen[number, 0] == document:
                counts[seen[number, 1]] += 1
                continue
            seen[number, 0], seen[number, 1] = document, n
            rows[n], columns[n], counts[n] = document, number, 1
            n += 1
    return n
