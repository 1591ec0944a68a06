"""Which encoding a file is in: said by its owner, by a byte-order mark, UTF-8 where it fits, else guessed and told."""

import codecs
from contextlib import suppress
from dataclasses import dataclass
from typing import BinaryIO

from charset_normalizer import from_bytes

from upsort.core.errors import UsageProblem
from upsort.core.names import listed
from upsort.core.text.languages import likelihood
from upsort.core.text.lowercase import lower
from upsort.files.language_profiles import profiles

_MARKS = (
    (codecs.BOM_UTF8, "utf-8-sig"),
    (codecs.BOM_UTF32_LE, "utf-32"),
    (codecs.BOM_UTF32_BE, "utf-32"),
    (codecs.BOM_UTF16_LE, "utf-16"),
    (codecs.BOM_UTF16_BE, "utf-16"),
)
_LOOK_AT = 16 * 1024 * 1024  # bytes checked for being UTF-8
_GUESS_FROM = 64 * 1024  # bytes of lines with other than ASCII characters, given to the guess
_WESTERN = "cp1252"
_CANDIDATES = (_WESTERN, "cp1250", "cp1251", "cp1253", "cp1254", "cp1255", "cp1256", "cp1257", "koi8_r", "shift_jis",
               "euc_jp", "gb18030", "big5", "euc_kr", "utf_16_le", "utf_16_be")  # fmt: skip
_LATIN = (_WESTERN, "cp1250", "cp1254")  # Western, Central European, Turkish
_AS_GOOD = 0.03  # by how much more disorder the commonest of the Western encodings is still preferred

NOTED_ESCAPE = "upsort-noted-escape"
"""An error handler for decoding that keeps undecodable bytes as surrogates (PEP 383), and counts that it did."""

_escapes = 0


def noted_escapes() -> int:
    """How often bytes were kept so far; no increase means that nothing decoded in between can hold any."""
    return _escapes


def _noted_escape(error: UnicodeError) -> tuple[str | bytes, int]:
    global _escapes
    _escapes += 1
    return codecs.lookup_error("surrogateescape")(error)


codecs.register_error(NOTED_ESCAPE, _noted_escape)


@dataclass(frozen=True)
class Encoding:
    """name: a codec's name. guessed: whether it was inferred from the bytes and should be told. alike: others by which the bytes
    looked at are the same text."""

    name: str
    guessed: bool = False
    alike: tuple[str, ...] = ()

    def said(self, source: str) -> list[str]:
        """What is to be told about it."""
        if not self.guessed:
            return []
        if self.alike:
            return [
                f"{source} is not UTF-8; read as {self.name}, which here gives the same text as {listed(self.alike)}."
            ]
        return [f"{source} is not UTF-8; read as {self.name}. Use --encoding if that is wrong."]


def checked_encoding(name: str) -> str:
    """`name` in its usual spelling. Raises UsageProblem when no such encoding is known."""
    try:
        "".encode(name)  # a codec of text, not of bytes
        return codecs.lookup(name).name
    except (LookupError, ValueError):
        raise UsageProblem(
            f"There is no encoding {name!r}.",
            "Common ones: utf-8, latin-1, cp1252, utf-16, cp1251, shift_jis, gb18030.",
        ) from None


def find_encoding(stream: BinaryIO, forced: str = "") -> Encoding:
    """The encoding of a stream that can be rewound; the stream is left at its beginning."""
    if forced:
        name = checked_encoding(forced)
        return Encoding("utf-8-sig" if name == "utf-8" else name)
    sample = stream.read(_LOOK_AT)
    stream.seek(0)
    for mark, name in _MARKS:
        if sample.startswith(mark):
            return Encoding(name)
    if _is_utf8(sample):
        return Encoding("utf-8")
    return _guess(sample)


def _is_utf8(sample: bytes) -> bool:
    """Whether the bytes are UTF-8; a character cut off at the end is allowed."""
    try:
        codecs.getincrementaldecoder("utf-8")().decode(sample)
    except UnicodeDecodeError as error:
        # One stray byte in a long file that is otherwise UTF-8 is damage, not another encoding.
        before = sample[: error.start]
        return any(byte >= 0x80 for byte in before[-_GUESS_FROM:])
    return True


def _guess(sample: bytes) -> Encoding:
    lines: list[bytes] = []
    held = 0
    for line in sample.splitlines(keepends=True):
        if not line.isascii():
            lines.append(line)
            held += len(line)
            if held > _GUESS_FROM:
                break
    matches = list(from_bytes(b"".join(lines), cp_isolation=list(_CANDIDATES)))
    if not matches:
        return Encoding("latin-1", guessed=True)
    best = min(matches, key=lambda match: match.chaos)
    western = [match for match in matches if match.encoding == _WESTERN and match.chaos <= best.chaos + _AS_GOOD]
    found = (western[0] if western else best).encoding
    return _by_its_language(b"".join(lines), found) if found in _LATIN else Encoding(found, guessed=True)


def _by_its_language(sample: bytes, found: str) -> Encoding:
    """Of the encodings of languages with Latin letters the one whose text is likeliest in some language; among equals the
    commonest."""
    texts = {}
    for name in _LATIN:
        with suppress(UnicodeDecodeError):
            texts[name] = sample.decode(name)
    if found not in texts:
        return Encoding(found, guessed=True)
    merits = {name: likelihood(lower(text, ""), profiles()) for name, text in texts.items()}
    best = max(texts, key=lambda name: merits[name])
    return Encoding(best, True, tuple(name for name in texts if name != best and texts[name] == texts[best]))
