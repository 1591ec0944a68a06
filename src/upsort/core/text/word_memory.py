"""Numbers the words that tokens are made of, and remembers them, so that a word met again costs no work on strings.

Each token is read as 64-bit words straight from the bytes. Up to eight bytes, the word itself is the token's key; a longer
one gets a hash of its words, and one beyond all measure the number of its word, marked as such. The keys met before and
those of a block are factorised together: what is new is all that ever becomes a string. Every longer token is compared with
the first of its key, so that two tokens with one hash are noticed; that block is then numbered by its strings. The result is
exact.
"""

from collections.abc import Iterable
from itertools import islice

import numpy as np

from upsort.core.arrays import Bytes, Codes, Keys, Places
from upsort.core.numbering import factorize
from upsort.core.text.resources import WordStep

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

    form: what becomes of a token as it was cut, such as its lower case; worked out once. words: the forms, by their numbers;
    the same list all the time, and it only grows.
    """

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

        raw, text: UTF-8, as bytes and as an array, with eight bytes beyond the last token. begins, ends: where tokens begin,
        and one past where they end.
        """
        keys, longer, parts = self._keys_of(raw, text, begins, ends)
        known = self._keys.size
        codes, distinct = factorize(np.concatenate((self._keys, keys)))
        codes = codes[known:]
        unknown = np.flatnonzero(codes >= known)
        first = np.empty(len(distinct) - known, dtype=np.intp)  # where each new key stands for the first time
        first[codes[unknown[::-1]] - known] = unknown[::-1]
        all_parts = self._parts
        if first.size:
            new_parts = np.zeros((_PARTS, first.size), dtype=np.uint64)
            hashed = np.flatnonzero((distinct[known:] & _MARK) == _HASHED)
            new_parts[: len(parts), hashed] = parts[:, np.searchsorted(longer, first[hashed])]
            all_parts = np.concatenate((all_parts, new_parts), axis=1)
        if any(
            not np.array_equal(first_of[codes[longer]], own) for first_of, own in zip(all_parts, parts, strict=False)
        ):
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
            words = (
                window[from_places[open_words] + offset]
                & _MASKS[np.minimum(sizes[open_words] - offset, BYTES_PER_WORD)]
            )
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
