"""The default tokeniser: all documents of a block at once, by array operations on their UTF-8 bytes.

A token is a longest run of characters of words (see `characters`). The method, in the order of the code:

1. The documents are joined with line ends, and each byte gets the class of its character.
2. A mask says which bytes are inside tokens; its edges are the tokens' starts and ends.
3. Each token is read as 64-bit words straight from the bytes. Up to eight bytes, the word itself is the token's key;
   a longer one gets a hash of its words, and one beyond all measure a number, marked as such.
4. The keys are factorised once, and every longer token is compared with the first of its key, so that two tokens with one
   hash are noticed; that block is then factorised by its strings. The result is exact.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pandas as pd

from upsort.core.arrays import AnyArray, Bools, Bytes, Codes, Ints, Keys, Places
from upsort.core.text.characters import DIGIT, DIGIT_INNER, IDEOGRAPH, INNER, MARK, OTHER, byte_classes

_BYTES_PER_WORD = 8
_MULTIPLIER = np.uint64(0x9E3779B97F4A7C15)  # 2^64 divided by the golden ratio: Knuth, vol. 3, section 6.4
_SHIFT = np.uint64(29)
_LINE_END = 10
_MAY_END_SENTENCE = np.isin(np.arange(256), list(b".!?\n"))
_AFTER_SENTENCE = np.isin(np.arange(256), list(b" \n\r\t\"')]"))
_LONGEST_HASHED = 64  # bytes; longer tokens are rare, and no words
# The marks of the keys of longer tokens: no byte of UTF-8 text is 0xFE or 0xFF, so no short token has them.
_HASHED, _NUMBERED = np.uint64(0xFF << 56), np.uint64(0xFE << 56)
_AFTER_CONTINUING = -64  # bytes that continue a character, 0x80 to 0xBF, are below it as signed numbers
_MASKS = np.array([(1 << (8 * n)) - 1 for n in range(_BYTES_PER_WORD + 1)], dtype=np.uint64)


@dataclass(frozen=True)
class Tokens:
    """The tokens of a block of documents.

    words: the distinct tokens.
    codes: (n_tokens,) int32, which of `words` stands at each place.
    starts: (n_documents + 1,) int64; document d owns the places starts[d] up to starts[d + 1].
    sentences: (n_tokens,) int64, a number that grows at the end of each sentence; empty where it was not asked for.
    """

    words: list[str]
    codes: Codes
    starts: Ints
    sentences: Ints


def tokenise(documents: Sequence[str], with_sentences: bool = False, ascii_lower: bool = False) -> Tokens:
    """Cut documents into words (letters, digits, and the marks, apostrophes and hyphens inside words).

    ascii_lower: lower-case the letters A to Z first.
    """
    joined = "\n".join([*documents, "\n" * (_BYTES_PER_WORD - 1)])
    raw = joined.encode("utf-8", "surrogatepass")
    if ascii_lower:
        raw = raw.lower()
    text = np.frombuffer(raw, dtype=np.uint8)
    begins, ends = _token_edges(raw, text)
    document_begins = np.zeros(len(documents) + 1, dtype=np.int64)
    np.cumsum([len(document) + 1 for document in documents], out=document_begins[1:])
    if len(raw) != len(joined):
        document_begins = _byte_places(text, document_begins)
    starts = np.searchsorted(begins, document_begins).astype(np.int64)
    codes, first = _factorise(text, begins, ends)
    pieces = [raw[begin:end] for begin, end in zip(begins[first].tolist(), ends[first].tolist(), strict=True)]
    words = b"\n".join(pieces).decode("utf-8").split("\n") if pieces else []
    sentences = _sentences(text, begins) if with_sentences else np.zeros(0, dtype=np.int64)
    return Tokens(words, codes, starts, sentences)


def _byte_places(text: Bytes, character_places: Ints) -> Ints:
    """At which byte of UTF-8 text the characters of these numbers begin."""
    continuing = np.flatnonzero(text.view(np.int8) < _AFTER_CONTINUING)
    owners = continuing - np.arange(1, continuing.size + 1)  # the number of the character that each belongs to
    return character_places + np.searchsorted(owners, character_places)


def _sentences(text: Bytes, begins: Places) -> Ints:
    """For each token how many sentences end before it: at . ! ? before white space or a closing mark, and at an empty line."""
    candidates = np.flatnonzero(_MAY_END_SENTENCE[text[:-1]])
    following = text[candidates + 1]
    line_end = text[candidates] == _LINE_END
    ends = candidates[np.where(line_end, following == _LINE_END, _AFTER_SENTENCE[following])]
    return np.searchsorted(ends, begins).astype(np.int64)


def first_in_document(tokens: Tokens) -> Places:
    """The places of tokens that stand in their document for the first time, ordered by document, then by token number."""
    owner = np.repeat(np.arange(tokens.starts.size - 1), np.diff(tokens.starts))
    pairs = owner * max(len(tokens.words), 1) + tokens.codes
    order = np.argsort(pairs, kind="stable")
    new = np.ones(order.size, dtype=bool)
    new[1:] = pairs[order[1:]] != pairs[order[:-1]]
    return order[new]


def _token_edges(raw: bytes, text: Bytes) -> tuple[Places, Places]:
    """Where tokens begin, and where they end (one past the last byte). text: the bytes `raw` as an array."""
    classes = byte_classes(raw, text)
    inside = classes < OTHER
    special = np.flatnonzero(classes > OTHER)
    kinds = classes[special]
    if (kinds == MARK).any():
        marks = classes == MARK
        inside |= marks & _follows_word(inside, marks)
    _join_inner(text, inside, special[kinds == INNER], inside)
    numeric = special[kinds == DIGIT_INNER]
    if numeric.size:
        _join_inner(text, inside, numeric, classes == DIGIT)
    edges = np.flatnonzero(inside[1:] != inside[:-1]) + 1
    if inside[0]:
        edges = np.concatenate((np.zeros(1, dtype=edges.dtype), edges))
    begins, ends = edges[0::2], edges[1::2]
    alone = special[(kinds == IDEOGRAPH) & ((text[special] & 0xC0) != 0x80)]
    if alone.size:
        sizes = np.where(text[alone] >= 0xF0, 4, 3)
        order = np.argsort(np.concatenate((begins, alone)), kind="stable")
        begins, ends = np.concatenate((begins, alone))[order], np.concatenate((ends, alone + sizes))[order]
    return begins, ends


def _follows_word(inside: Bools, marks: Bools) -> Bools:
    """For each byte, whether the last character before it that is no mark belongs to a word."""
    places = np.arange(marks.size)
    base = np.maximum.accumulate(np.where(marks, 0, places))
    return inside[base]


def _join_inner(
    text: Bytes,
    inside: Bools,
    candidates: Places,
    neighbours: Bools,
) -> None:
    """Mark in `inside` the candidate bytes whose character stands between two characters of `neighbours`."""
    leads = candidates[(text[candidates] & 0xC0) != 0x80]
    leads = leads[leads > 0]
    lead_bytes = text[leads]
    sizes = 1 + (lead_bytes >= 0xC0).astype(np.intp) + (lead_bytes >= 0xE0)
    between = neighbours[leads - 1] & neighbours[leads + sizes]
    leads, sizes = leads[between], sizes[between]
    for offset in range(3):
        inside[leads[sizes > offset] + offset] = True


def _factorise(text: Bytes, begins: Places, ends: Places) -> tuple[Codes, Places]:
    """Number the distinct tokens: (n_tokens,) codes, and for each distinct token the place of its first appearance."""
    lengths = ends - begins
    window = np.ndarray((text.size - _BYTES_PER_WORD + 1,), dtype="<u8", buffer=text, strides=(1,))
    keys = window[begins]
    keys &= _MASKS[np.minimum(lengths, _BYTES_PER_WORD)]
    longer = np.flatnonzero((lengths > _BYTES_PER_WORD) & (lengths <= _LONGEST_HASHED))
    sizes, from_places = lengths[longer], begins[longer]
    hashes = keys[longer]
    parts = [hashes]
    for offset in range(_BYTES_PER_WORD, int(sizes.max(initial=0)), _BYTES_PER_WORD):
        going = np.flatnonzero(sizes > offset)
        words = window[from_places[going] + offset] & _MASKS[np.minimum(sizes[going] - offset, _BYTES_PER_WORD)]
        hashes = hashes.copy()
        hashes[going] = _mixed(hashes[going], words)
        parts.append(np.zeros(longer.size, dtype=np.uint64))
        parts[-1][going] = words
    keys[longer] = hashes | _HASHED
    numbers: dict[bytes, int] = {}
    for place in np.flatnonzero(lengths > _LONGEST_HASHED).tolist():
        token = text[begins[place] : ends[place]].tobytes()
        keys[place] = _NUMBERED | np.uint64(numbers.setdefault(token, len(numbers)))
    codes, first = _first_places(keys)
    if not _same_as_first(codes, first, longer, parts):
        raw = text.tobytes()
        strings = [raw[begin:end] for begin, end in zip(begins.tolist(), ends.tolist(), strict=True)]
        codes, first = _first_places(np.array(strings, dtype=object))
    return codes.astype(np.int32), first


def _first_places(keys: AnyArray) -> tuple[Places, Places]:
    """Number the distinct keys by first appearance; for each, the place of that appearance."""
    codes, distinct = pd.factorize(keys)
    first = np.empty(len(distinct), dtype=np.intp)
    first[codes[::-1]] = np.arange(codes.size - 1, -1, -1)
    return codes, first


def _mixed(keys: Keys, words: Keys) -> Keys:
    """A hash of a key and one more word of the same token (multiply and shift)."""
    half: Keys = (keys ^ (keys >> _SHIFT)) * _MULTIPLIER + words
    return (half ^ (half >> _SHIFT)) * _MULTIPLIER


def _same_as_first(codes: Places, first: Places, longer: Places, parts: list[Keys]) -> bool:
    """Whether every longer token has the bytes of the first token with its key.

    longer: the places of the tokens of more than eight bytes. parts: their bytes, eight at a time, 0 beyond their ends.
    """
    place_among = np.zeros(codes.size, dtype=np.int64)
    place_among[longer] = np.arange(longer.size)
    representative = place_among[first[codes[longer]]]
    return all(np.array_equal(words[representative], words) for words in parts)
