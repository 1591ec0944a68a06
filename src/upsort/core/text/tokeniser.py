"""The tokeniser: documents cut into words, by a compiled pass over their UTF-8 bytes, or by a pattern where they are few."""

import os
import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from functools import cache, lru_cache
from itertools import islice
from threading import get_ident
from typing import Any, Generic, TypeVar

import numpy as np

from upsort.core.arrays import Bools, Bytes, Codes, Ints, Places, TextColumn
from upsort.core.lazy import kernels, record
from upsort.core.text import characters
from upsort.core.text.step import WordStep

_LARGE, _COUNTED = 1_000_000, 20_000
"""Characters of one call, or of all calls so far of the second size at least, for which loading the compiled pass pays."""
_cut_so_far = [0]
Utf8 = tuple[bytes | memoryview, Ints]
"""Texts one behind the other, and the (n + 1,) places where they begin and the last one ends."""
_MOST_MEMORIES = 64
MOST_WORDS = 1 << 20  # so many are remembered, then all are forgotten
_AS_WRITTEN = np.arange(256, dtype=np.uint8)
_LOWER = np.frombuffer(bytes(range(256)).lower(), dtype=np.uint8)
_SEED = np.uint64(int.from_bytes(os.urandom(8), "little"))
_UNKNOWN, _PAGE = 255, 256
_ASCII = frozenset(map(chr, range(128)))


class WordMemory:
    """All distinct words so far, in the order in which they were met.

    form: what becomes of a token as it was cut, such as its lower case; worked out once for each. words: the forms, by their
    numbers; the same list all the time, and it only grows."""

    def __init__(self, form: WordStep | None = None) -> None:
        self.words: list[str] = []
        self.form = form or str
        self._numbers: dict[str, int] = {}  # of the forms
        self._of_tokens: dict[str, int] = {}  # the numbers of tokens that a pattern found
        self._compiled = _CompiledMemory()

    @property
    def nothing(self) -> int:
        """The number of the empty form, −1 where no word has it."""
        return self._numbers.get("", -1)

    def number_words(self, words: Iterable[str]) -> Codes:
        """(n_words,) the number of the form of each word."""
        return self.number_forms(map(self.form, words))

    def number_forms(self, forms: Iterable[str]) -> Codes:
        """(n_forms,) the number of each form."""
        numbers, before = self._numbers, len(self._numbers)
        rows = np.array([numbers.setdefault(form, len(numbers)) for form in forms], dtype=np.int32)
        self.words.extend([*islice(reversed(numbers), len(numbers) - before)][::-1])
        return rows

    def number_tokens(self, tokens: Sequence[str]) -> Codes:
        """(n_tokens,) the number of the word of each token."""
        known = self._of_tokens
        new = [token for token in dict.fromkeys(tokens) if token not in known]
        known.update(zip(new, self.number_words(new).tolist(), strict=True))
        return np.array([known[token] for token in tokens], dtype=np.int32)

    def cut(self, passes: Any, utf8: Utf8, lowers: bool, spans_too: bool) -> tuple[Codes, Ints, Ints]:
        """UTF-8 text cut by the compiled pass: codes and starts as in `Tokens`, and where each token begins and ends.

        utf8: all documents, and the (n + 1,) places where they begin. lowers: whether A to Z become a to z. spans_too: whether
        the places of tokens are wanted."""
        codes, starts, spans = self._compiled.cut(passes, utf8, _LOWER if lowers else _AS_WRITTEN, spans_too)
        new = self._compiled.new_tokens()
        if new:
            self._compiled.numbers = np.concatenate((self._compiled.numbers, self.number_words(new)))
        return (self._compiled.numbers[codes] if codes.size else codes), starts, spans


Memory = TypeVar("Memory", bound=WordMemory)


class ThreadMemories(Generic[Memory]):
    """A memory of words for each thread, made anew where it holds too many words, or where work with it did not come to its end:
    so none is used that an interruption left half-changed."""

    def __init__(self, made: Callable[[], Memory]) -> None:
        self._made = made
        self._of: dict[int, Memory] = {}

    @contextmanager
    def borrowed(self) -> Iterator[Memory]:
        """That of this thread."""
        memory = self._of.pop(get_ident(), None)
        if memory is None or len(memory.words) > MOST_WORDS:
            memory = self._made()
        yield memory
        self._of[get_ident()] = memory


class WordNumbering:
    """Gives tokens whose words are numbered by several memories the numbers of one."""

    def __init__(self) -> None:
        self._memory = WordMemory()
        self._known: dict[int, tuple[list[str], Codes]] = {}  # by the list of words of each other memory

    def __call__(self, tokens: "Tokens") -> "Tokens":
        """The tokens in the numbers of the memory."""
        words, numbers = self._known.get(id(tokens.words), (tokens.words, np.zeros(0, dtype=np.int32)))
        numbers = np.concatenate((numbers, self._memory.number_forms(words[len(numbers) :])))
        self._known[id(words)] = words, numbers
        if len(self._known) > _MOST_MEMORIES:
            del self._known[next(iter(self._known))]
        codes = numbers[tokens.codes] if tokens.codes.size else tokens.codes
        return Tokens(self._memory.words, codes, tokens.starts, tokens.sentences)


class _CompiledMemory:
    """What the compiled pass knows of tokens, see `kernels.cut`. numbers: of their words."""

    def __init__(self) -> None:
        self.numbers: Codes = np.zeros(0, dtype=np.int32)
        self._table: Any = np.zeros((0, 2), dtype=np.uint64)
        self._known: Bytes = np.zeros(0, dtype=np.uint8)
        self._distinct = self._used = 0
        self._given = 0  # bytes of the tokens that `new_tokens` has given

    def cut(self, passes: Any, utf8: Utf8, letters: Bytes, spans_too: bool) -> tuple[Codes, Ints, Ints]:
        """Codes by the numbers here, starts and spans."""
        raw, edges = utf8
        size = len(raw)
        if not self._table.size:
            self._table, self._known = np.zeros((1 << 14, 2), dtype=np.uint64), np.zeros(1 << 17, dtype=np.uint8)
        state = np.array([0, self._distinct, self._used, 0, 0], dtype=np.int64)
        codes, starts = np.empty(size // 2 + edges.size, dtype=np.int32), np.empty(edges.size, dtype=np.int64)
        spans = np.empty((codes.size if spans_too else 0, 2), dtype=np.int64)
        text, classes = np.frombuffer(raw, dtype=np.uint8), _classes()
        while outcome := passes.cut(
            (text, edges, classes, letters, _SEED), (self._table, self._known, state), (codes, starts, spans)
        ):
            if outcome == passes.CLASS_MISSING:
                _fill_page(classes, int(state[4]))
                continue
            wanted = int(state[2]) + int(np.diff(edges[state[0] : state[0] + 2]).sum()) + 1
            larger = np.zeros(2 * max(self._known.size, wanted), dtype=np.uint8)
            larger[: self._known.size] = self._known
            self._known = larger
            table = np.zeros((2 * len(self._table), 2), dtype=np.uint64)
            passes.move(self._table, table)
            self._table = table
        self._distinct, self._used = int(state[1]), int(state[2])
        n = int(state[3])
        return codes[:n].copy(), starts, spans[:n]

    def new_tokens(self) -> list[str]:
        """The tokens that have been met since this was asked last, by their numbers."""
        new = self._known[self._given : self._used].tobytes()
        self._given = self._used
        return new.decode("utf-8").split("\0")[:-1]


@cache
def _classes() -> Bytes:
    """The class of each code point, as far as it has been needed."""
    classes = np.full(0x110000, _UNKNOWN, dtype=np.uint8)
    _fill_page(classes, 0)
    return classes


def _fill_page(classes: Bytes, point: int) -> None:
    begin = point - point % _PAGE
    classes[begin : begin + _PAGE] = [characters.character_class(chr(code)) for code in range(begin, begin + _PAGE)]


@lru_cache(maxsize=64)
def _word_rules(beyond_ascii: str) -> "re.Pattern[str]":
    """A pattern of tokens for texts of ASCII and the given characters.

    A word is letters and digits with their marks, joined by inner marks between two of them, or by a point between two digits; an
    ideograph is one alone."""
    kinds: dict[int, list[str]] = {}
    for character in (*map(chr, range(128)), *beyond_ascii):
        kinds.setdefault(characters.character_class(character), []).append(re.escape(character))

    def any_of(*classes: int) -> str:
        chosen = "".join(sign for kind in classes for sign in kinds.get(kind, ()))
        return f"[{chosen}]" if chosen else "(?!)"

    digit = any_of(characters.DIGIT)
    part = f"{any_of(characters.WORD, characters.DIGIT)}+{any_of(characters.MARK)}*"
    between = f"{any_of(characters.INNER)}|(?<={digit}){any_of(characters.DIGIT_INNER)}(?={digit})"
    return re.compile(f"{part}(?:(?:{between})?{part})*+|{any_of(characters.IDEOGRAPH)}")


_WIDE_ENDS = "".join(mark for mark in characters.SENTENCE_ENDS if not mark.isascii())
_SENTENCE_END = re.compile(rf"""[.!?](?=[ \n\r\t"')\]\u0080-\u00bf\u2000-\u2fff])|\n(?=\n)|[{_WIDE_ENDS}]""")


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
    documents: Sequence[str], sentences_in: str | None = None, lowers: bool = False, memory: WordMemory | None = None
) -> Tokens:
    """Cut documents into words (letters, digits, and the marks, apostrophes and hyphens inside words).

    sentences_in: the language whose sentences are to be distinguished, where that is asked for. lowers: whether
    the memory makes words lower-case anyway, so that the letters A to Z may be made so first. memory: what numbers the words; a
    fresh one without.

    A token is a longest run of characters of words, see `characters`. The compiled pass and the pattern give the same tokens."""
    memory = memory or WordMemory()
    spans: Ints = np.zeros((0, 2), dtype=np.int64)
    if isinstance(documents, TextColumn) and sentences_in is None and (passes := _passes(documents.size)) is not None:
        codes, starts, _ = memory.cut(passes, documents.utf8(), lowers, False)
        return Tokens(memory.words, codes, starts, np.zeros(0, dtype=np.int64))
    joined = "\n".join([*documents, "\n"])
    edges = np.zeros(len(documents) + 1, dtype=np.int64)
    np.cumsum([len(document) + 1 for document in documents], out=edges[1:])
    if (passes := _passes(len(joined))) is not None:
        raw = joined.encode("utf-8", "surrogatepass")
        continuing = np.flatnonzero(np.frombuffer(raw, dtype=np.int8) < -64)  # bytes 0x80 to 0xBF
        owners = continuing - np.arange(1, continuing.size + 1)  # the number of the character that each belongs to
        byte_edges = edges + np.searchsorted(owners, edges)
        codes, starts, spans = memory.cut(passes, (raw, byte_edges), lowers, sentences_in is not None)
        spans -= np.searchsorted(continuing, spans)
    else:
        pattern = _word_rules("".join(sorted(set(joined) - _ASCII)))
        found = [pattern.findall(document) for document in documents]
        codes = memory.number_tokens([token for tokens in found for token in tokens])
        starts = np.zeros_like(edges)
        np.cumsum([len(tokens) for tokens in found], out=starts[1:])
        spans = np.array([match.span() for match in pattern.finditer(joined)] if sentences_in is not None else (), dtype=np.int64)
    sentences = np.zeros(0, dtype=np.int64) if sentences_in is None else _sentences(joined, spans.reshape(-1, 2), sentences_in)
    return Tokens(memory.words, codes, starts, sentences)


def _passes(size: int) -> Any:
    """The compiled passes, where so many characters are cut by them."""
    _cut_so_far[0] += size
    return kernels(_cut_so_far[0] if size >= _COUNTED else size, _LARGE)


def _sentences(text: str, spans: Ints, language: str) -> Ints:
    """For each token how many sentences end before it: at . ! ? before white space or a closing mark, at the marks that need
    none, and at an empty line; at no full stop that belongs to the word before it. spans: where tokens begin and end."""
    places = [match.start() for match in _SENTENCE_END.finditer(text)]
    before = np.searchsorted(spans[:, 1], places)
    ends = []
    for place, token in zip(places, before.tolist(), strict=True):
        begin, end = spans[token].tolist() if token < len(spans) else (0, -1)
        if text[place] != "." or end != place or not characters.ends_no_sentence(text[begin:end], language):
            ends.append(place)
    return np.searchsorted(np.array(ends, dtype=np.int64), spans[:, 0]).astype(np.int64)


def selected(tokens: Tokens, chosen: Bools) -> Tokens:
    """Some of the tokens."""
    before: Ints = np.concatenate((np.zeros(1, dtype=np.int64), np.cumsum(chosen, dtype=np.int64)))
    sentences = tokens.sentences[chosen] if tokens.sentences.size else tokens.sentences
    return Tokens(tokens.words, tokens.codes[chosen], before[tokens.starts], sentences)


def with_present_words(tokens: Tokens) -> Tokens:
    """The same tokens, with no words but those that are among them."""
    present = np.flatnonzero(np.bincount(tokens.codes, minlength=len(tokens.words)))
    place = np.zeros(len(tokens.words), dtype=np.int32)
    place[present] = np.arange(present.size, dtype=np.int32)
    codes = place[tokens.codes] if tokens.codes.size else tokens.codes
    return Tokens([tokens.words[number] for number in present.tolist()], codes, tokens.starts, tokens.sentences)


def first_in_document(tokens: Tokens) -> Places:
    """The places of tokens that are in their document for the first time, ordered by document, then by token number."""
    owner = np.repeat(np.arange(tokens.starts.size - 1), np.diff(tokens.starts))
    pairs = owner * max(len(tokens.words), 1) + tokens.codes
    order = np.argsort(pairs, kind="stable")
    new = np.ones(order.size, dtype=bool)
    new[1:] = pairs[order[1:]] != pairs[order[:-1]]
    return order[new]
