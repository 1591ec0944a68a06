"""The tokeniser: all documents of a block at once, by array operations on their UTF-8 bytes."""

from collections.abc import Iterable, Iterator, Sequence
from itertools import islice

import numpy as np

from upsort.core.arrays import Bools, Bytes, Codes, Ints, Keys, Places, factorize
from upsort.core.lazy import record
from upsort.core.text import characters
from upsort.core.text.step import WordStep

BYTES_PER_WORD = 8
_MOST_KEYS = 1 << 17  # later words are looked up as strings in each block: rare ones, where there are so many
_LONGEST_HASHED = 64  # bytes; longer tokens are rare, and no words
_PARTS = _LONGEST_HASHED // BYTES_PER_WORD
_MULTIPLIER = np.uint64(0x9E3779B97F4A7C15)  # 2^64 divided by the golden ratio: Knuth, vol. 3, section 6.4
_SHIFT = np.uint64(29)
# The marks of the keys of longer tokens: no byte of UTF-8 text is 0xFE or 0xFF, so no short token has them.
_MARK = _HASHED = np.uint64(0xFF << 56)
_NUMBERED = np.uint64(0xFE << 56)
_MASKS = np.array([(1 << (8 * n)) - 1 for n in range(BYTES_PER_WORD + 1)], dtype=np.uint64)


class WordMemory:
    """All distinct words so far, in the order in which they were met.

    form: what becomes of a token as it was cut, such as its lower case; worked out once. words: the forms, by their numbers; the
    same list all the time, and it only grows.

    Each token is read as 64-bit words straight from the bytes. Up to eight bytes, the word itself is the token's key; a longer
    one gets a hash of its words, and one beyond all measure the number of its word, marked as such. The keys met before and those
    of a block are factorised together: only new ones ever become a string. Every longer token is compared with the first of its
    key, so that two tokens with one hash are noticed; that block is then numbered by its strings. The result is exact."""

    def __init__(self, form: WordStep | None = None) -> None:
        self.words: list[str] = []
        self._form = form
        self._numbers: dict[str, int] = {}
        self._keys: Keys = np.zeros(0, dtype=np.uint64)
        self._key_numbers: Codes = np.zeros(0, dtype=np.int32)  # for each key the number of its word
        self._parts: Keys = np.zeros((_PARTS, 0), dtype=np.uint64)  # for each key of a hashed token its bytes

    def number_words(self, words: Iterable[str]) -> Codes:
        """(n_words,) the number of the form of each word."""
        return self.number_forms(words if self._form is None else map(self._form, words))

    def number_forms(self, forms: Iterable[str]) -> Codes:
        """(n_forms,) the number of each form."""
        numbers, before = self._numbers, len(self._numbers)
        rows = np.array([numbers.setdefault(form, len(numbers)) for form in forms], dtype=np.int32)
        self.words.extend([*islice(reversed(numbers), len(numbers) - before)][::-1])
        return rows

    def number_tokens(self, raw: bytes, text: Bytes, begins: Places, ends: Places) -> Codes:
        """(n_tokens,) the number of the word of each token.

        raw, text: UTF-8, as bytes and as an array, with eight bytes beyond the last token. begins, ends: where tokens begin, and
        one past where they end."""
        keys, longer, parts = self._keys_of(raw, text, begins, ends)
        known = self._keys.size
        codes, distinct = factorize(np.concatenate((self._keys, keys)))
        codes = codes[known:]
        unknown = np.flatnonzero(codes >= known)
        first = np.empty(len(distinct) - known, dtype=np.intp)  # where each new key represents the first time
        first[codes[unknown[::-1]] - known] = unknown[::-1]
        all_parts = self._parts
        if first.size:
            new_parts = np.zeros((_PARTS, first.size), dtype=np.uint64)
            hashed = np.flatnonzero((distinct[known:] & _MARK) == _HASHED)
            new_parts[: len(parts), hashed] = parts[:, np.searchsorted(longer, first[hashed])]
            all_parts = np.concatenate((all_parts, new_parts), axis=1)
        if any(not np.array_equal(first_of[codes[longer]], own) for first_of, own in zip(all_parts, parts, strict=False)):
            return self._number_pieces(raw, begins, ends)
        numbers = np.concatenate((self._key_numbers, self._number_pieces(raw, begins[first], ends[first])))
        self._keys, self._key_numbers = distinct[:_MOST_KEYS], numbers[:_MOST_KEYS]
        self._parts = all_parts[:, :_MOST_KEYS]
        return numbers[codes]

    def _number_pieces(self, raw: bytes, begins: Places, ends: Places) -> Codes:
        """The numbers of tokens by their strings."""
        if not begins.size:
            return np.zeros(0, dtype=np.int32)
        pieces = [raw[begin:end] for begin, end in zip(begins.tolist(), ends.tolist(), strict=True)]
        return self.number_words(b"\n".join(pieces).decode("utf-8").split("\n"))

    def _keys_of(self, raw: bytes, text: Bytes, begins: Places, ends: Places) -> tuple[Keys, Places, Keys]:
        """The key of each token; of those that have a hash the places, and their bytes, (n_parts, n_hashed), 0 beyond the end."""
        lengths = ends - begins
        window = np.ndarray((text.size - BYTES_PER_WORD + 1,), dtype="<u8", buffer=text, strides=(1,))
        keys = window[begins]
        keys &= _MASKS[np.minimum(lengths, BYTES_PER_WORD)]
        longer = np.flatnonzero((lengths > BYTES_PER_WORD) & (lengths <= _LONGEST_HASHED))
        sizes, from_places = lengths[longer], begins[longer]
        hashes = keys[longer]
        parts = np.zeros((-(-int(sizes.max(initial=0)) // BYTES_PER_WORD), longer.size), dtype=np.uint64)
        parts[:1] = hashes
        for part, offset in enumerate(range(BYTES_PER_WORD, int(sizes.max(initial=0)), BYTES_PER_WORD), start=1):
            open_words = np.flatnonzero(sizes > offset)
            words = window[from_places[open_words] + offset] & _MASKS[np.minimum(sizes[open_words] - offset, BYTES_PER_WORD)]
            hashes[open_words] = _mixed(hashes[open_words], words)
            parts[part, open_words] = words
        keys[longer] = hashes | _HASHED
        for place in np.flatnonzero(lengths > _LONGEST_HASHED).tolist():
            number = self._number_pieces(raw, begins[place : place + 1], ends[place : place + 1])
            keys[place] = _NUMBERED | np.uint64(number[0])
        return keys, longer, parts


def _mixed(keys: Keys, words: Keys) -> Keys:
    """A hash of a key and one more word of the same token (multiply and shift)."""
    half: Keys = (keys ^ (keys >> _SHIFT)) * _MULTIPLIER + words
    return (half ^ (half >> _SHIFT)) * _MULTIPLIER


_LINE_END, _FULL_STOP = 10, 46
_MAY_END_SENTENCE = np.isin(np.arange(256), list(b".!?\n"))
_AFTER_SENTENCE = np.isin(np.arange(256), list(b" \n\r\t\"')]\xe2\xc2"))  # quotation marks begin with the last two
_WIDE_ENDS = tuple(mark.encode() for mark in characters.SENTENCE_ENDS if not mark.isascii())
_AFTER_CONTINUING = -64  # bytes that continue a character, 0x80 to 0xBF, are below it as signed numbers


@record(frozen=True)
class Tokens:
    """The tokens of a block of documents.

    words: the distinct tokens; where several blocks share a memory of words, all words that it has met. codes: (n_tokens,) int32,
    which of `words` stands at each place.
    starts: (n_documents + 1,) int64; document d owns the places starts[d] up to starts[d + 1]. sentences: (n_tokens,) int64, a
    number that grows at the end of each sentence; empty where it was not asked for."""

    words: list[str]
    codes: Codes
    starts: Ints
    sentences: Ints


def tokenise(
    documents: Sequence[str], sentences_in: str | None = None, ascii_lower: bool = False, memory: WordMemory | None = None
) -> Tokens:
    """Cut documents into words (letters, digits, and the marks, apostrophes and hyphens inside words).

    sentences_in: the language whose sentences are to be distinguished, where that is asked for. ascii_lower: lower-case the
    letters A to Z first. memory: what numbers the words; a fresh one without.

    A token is a longest run of characters of words (see `characters`). The method, in the order of the code:

    1. The documents are joined with line ends, and each byte gets the class of its character.
    2. A mask says which bytes are inside tokens; its edges are the tokens' starts and ends.
    3. A memory of words numbers the tokens, see `WordMemory`."""
    memory = memory or WordMemory()
    joined = "\n".join([*documents, "\n" * (BYTES_PER_WORD - 1)])
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
    codes = memory.number_tokens(raw, text, begins, ends)
    sentences = np.zeros(0, dtype=np.int64)
    if sentences_in is not None:
        sentences = _sentences(raw, text, (begins, ends), sentences_in)
    return Tokens(memory.words, codes, starts, sentences)


def _byte_places(text: Bytes, character_places: Ints) -> Ints:
    """At which byte of UTF-8 text the characters of these numbers begin."""
    continuing = np.flatnonzero(text.view(np.int8) < _AFTER_CONTINUING)
    owners = continuing - np.arange(1, continuing.size + 1)  # the number of the character that each belongs to
    return character_places + np.searchsorted(owners, character_places)


def _sentences(raw: bytes, text: Bytes, edges: tuple[Places, Places], language: str) -> Ints:
    """For each token how many sentences end before it: at . ! ? before white space or a closing mark, at the marks that need
    none, and at an empty line; at no full stop that belongs to the word before it. edges: where tokens begin and end."""
    begins, ends = edges
    candidates = np.flatnonzero(_MAY_END_SENTENCE[text[:-1]])
    following = text[candidates + 1]
    line_end = text[candidates] == _LINE_END
    sentence_ends = candidates[np.where(line_end, following == _LINE_END, _AFTER_SENTENCE[following])]
    token = np.searchsorted(ends, sentence_ends)
    touching = (text[sentence_ends] == _FULL_STOP) & (token < ends.size)
    touching[touching] &= ends[token[touching]] == sentence_ends[touching]
    keeps = np.ones(sentence_ends.size, dtype=bool)
    for place in np.flatnonzero(touching).tolist():
        word = raw[begins[token[place]] : sentence_ends[place]].decode("utf-8", "surrogatepass")
        keeps[place] = not characters.ends_no_sentence(word, language)
    wide = [place for mark in _WIDE_ENDS for place in _all_places(raw, mark)]
    every = np.concatenate((sentence_ends[keeps], np.array(wide, dtype=sentence_ends.dtype)))
    return np.searchsorted(np.sort(every), begins).astype(np.int64)


def _all_places(raw: bytes, part: bytes) -> Iterator[int]:
    place = raw.find(part)
    while place >= 0:
        yield place
        place = raw.find(part, place + 1)


def first_in_document(tokens: Tokens) -> Places:
    """The places of tokens that are in their document for the first time, ordered by document, then by token number."""
    owner = np.repeat(np.arange(tokens.starts.size - 1), np.diff(tokens.starts))
    pairs = owner * max(len(tokens.words), 1) + tokens.codes
    order = np.argsort(pairs, kind="stable")
    new = np.ones(order.size, dtype=bool)
    new[1:] = pairs[order[1:]] != pairs[order[:-1]]
    return order[new]


def _token_edges(raw: bytes, text: Bytes) -> tuple[Places, Places]:
    """Where tokens begin, and where they end (one past the last byte). text: the bytes `raw` as an array."""
    classes = characters.byte_classes(raw, text)
    inside = classes < characters.OTHER
    special = np.flatnonzero(classes > characters.OTHER)
    kinds = classes[special]
    if (kinds == characters.MARK).any():
        combining = classes == characters.MARK
        inside |= combining & _follows_word(inside, combining)
    _join_inner(text, inside, special[kinds == characters.INNER], inside)
    numeric = special[kinds == characters.DIGIT_INNER]
    if numeric.size:
        _join_inner(text, inside, numeric, classes == characters.DIGIT)
    edges = np.flatnonzero(inside[1:] != inside[:-1]) + 1
    if inside[0]:
        edges = np.concatenate((np.zeros(1, dtype=edges.dtype), edges))
    begins, ends = edges[0::2], edges[1::2]
    alone = special[(kinds == characters.IDEOGRAPH) & ((text[special] & 0xC0) != 0x80)]
    if alone.size:
        sizes = np.where(text[alone] >= 0xF0, 4, 3)
        order = np.argsort(np.concatenate((begins, alone)), kind="stable")
        begins, ends = np.concatenate((begins, alone))[order], np.concatenate((ends, alone + sizes))[order]
    return begins, ends


def _follows_word(inside: Bools, combining: Bools) -> Bools:
    """For each byte, whether the last character before it that is no mark belongs to a word."""
    places = np.arange(combining.size)
    base = np.maximum.accumulate(np.where(combining, 0, places))
    return inside[base]


def _join_inner(text: Bytes, inside: Bools, candidates: Places, neighbours: Bools) -> None:
    """Mark in `inside` the candidate bytes whose character stands between two characters of `neighbours`."""
    leads = candidates[(text[candidates] & 0xC0) != 0x80]
    leads = leads[leads > 0]
    lead_bytes = text[leads]
    sizes = 1 + (lead_bytes >= 0xC0).astype(np.intp) + (lead_bytes >= 0xE0)
    between = neighbours[leads - 1] & neighbours[leads + sizes]
    leads, sizes = leads[between], sizes[between]
    for offset in range(3):
        inside[leads[sizes > offset] + offset] = True
