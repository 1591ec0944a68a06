"""Which characters make words: a class for each byte of UTF-8 text, found with array operations.

The rules follow the word boundaries of Unicode Standard Annex 29, simplified:

- letters, digits and the marks that follow them are inside words;
- an apostrophe, a hyphen, an underscore, a middle dot or a zero-width joiner is inside a word when it stands between two
  characters of words (`don't`, `aphid-free`, `snake_case`);
- a full stop or comma is inside a number when it stands between two digits (`3.50`, `1,000`);
- each ideograph and each hiragana letter is a word of its own.
"""

import unicodedata
from functools import cache, lru_cache

import numpy as np

from upsort.core.arrays import Bytes, Codes, Places
from upsort.core.text.markers import PRIVATE

WORD, DIGIT, OTHER, INNER, DIGIT_INNER, IDEOGRAPH, MARK = range(7)
# Those below OTHER are inside tokens wherever they stand; for those above it, that depends on their neighbours.

_INNER = frozenset("'’-_·\u2010\u2011\u00ad\u200c\u200d")
_DIGIT_INNER = frozenset(".,")
_IDEOGRAPHS = ((0x3041, 0x3096), (0x3400, 0x4DBF), (0x4E00, 0x9FFF), (0xF900, 0xFAFF), (0x20000, 0x3FFFF))
_CODE_POINTS = 0x110000
_FIRST_LEAD = 0xC0  # bytes from here on begin a character of several bytes; those from 0x80 on continue one


@lru_cache(maxsize=8192)
def character_class(character: str) -> int:
    """The class of one character; one of the constants of this module."""
    if character in _INNER:
        return INNER
    if character in PRIVATE:
        return WORD
    if character in _DIGIT_INNER:
        return DIGIT_INNER
    category = unicodedata.category(character)
    if category[0] == "L":
        code = ord(character)
        return IDEOGRAPH if any(low <= code <= high for low, high in _IDEOGRAPHS) else WORD
    if category[0] == "N":
        return DIGIT
    return MARK if category[0] == "M" else OTHER


@cache
def _ascii_classes() -> bytes:
    return bytes(character_class(chr(code)) for code in range(128)) + bytes([OTHER] * 128)


def byte_classes(raw: bytes, text: Bytes) -> Bytes:
    """The class of the character that each byte belongs to.

    raw: n bytes of valid UTF-8 (surrogates passed through). text: the same as an array of uint8.
    Returns (n,) uint8.
    """
    classes = np.frombuffer(raw.translate(_ascii_classes()), dtype=np.uint8)
    if raw.isascii():
        return classes
    classes = classes.copy()
    leads = np.flatnonzero(text >= _FIRST_LEAD)
    code_points = _code_points(text, leads)
    present = np.zeros(_CODE_POINTS, dtype=bool)
    present[code_points] = True
    distinct = np.flatnonzero(present)
    table = np.zeros(_CODE_POINTS, dtype=np.uint8)
    table[distinct] = [character_class(chr(code)) for code in distinct.tolist()]
    classes = table[code_points]
    classes[leads] = classes
    lead_bytes = text[leads]
    classes[leads + 1] = classes
    for smallest_lead, offset in ((0xE0, 2), (0xF0, 3)):
        longer = lead_bytes >= smallest_lead
        classes[leads[longer] + offset] = classes[longer]
    return classes


def _code_points(text: Bytes, leads: Places) -> Codes:
    """The code points of the multi-byte characters that begin at `leads` (RFC 3629, section 3)."""
    lead = text[leads].astype(np.int32)
    code_points = ((lead & 0x1F) << 6) | (text[leads + 1] & 0x3F)
    for smallest_lead, keep, count in ((0xE0, 0x0F, 2), (0xF0, 0x07, 3)):
        longer = lead >= smallest_lead
        at = leads[longer]
        value = lead[longer] & keep
        for offset in range(1, count + 1):
            value = (value << 6) | (text[at + offset] & 0x3F)
        code_points[longer] = value
    return code_points
