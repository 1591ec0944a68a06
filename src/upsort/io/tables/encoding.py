"""Which encoding a file is in: said by its owner, by a byte-order mark, UTF-8 where it fits, else guessed and told."""

import codecs
import re
from collections import Counter
from collections.abc import Iterable
from contextlib import suppress
from typing import BinaryIO

from charset_normalizer import from_bytes

from upsort.core.errors import UsageProblem, listed
from upsort.core.lazy import record
from upsort.core.text.characters import lower
from upsort.core.text.languages import likelihood
from upsort.io.notices import add_notice_once
from upsort.io.plan.resources import profiles
from upsort.io.tables.rows import SourceNote

_BYTE_ORDER_MARKS = (
    (codecs.BOM_UTF8, "utf-8-sig"),
    (codecs.BOM_UTF32_LE, "utf-32"),
    (codecs.BOM_UTF32_BE, "utf-32"),
    (codecs.BOM_UTF16_LE, "utf-16"),
    (codecs.BOM_UTF16_BE, "utf-16"),
)
_SAMPLE_BYTES = 16 * 1024 * 1024  # bytes checked for being UTF-8
_GUESS_FROM = 64 * 1024  # bytes of lines with other than ASCII characters, given to the guess
_WESTERN = "cp1252"
_CANDIDATES = (_WESTERN, "cp1250", "cp1251", "cp1253", "cp1254", "cp1255", "cp1256", "cp1257", "koi8_r", "cp932",
               "euc_jp", "gb18030", "big5", "cp949", "utf_16_le", "utf_16_be")  # fmt: skip
_LATIN = (_WESTERN, "cp1250", "cp1254", "iso8859_2")  # Western, Central European, Turkish, Central European again
_CYRILLIC = ("cp1251", "koi8_r", "iso8859_5", "cp866")
_KANA = frozenset(map(chr, range(0x3041, 0x3100)))
_LEAST_FREQUENT = 10  # characters that a share is counted of
_LEAST_SHARE_OF_FREQUENT = 0.1
_FALLBACK = "latin-1"
_LEAST_ZEROS = 0.01  # of the bytes of text in 16 bits: its delimiters and line ends have one each
_LEAST_PLACED = 0.9  # of the zero bytes of text in 16 bits that are on the same side of their pairs
_SOUND_FOR_A_STRAY = 2  # characters of UTF-8 for each byte that is not, in a file of UTF-8 that is damaged
_MARKED = 5  # letters that a guess is shown by
_ODD = re.compile(
    r"[\x80-\x9f\u2500-\u259f\ue000-\uf8ff\ufffe\uffff]"  # no text holds these
    r"|(?<=[^\W\d_])[\xa1-\xac\xae-\xb6\xb8\xb9\xbb-\xbf×÷](?=[^\W\d_])"  # signs between letters
    r"|(?<=[^\W\d_])[¢¤¦¨¬¯±´¶¸¹¼½¾]|[¢¤¦¨¬¯±´¶¸¹¼½¾](?=[^\W\d_])"  # and next to them
    r"|[\xc0-\xff]{4,}"
)
_ODDNESS_COSTS = 5.0  # logarithmic units for a text of nothing else
_LEAST_ODD = 3  # places that make a guess doubtful
_LEAST_ODD_SHARE = 0.005  # of the letters beyond ASCII
_AS_GOOD = 0.03  # by how much more disorder the most common of the Western encodings is still preferred

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


@record(frozen=True)
class Encoding:
    """name: a codec's name. guessed: whether it was inferred from the bytes and should be reported. alike: others by which the
    bytes looked at are the same text. letters: the most common of those beyond ASCII that it gives."""

    name: str
    guessed: bool = False
    alike: tuple[str, ...] = ()
    letters: tuple[str, ...] = ()

    def description(self, source: str) -> list[SourceNote]:
        """What is to be reported about it."""
        if not self.guessed:
            return []
        by = f", with letters such as {listed(self.letters)}" if self.letters else ""
        end = f", which here gives the same text as {listed(self.alike)}." if self.alike else ". Use --encoding if that is wrong."
        return [SourceNote(source, f" is not UTF-8; read as {self.name}{by}{end}", by)]


class EncodingDoubts:
    """What speaks against a guess while a source is read: characters that barely are in any text."""

    def __init__(self, encoding: Encoding, source: str) -> None:
        self.encoding, self.source = encoding, source
        self.odd = self.letters = 0
        self.example = ""

    def check(self, rows: Iterable[Iterable[str]]) -> None:
        """Look at cells; at none where nothing was guessed."""
        if not self.encoding.guessed:
            return
        for row in rows:
            text = "\n".join(row)
            if text.isascii():
                continue
            self.letters += sum(character > "\x7f" for character in text)
            for match in _ODD.finditer(text):
                self.odd += 1
                self.example = self.example or text[max(0, match.start() - 5) : match.end() + 5].replace("\n", " ")

    def warn(self) -> None:
        """Warn, when the source has been read, where the guess does not look right."""
        if self.odd >= _LEAST_ODD and self.odd > _LEAST_ODD_SHARE * self.letters:
            add_notice_once(
                f"{self.source} was read as {self.encoding.name} by a guess, but {self.odd:,} places do not look like text, "
                f"such as {self.example!r}; name the right encoding with --encoding."
            )


def checked_encoding(name: str) -> str:
    """`name` in its usual spelling. Raises UsageProblem when no such encoding is known."""
    try:
        "".encode(name)  # a codec of text, not of bytes
        return codecs.lookup(name).name
    except (LookupError, ValueError):
        raise UsageProblem(
            f"There is no encoding {name!r}.", "Common ones: utf-8, latin-1, cp1252, utf-16, cp1251, shift_jis, gb18030."
        ) from None


def find_encoding(stream: BinaryIO, forced: str = "") -> Encoding:
    """The encoding of a stream that can be rewound; the stream is left at its beginning."""
    if forced:
        name = checked_encoding(forced)
        return Encoding("utf-8-sig" if name == "utf-8" else name)
    sample = stream.read(_SAMPLE_BYTES)
    stream.seek(0)
    for mark, name in _BYTE_ORDER_MARKS:
        if sample.startswith(mark):
            return Encoding(name)
    if (wide := _without_mark(sample)) is not None:
        return wide
    if _is_utf8(sample):
        return Encoding("utf-8")
    return _guess(sample)


def _without_mark(sample: bytes) -> Encoding | None:
    """Text in 16 or 32 bits without a mark: half of its delimiters and line ends are zero bytes, all on the same side; and
    Japanese that changes its alphabet by escapes (RFC 1468)."""
    beginning = sample[: _GUESS_FROM - _GUESS_FROM % 4]
    if beginning.isascii() and (b"\x1b$B" in beginning or b"\x1b$@" in beginning):
        with suppress(UnicodeDecodeError):
            codecs.getincrementaldecoder("iso2022_jp")().decode(beginning)
            return Encoding("iso2022_jp", guessed=True)
    zeros = [beginning[place::4].count(0) for place in range(4)]
    if not sum(zeros) or sum(zeros) < _LEAST_ZEROS * len(beginning):
        return None
    even, odd = zeros[0] + zeros[2], zeros[1] + zeros[3]
    placed = {
        "utf_32_le": zeros[3] == zeros[2] == len(beginning) // 4,  # no character needs its upper half but emoji
        "utf_32_be": zeros[0] == zeros[1] == len(beginning) // 4,
        "utf_16_le": odd >= _LEAST_PLACED * (even + odd),
        "utf_16_be": even >= _LEAST_PLACED * (even + odd),
    }
    for name in sorted(placed, reverse=True):
        if placed[name]:
            with suppress(UnicodeDecodeError):
                text = codecs.getincrementaldecoder(name)().decode(beginning)
                if "\x00" not in text:
                    return Encoding(name, guessed=True)
    return None


def _is_utf8(sample: bytes) -> bool:
    """Whether the bytes are UTF-8; a character cut off at the end is allowed."""
    try:
        codecs.getincrementaldecoder("utf-8")().decode(sample)
    except UnicodeDecodeError as error:
        # A stray byte in a file that is otherwise UTF-8 is damage, not another encoding.
        around = sample[max(0, error.start - _GUESS_FROM) : error.start + _GUESS_FROM].decode("utf-8", "surrogateescape")
        beyond = [character for character in around if character > "\x7f"]
        stray = sum("\udc80" <= character <= "\udcff" for character in beyond)
        return len(beyond) - stray >= _SOUND_FOR_A_STRAY * stray
    return True


def _guess(sample: bytes) -> Encoding:
    lines: list[bytes] = []
    total = 0
    for line in sample.splitlines(keepends=True):
        if not line.isascii():
            lines.append(line)
            total += len(line)
            if total > _GUESS_FROM:
                break
    if (eastern := _by_frequent_characters(b"".join(lines))) is not None:
        return eastern
    matches = list(from_bytes(b"".join(lines), cp_isolation=list(_CANDIDATES)))
    encoding = _FALLBACK
    if matches:
        best = min(matches, key=lambda match: match.chaos)
        western = [match for match in matches if match.encoding == _WESTERN and match.chaos <= best.chaos + _AS_GOOD]
        encoding = (western[0] if western else best).encoding
    families: tuple[str, ...] = (encoding,)
    for family in (_LATIN, _CYRILLIC):
        if encoding in family or (encoding == _FALLBACK and family is _CYRILLIC):
            families = (*family, *([_FALLBACK] if encoding == _FALLBACK else []))
    return _by_its_language(b"".join(lines), families, encoding)


def _by_frequent_characters(sample: bytes) -> Encoding | None:
    """Of the encodings of East Asia the one that gives the most of the characters that are in every text; read by another one,
    they come out as rare ones."""
    shares = {}
    for name, frequent in _FREQUENT.items():
        with suppress(UnicodeDecodeError):
            text = codecs.getincrementaldecoder(name)().decode(sample)
            beyond = [character for character in text if character > "\x7f"]
            shares[name] = sum(character in frequent for character in beyond) / max(len(beyond), _LEAST_FREQUENT)
    best = max(shares, key=lambda name: shares[name], default="")
    if not best or shares[best] < _LEAST_SHARE_OF_FREQUENT:
        return None
    return _encoding_of(best, codecs.getincrementaldecoder(best)().decode(sample), ())


def _encoding_of(name: str, text: str, alike: tuple[str, ...]) -> Encoding:
    beyond = Counter(character for character in text if character > "\x7f" and character.isalpha())
    return Encoding(name, True, alike, tuple(letter for letter, _ in beyond.most_common(_MARKED)))


def _oddness(text: str) -> float:
    """The share of the characters beyond ASCII that barely stand where they do."""
    return len(_ODD.findall(text)) / max(1, sum(character > "\x7f" for character in text))


def _by_its_language(sample: bytes, family: tuple[str, ...], candidate: str) -> Encoding:
    """Of the encodings of a family the one whose text is likeliest in some language; among equals the most common."""
    texts = {}
    for name in family:
        with suppress(UnicodeDecodeError):
            texts[name] = sample.decode(name)
    best = candidate
    if len(texts) > 1:
        merits = {name: likelihood(lower(text, ""), profiles()) - _ODDNESS_COSTS * _oddness(text) for name, text in texts.items()}
        best = max(texts, key=lambda name: merits[name])
    alike = tuple(name for name in texts if name != best and texts[name] == texts[best])
    return _encoding_of(best, texts.get(best, ""), alike)


_FREQUENT = {
    "cp932": _KANA,
    "euc_jp": _KANA,
    "gb18030": frozenset(
        "的一是不了在有人我他这中大来上个国到说们为子和你地出道也时年得就那要下以生会自着去过家学对可里后小么心多天能好都没日于起还"
    ),
    "big5": frozenset(
        "的一是不了在有人我他這中大來上個國到說們為子和你地出道也時年得就那要下以生會自著去過家學對可裡後小麼心多天能好都沒日於起還"
    ),
    "cp949": frozenset("이다에는의을가고하지로한를은어기자도사리니시요해수나습있었아들대서일그인과만것제"),
}  # fmt: skip
"""Characters that are in nearly every text of a language: syllables of Japanese and Korean, the most common signs of Chinese."""
