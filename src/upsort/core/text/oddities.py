"""Documents that look out of place: broken characters, another script, another language."""

import re
import unicodedata
from collections.abc import Sequence
from functools import cache, lru_cache

import numpy as np

from upsort.core.arrays import Ints
from upsort.core.text.stop_words import LANGUAGES, NAMES, negations, stop_words
from upsort.core.text.tokeniser import Tokens

# UTF-8 read as a Western encoding: a lead byte (Â Ã â …) followed by what its continuation bytes look like there.
_BROKEN = re.compile("[ÂÃ][\x80-\xbf€‚ƒ„…†‡ˆ‰Š‹Œ‘’“”•–—˜™š›œžŸ]|â[€‚„†][\x80-\xbfœ™˜š“”¢¦“˜]|ï¿½|\ufffd")
_FAR_LETTERS = re.compile(r"[^\W\d_\u0000-\u024f\u1e00-\u1eff]")
_LETTERS = re.compile(r"[^\W\d_]")
_LEAST_HITS = 3


def has_broken_characters(text: str) -> bool:
    """Whether the text holds UTF-8 that was read as another encoding, or characters lost in conversion."""
    return not text.isascii() and any(sign in text for sign in "ÃÂâï\ufffd") and _BROKEN.search(text) is not None


def _is_western(text: str) -> bool:
    try:
        text.encode("cp1252")
    except UnicodeEncodeError:
        return False
    return True


@lru_cache(maxsize=4096)
def _script_of(character: str) -> str:
    return unicodedata.name(character, "unknown").split()[0].capitalize()


def other_script(text: str) -> str:
    """The script that most letters of the text are in, where that is not the Latin one; else empty."""
    if text.isascii() or _is_western(text):
        return ""
    far = _FAR_LETTERS.findall(text)
    if 2 * len(far) <= len(_LETTERS.findall(text)):
        return ""
    scripts = [_script_of(character) for character in far]
    return max(sorted(set(scripts)), key=scripts.count)


def stop_word_hits(tokens: Tokens) -> Ints:
    """(n_documents, len(LANGUAGES)) how many tokens of each document are stop words or negations of each language."""
    hits = np.zeros((tokens.starts.size - 1, len(LANGUAGES)), dtype=np.int64)
    known = _languages_by_word()
    bits = np.array([known.get(word, 0) for word in tokens.words], dtype=np.uint8)
    if not bits.any():
        return hits
    of_token = bits[tokens.codes]
    places = np.flatnonzero(of_token)
    owner = np.searchsorted(tokens.starts, places, side="right") - 1
    for column in range(len(LANGUAGES)):
        hits[:, column] = np.bincount(owner[(of_token[places] >> column) & 1 == 1], minlength=len(hits))
    return hits


@cache
def _languages_by_word() -> dict[str, int]:
    """For each stop word and negation, the languages that have it, as bits in the order of LANGUAGES."""
    bits: dict[str, int] = {}
    for column, language in enumerate(LANGUAGES):
        for word in stop_words(language) | negations(language):
            bits[word] = bits.get(word, 0) | 1 << column
    return bits


def languages_of(hits: Ints) -> Sequence[str]:
    """For each document the language whose stop words speak clearly for it, by its English name; empty where none does.

    Clearly: at least three of them, and twice as many as of the next language.
    """
    order = np.argsort(-hits, axis=1, kind="stable")
    rows = np.arange(len(hits))
    first, second = hits[rows, order[:, 0]], hits[rows, order[:, 1]]
    clear = (first >= _LEAST_HITS) & (first >= 2 * second)
    return [
        NAMES[LANGUAGES[place]] if sure else ""
        for place, sure in zip(order[:, 0].tolist(), clear.tolist(), strict=True)
    ]
