"""Names of array types, numbering of distinct values, and many short texts in little memory.

One long text is pickled much faster than many short ones and takes less memory."""

from collections.abc import Iterable, Iterator, Sequence
from typing import Any, TypeVar, overload

import numpy as np
import numpy.typing as npt
import xxhash

from upsort.core.lazy import pyarrow

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
        encoded = pyarrow.array(values).dictionary_encode()
        return encoded.indices.to_numpy().astype(np.intp), encoded.dictionary.to_numpy()
    distinct, first, inverse = np.unique(values, return_index=True, return_inverse=True)
    order = np.argsort(first)
    rank: Any = np.empty(order.size, dtype=np.intp)
    rank[order] = np.arange(order.size)
    return rank[inverse], distinct[order]


_BETWEEN = "\0"
Compacted = str | list[str]
"""All texts with a sign between them; or the list itself, where that cannot be."""


def compacted(texts: Sequence[str]) -> Compacted:
    """Texts for travelling. Those that are more than text, or hold the sign themselves, stay as they are."""
    whole = _BETWEEN.join(texts)
    if whole.count(_BETWEEN) != len(texts) - 1 or set(map(type, texts)) != {str}:
        return list(texts)
    return whole


def expanded_text(compact_text: Compacted) -> list[str]:
    """The same texts again."""
    return compact_text if isinstance(compact_text, list) else compact_text.split(_BETWEEN)


class CompactStrings(Sequence[str]):
    """Many short texts in little memory. blocks: of each block all its texts in one, and where each of them ends."""

    def __init__(self, blocks: Sequence[tuple[str, AnyArray]]) -> None:
        self.blocks = [(whole, ends) for whole, ends in blocks if ends.size]
        self._starts = np.cumsum([0, *(ends.size for _, ends in self.blocks)])

    @staticmethod
    def joined(parts: Sequence["CompactStrings"]) -> "CompactStrings":
        """Those of all, one after the other."""
        return CompactStrings([block for part in parts for block in part.blocks])

    def __len__(self) -> int:
        return int(self._starts[-1])

    @overload
    def __getitem__(self, place: int, /) -> str: ...

    @overload
    def __getitem__(self, place: slice, /) -> list[str]: ...

    def __getitem__(self, place: int | slice, /) -> str | list[str]:
        if isinstance(place, slice):
            return [self[position] for position in range(*place.indices(len(self)))]
        at = place + len(self) if place < 0 else place
        if not 0 <= at < len(self):
            raise IndexError(place)
        block = int(np.searchsorted(self._starts, at, side="right")) - 1
        whole, ends = self.blocks[block]
        at -= int(self._starts[block])
        return whole[int(ends[at - 1]) if at else 0 : int(ends[at])]

    def __iter__(self) -> Iterator[str]:
        for whole, ends in self.blocks:
            begin = 0
            for end in ends.tolist():
                yield whole[begin:end]
                begin = end

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Sequence) and len(self) == len(other) and all(map(str.__eq__, self, other))

    __hash__ = None  # type: ignore[assignment]

    def __reduce__(self) -> tuple[Any, ...]:
        return CompactStrings, (self.blocks,)


def compact(texts: Sequence[str]) -> Sequence[str]:
    """The same texts in less memory; those that are more than text stay as they are."""
    if isinstance(texts, CompactStrings) or set(map(type, texts)) != {str}:
        return texts
    ends = np.cumsum(np.fromiter(map(len, texts), dtype=np.int64, count=len(texts)))
    return CompactStrings([("".join(texts), ends.astype(np.min_scalar_type(ends[-1])))])


def concatenated(parts: Sequence[Sequence[str]]) -> Sequence[str]:
    """All texts of all parts; in little memory where each part is."""
    small = [part for part in parts if isinstance(part, CompactStrings)]
    return CompactStrings.joined(small) if len(small) == len(parts) else [text for part in parts for text in part]


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
