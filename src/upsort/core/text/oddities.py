"""Documents that look out of place: broken characters, another script, another language."""

import re
import unicodedata
from collections.abc import Sequence
from functools import lru_cache

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
    return not text.isascii() and _BROKEN.search(text) is not None


@lru_cache(maxsize=4096)
def _script_of(character: str) -> str:
    return unicodedata.name(character, "unknown").split()[0].capitalize()


def other_script(text: str) -> str:
    """The script that most letters of the text are in, where that is not the Latin one; else empty."""
    if text.isascii():
        return ""
    far = _FAR_LETTERS.findall(text)
    if 2 * len(far) <= len(_LETTERS.findall(text)):
        return ""
    scripts = [_script_of(character) for character in far]
    return max(sorted(set(scripts)), key=scripts.count)


def stop_word_hits(tokens: Tokens) -> Ints:
    """(n_documents, len(LANGUAGES)) how many tokens of each document are stop words or negations of each language."""
    hits = np.zeros((tokens.starts.size - 1, len(LANGUAGES)), dtype=np.int64)
    for column, language in enumerate(LANGUAGES):
        known = stop_words(language) | negations(language)
        is_known = np.array([word in known for word in tokens.words], dtype=np.int64)
        if is_known.any():
            running = np.concatenate((np.zeros(1, dtype=np.int64), np.cumsum(is_known[tokens.codes])))
            hits[:, column] = running[tokens.starts[1:]] - running[tokens.starts[:-1]]
    return hits


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
