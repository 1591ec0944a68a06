"""Texts cut into tokens by several processes, each with a memory of words of its own.

The steps on words are left to the process that asks, so that a word is stemmed once, not once in each process; and every other
process sends each word only once."""

import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import replace
from typing import Any, TypeVar

import numpy as np

from upsort.core.arrays import Codes
from upsort.core.lazy import record
from upsort.core.matrices.sparse import narrow
from upsort.core.plan import Clean
from upsort.core.text.cleaning import Cleaner, cleaner
from upsort.core.text.step import Resources
from upsort.core.text.tokeniser import Tokens, WordMemory
from upsort.parallel.processes import in_order

Block = TypeVar("Block")


@record(frozen=True)
class TokenBlock:
    """What a process has cut. process: its number, 0 where it remembers nothing. known: words that it had met before. tokens: in
    its own numbers; their words are the new ones."""

    process: int
    known: int
    tokens: Tokens


@record(frozen=True)
class Tokenising:
    """Cuts the parts of blocks, in any process. memory: to number the words of all blocks; without it, those of each block are
    numbered anew."""

    cleaning: Cleaner
    memory: WordMemory | None

    def __call__(self, parts: Sequence[Sequence[str]]) -> list[TokenBlock]:
        """The tokens of each part, before the steps on words."""
        return [self._cut(texts) for texts in parts]

    def _cut(self, texts: Sequence[str]) -> TokenBlock:
        known = len(self.memory.words) if self.memory is not None else 0
        tokens = self.cleaning.words_of(texts, self.memory)
        process = os.getpid() if self.memory is not None else 0
        return TokenBlock(process, known, replace(tokens, words=tokens.words[known:], codes=narrow(tokens.codes)))

    def __reduce__(self) -> tuple[Any, ...]:
        text = Resources(replacements=self.cleaning.resources.replacements, keep=self.cleaning.resources.keep)
        return _cutting, (self.cleaning.settings, text, self.cleaning.with_sentences, self.memory is not None)


def _cutting(settings: Clean, resources: Resources, with_sentences: bool, remember: bool) -> Tokenising:
    cleaning = cleaner(settings, resources, with_sentences)
    return Tokenising(cleaning, cleaning.memory() if remember else None)


class WordNumbering:
    """Gives what processes have cut the numbers of one memory, which grows; to be asked in the order of the blocks."""

    def __init__(self, memory: WordMemory | None) -> None:
        self.memory = memory
        self._numbers: dict[int, Codes] = {}  # for each other process what its numbers are here

    def __call__(self, cut: TokenBlock) -> Tokens:
        """The tokens in the numbers of the memory."""
        codes, memory = cut.tokens.codes, self.memory
        if memory is None:
            return replace(cut.tokens, codes=codes.astype(np.int32))
        if not cut.process:
            codes = memory.number_forms(cut.tokens.words)[codes] if codes.size else codes
        elif cut.process != os.getpid():
            before = self._numbers.get(cut.process, np.arange(cut.known, dtype=np.int32))  # known since the fork
            self._numbers[cut.process] = np.concatenate((before, memory.number_forms(cut.tokens.words)))
            codes = self._numbers[cut.process][codes] if codes.size else codes
        return replace(cut.tokens, words=memory.words, codes=codes.astype(np.int32))


def cut_blocks(
    blocks: Iterable[Block], parts_of: Callable[[Block], Sequence[Sequence[str]]], cutting: Tokenising, workers: int = 1
) -> Iterator[tuple[Block, list[Tokens]]]:
    """Each block, in order, with the tokens of each of its parts before the steps on words. parts_of: the texts of a block."""
    numbering = WordNumbering(cutting.memory)
    for block, cuts in in_order(cutting, blocks, workers, parts_of):
        yield block, list(map(numbering, cuts))
