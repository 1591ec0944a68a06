"""Names of array types, numbering of distinct values, and many short texts in little memory."""

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import cache
from heapq import nsmallest
from itertools import pairwise
from typing import Any, TypeVar, overload

import numpy as np
import numpy.typing as npt
import xxhash

from upsort.core.lazy import arrow_compute, pyarrow

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
Codes = npt.NDArray[np.int32]
Places = npt.NDArray[np.intp]
Bools = npt.NDArray[np.bool_]
Bytes = npt.NDArray[np.uint8]
Keys = npt.NDArray[np.uint64]
AnyArray = npt.NDArray[Any]


_LARGE, _LARGE_TOGETHER, _WORTH_IT = 400_000, 2_000_000, 10_000
"""Values of one call, or of all calls so far, from which a table of hashes is so much faster than sorting that loading the
library for it pays; and of one call once it is loaded."""
_numbered = [0]  # values so far


def factorize(values: AnyArray) -> tuple[npt.NDArray[np.intp], AnyArray]:
    """(n,) whole numbers → (n,) the number of each value, and the distinct values as they first come."""
    _numbered[0] += values.size
    if values.size >= _LARGE or (values.size >= _WORTH_IT and _numbered[0] >= _LARGE_TOGETHER):
        encoded = arrow_numbers(values).dictionary_encode()
        return of_arrow(encoded.indices, np.int32).astype(np.intp), of_arrow(encoded.dictionary, values.dtype)
    distinct, first, inverse = np.unique(values, return_index=True, return_inverse=True)
    order = np.argsort(first)
    rank: Any = np.empty(order.size, dtype=np.intp)
    rank[order] = np.arange(order.size)
    return rank[inverse], distinct[order]


def arrow_numbers(values: AnyArray) -> Any:
    """Numbers as an Arrow array. Its own way of making one loads pandas where that is installed, and so does the way back."""
    content = pyarrow.py_buffer(np.ascontiguousarray(values))
    return pyarrow.Array.from_buffers(pyarrow.from_numpy_dtype(values.dtype), values.size, [None, content])


def of_arrow(array: Any, kind: npt.DTypeLike) -> AnyArray:
    """The numbers of an Arrow array of this kind, without nulls."""
    content = array.buffers()[1]
    return np.frombuffer(content or b"", dtype=kind)[array.offset : array.offset + len(array)]


class TextColumn(Sequence[str]):
    """Many texts in one Arrow array, of which a text becomes a string when it is asked for.

    array: of strings, without nulls."""

    def __init__(self, array: Any) -> None:
        self.array = array if array.type == _text_type() else array.cast(_text_type())

    @staticmethod
    def blank(length: int) -> "TextColumn":
        """So many empty texts."""
        return _column(b"", np.zeros(length, dtype=np.int64))

    @staticmethod
    def of(texts: Sequence[str]) -> "TextColumn":
        """Some texts, each of which is UTF-8."""
        each = [text.encode("utf-8") for text in texts]
        return _column(b"".join(each), np.array(list(map(len, each)), dtype=np.int64))

    @staticmethod
    def joined(parts: Sequence["TextColumn"]) -> "TextColumn":
        """Those of all, one after the other."""
        return TextColumn(pyarrow.concat_arrays([part.array for part in parts])) if len(parts) > 1 else parts[0]

    def take(self, places: Ints | Places | Codes | Sequence[int]) -> "TextColumn":
        """Some of the texts."""
        return TextColumn(self.array.take(arrow_numbers(np.asarray(places, dtype=np.int64))))

    def utf8(self) -> tuple[bytes | memoryview, Ints]:
        """All texts one behind the other, as UTF-8, and the (n + 1,) places of their ends, before them a 0."""
        edges = np.frombuffer(self.array.buffers()[1], dtype=np.int64)[self.array.offset :][: len(self) + 1]
        content = self.array.buffers()[2]
        return (memoryview(content)[edges[0] : edges[-1]] if content is not None else b""), edges - edges[0]

    @property
    def size(self) -> int:
        """Bytes of all texts together."""
        return len(self.utf8()[0])

    @property
    def characters(self) -> int:
        """Of all texts together."""
        content = np.frombuffer(self.utf8()[0], dtype=np.int8)
        return int(np.count_nonzero(content >= _FIRST_BYTES))

    def digests(self, digest: Callable[[memoryview], int]) -> Keys:
        """(n,) a number for each text, told by its UTF-8."""
        content, edges = self.utf8()
        whole, ends = memoryview(content), edges.tolist()
        return np.fromiter((digest(whole[begin:end]) for begin, end in pairwise(ends)), dtype=np.uint64, count=len(self))

    def line_feeds(self) -> Ints:
        """(n,) how many are in each text."""
        content, edges = self.utf8()
        if b"\n" not in bytes(content):
            return np.zeros(len(self), dtype=np.int64)
        places = np.flatnonzero(np.frombuffer(content, dtype=np.uint8) == _LINE_FEED)
        return np.diff(np.searchsorted(places, edges))

    def __len__(self) -> int:
        return len(self.array)

    @overload
    def __getitem__(self, place: int, /) -> str: ...

    @overload
    def __getitem__(self, place: slice, /) -> "TextColumn": ...

    def __getitem__(self, place: int | slice, /) -> "str | TextColumn":
        found = self.array[place]
        return TextColumn(found) if isinstance(place, slice) else found.as_py()

    def __iter__(self) -> Iterator[str]:
        for begin in range(0, len(self), _AT_ONCE):
            yield from self.array.slice(begin, _AT_ONCE).to_pylist()

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Sequence) and len(self) == len(other) and all(map(str.__eq__, self, other))

    __hash__ = None  # type: ignore[assignment]

    def __reduce__(self) -> tuple[Any, ...]:
        content, edges = self.utf8()
        return _column, (bytes(content), np.diff(edges).astype(np.uint32))


@cache
def _text_type() -> Any:
    return pyarrow.large_string()


_AT_ONCE, _FEW = 1 << 14, 1 << 12
_LINE_FEED = 10
_FIRST_BYTES = -64  # bytes that continue a character, 0x80 to 0xBF, are below it as signed numbers


def _column(content: bytes, lengths: AnyArray) -> TextColumn:
    edges = np.zeros(lengths.size + 1, dtype=np.int64)
    np.cumsum(lengths, out=edges[1:])
    buffers = [None, pyarrow.py_buffer(edges), pyarrow.py_buffer(content)]
    return TextColumn(pyarrow.Array.from_buffers(pyarrow.large_string(), lengths.size, buffers))


def compact(texts: Sequence[str], few: int = _FEW) -> Sequence[str]:
    """The same texts in less memory, and faster to send; those that are more than text, and a few, stay as they are."""
    if isinstance(texts, TextColumn) or len(texts) <= few or set(map(type, texts)) - {str}:
        return texts
    joined = "".join(texts)
    try:
        content = joined.encode("utf-8")
    except UnicodeEncodeError:  # halves of surrogate pairs, which are no characters
        return texts
    sizes = map(len, texts) if len(content) == len(joined) else (len(text.encode("utf-8")) for text in texts)
    return _column(content, np.fromiter(sizes, dtype=np.int64, count=len(texts)))


def concatenated(parts: Sequence[Sequence[str]]) -> Sequence[str]:
    """All texts of all parts; in little memory where each part is."""
    small = [part for part in parts if isinstance(part, TextColumn)]
    return TextColumn.joined(small) if small and len(small) == len(parts) else [text for part in parts for text in part]


def chosen_texts(texts: Sequence[str], places: Sequence[int] | Ints | Places) -> Sequence[str]:
    """Some of the texts, in little memory where all are."""
    if isinstance(texts, TextColumn):
        return texts.take(places)
    return [texts[place] for place in (places.tolist() if isinstance(places, np.ndarray) else places)]


def decimals(values: Floats, digits: int) -> Sequence[str]:
    """(n,) numbers as text with so many digits behind the point, the nearest to each; nothing for NaN."""
    values = np.asarray(values, dtype=np.float64)
    scaled = np.nan_to_num(values) * 10.0**digits
    if len(values) <= _FEW or np.signbit(scaled).any() or not (scaled < _EXACT).all():
        return ["" if value != value else f"{value:.{digits}f}" for value in values.tolist()]
    nearest = np.rint(scaled)
    for place in np.flatnonzero(np.abs(np.abs(scaled - nearest) - 0.5) < _NEAR_A_HALF).tolist():
        nearest[place] = round(float(f"{values[place]:.{digits}f}") * 10.0**digits)
    wide = np.zeros((len(values), 2), dtype=np.int64)  # 128 bits, the lower half first
    wide[:, 0] = nearest
    buffers = [None, pyarrow.py_buffer(wide)]
    texts = pyarrow.Array.from_buffers(pyarrow.decimal128(18, digits), len(values), buffers).cast(pyarrow.large_string())
    column = TextColumn(texts)
    if not (missing := np.isnan(values)).any():
        return column
    return TextColumn.joined([column, TextColumn.blank(1)]).take(np.where(missing, len(values), np.arange(len(values))))


_EXACT = 2.0**40  # of which a part in 2^53 is far below what follows
_NEAR_A_HALF = 1e-3


class RepeatedTexts:
    """How often texts come, of those that come more than once. Of others only a hash is kept: a text with the hash of
    another one (one pair in 2 ** 64) is counted once too often."""

    def __init__(self) -> None:
        self._times: dict[str, int] = {}
        self._known = np.zeros(0, dtype=np.int64)

    def add(self, texts: Sequence[str]) -> None:
        """Take in more texts."""
        hashes = np.fromiter(map(hash, texts), dtype=np.int64, count=len(texts))
        distinct, which, times = np.unique(hashes, return_inverse=True, return_counts=True)
        place = np.searchsorted(self._known, distinct)
        known = place < self._known.size
        known[known] = self._known[place[known]] == distinct[known]
        before = known.tolist()
        for at in np.flatnonzero((known | (times > 1))[which]).tolist():
            text = texts[at]
            self._times[text] = self._times.get(text, int(before[which[at]])) + 1
        self._known = np.sort(np.concatenate((self._known, distinct[~known])))

    def most_common(self, most: int) -> list[tuple[str, int]]:
        """The most frequent ones, and how often each came; ties by text."""
        return nsmallest(most, self._times.items(), key=lambda entry: (-entry[1], entry[0]))


def tally(texts: Sequence[str]) -> Counter[str]:
    """How often each text comes."""
    if not isinstance(texts, TextColumn):
        return Counter(texts)
    counts = texts.array.value_counts()
    return Counter(dict(zip(counts.field(0).to_pylist(), counts.field(1).to_pylist(), strict=True)))


def mapped(texts: Sequence[str], made: Callable[[str], str]) -> Sequence[str]:
    """What is made of each text; of equal ones once."""
    if isinstance(texts, TextColumn):
        encoded = texts.array.dictionary_encode()
        return texts_by_code([made(text) for text in encoded.dictionary.to_pylist()], of_arrow(encoded.indices, np.int32))
    known = {text: made(text) for text in set(texts)}
    return [known[text] for text in texts]


def filled(texts: Sequence[str]) -> Bools:
    """(n,) which texts are not empty."""
    if isinstance(texts, TextColumn):
        return np.diff(texts.utf8()[1]) > 0
    return np.fromiter(map(bool, texts), dtype=bool, count=len(texts))


def lengths_of(texts: Sequence[str]) -> Ints:
    """(n,) characters of each text."""
    if isinstance(texts, TextColumn):
        return of_arrow(arrow_compute.utf8_length(texts.array), np.int64)
    return np.fromiter(map(len, texts), dtype=np.int64, count=len(texts))


def numbered(texts: Sequence[str]) -> tuple[tuple[str, ...], Ints]:
    """The distinct texts, sorted, and (n,) the number of each."""
    if isinstance(texts, TextColumn):
        encoded = texts.array.dictionary_encode()
        names, own = numbered(encoded.dictionary.to_pylist())
        return names, own[of_arrow(encoded.indices, np.int32)]
    names = tuple(sorted(set(texts)))
    number = {name: place for place, name in enumerate(names)}
    return names, np.fromiter((number[text] for text in texts), dtype=np.int64, count=len(texts))


def texts_by_code(texts: Sequence[str], codes: Ints | Places) -> Sequence[str]:
    """(n,) the text of each code."""
    return chosen_texts(compact(texts, few=-1 if codes.size > _FEW else len(texts)), codes)


def numbered_names(name: str, numbers: Sequence[int]) -> Sequence[str]:
    """The name followed by each number."""
    ends = compact([name, ""], few=0) if len(numbers) > _FEW else ()
    if not isinstance(ends, TextColumn):
        return [f"{name}{number}" for number in numbers]
    digits = arrow_numbers(np.asarray(numbers, dtype=np.int64)).cast(pyarrow.large_string())
    return TextColumn(arrow_compute.binary_join_element_wise(ends.array[0], digits, ends.array[1]))


def texts_of_words(words: Sequence[str], codes: Codes, starts: Ints) -> Sequence[str]:
    """(n,) texts of words with a space between them. codes: of all words, text by text; starts: (n + 1,) where each begins."""
    present, which = np.unique(codes, return_inverse=True)
    held = compact([words[code] for code in present.tolist()], few=0) if codes.size > _FEW else ()
    if not isinstance(held, TextColumn):
        return [" ".join([words[code] for code in codes[begin:end].tolist()]) for begin, end in pairwise(starts.tolist())]
    lists = pyarrow.LargeListArray.from_arrays(arrow_numbers(starts), held.take(which).array)
    return TextColumn(arrow_compute.binary_join(lists, TextColumn.of([" "]).array[0]))


def joined_text(texts: Sequence[str]) -> str:
    """All texts, one behind the other."""
    return str(texts.utf8()[0], "utf-8") if isinstance(texts, TextColumn) else "\n".join(texts)


def holds_any(texts: Sequence[str], characters: str) -> bool:
    """Whether one of the characters is in one of the texts."""
    if isinstance(texts, TextColumn):
        content, signs = bytes(texts.utf8()[0]), [character.encode("utf-8") for character in characters]
        return any(sign[:1] in content and sign in content for sign in signs)  # one byte alone is found much faster
    joined = "\n".join(texts)
    return any(character in joined for character in characters)


def places_with(texts: Sequence[str], signs: str) -> Iterable[int]:
    """The places of the texts that hold what a pattern of Arrow's matches; of texts that are not a column, all."""
    if not isinstance(texts, TextColumn):
        return range(len(texts))
    found = arrow_compute.indices_nonzero(arrow_compute.match_substring_regex(texts.array, signs))
    return list(of_arrow(found, np.uint64).tolist())


def blank_places(texts: Sequence[str]) -> Iterable[int]:
    """The places of texts of nothing but white space."""
    if not isinstance(texts, TextColumn):
        return (place for place, text in enumerate(texts) if not text.strip())
    content, edges = texts.utf8()
    first = np.frombuffer(content, dtype=np.uint8)[np.minimum(edges[:-1], len(content) - 1)] if len(content) else edges[:-1]
    maybe = _MAY_BE_SPACE[first] | (edges[:-1] == edges[1:])
    return (place for place in np.flatnonzero(maybe).tolist() if not texts[place].strip())


_MAY_BE_SPACE = np.isin(np.arange(256), [*range(33), 0xC2, 0xE1, 0xE2, 0xE3])
"""Which bytes begin a character of white space (Unicode's property White_Space, and the separators 0x1C to 0x1F)."""

Number = TypeVar("Number", bound=np.generic)


def distinct_sorted(values: npt.NDArray[Number]) -> npt.NDArray[Number]:
    """The distinct values of an array of numbers, ascending: as `numpy.unique`, whose table of hashes takes up to fifty times as
    long for numbers that agree in many bits."""
    ordered = np.sort(values, axis=None)
    new = np.ones(ordered.size, dtype=bool)
    np.not_equal(ordered[1:], ordered[:-1], out=new[1:])
    return ordered[new]


WordKeys = npt.NDArray[np.uint32]
"""(n,) 32-bit hashes of words, ascending and distinct: about one word in a thousand is confused among four million."""


def word_key(word: str) -> int:
    """The key of a word."""
    return xxhash.xxh32_intdigest(word.encode("utf-8", "surrogatepass"))


def word_keys(words: Iterable[str]) -> WordKeys:
    """The keys of some words."""
    return distinct_sorted(np.fromiter(map(word_key, words), dtype=np.uint32))


def union_of_keys(parts: Iterable[WordKeys]) -> WordKeys:
    """Keys that are in any of the parts."""
    return distinct_sorted(np.concatenate([np.zeros(0, dtype=np.uint32), *parts]))
