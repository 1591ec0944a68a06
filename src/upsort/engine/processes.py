"""Work spread over several local processes, item by item, its results in order; cleaning and tokenising above all.

The process that asks works too: it takes an item itself whenever the others have enough in hand. The steps on words are left
to it, so that a word is stemmed once, not once in each process, and every other process sends each word only once.
"""

import os
import signal
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from contextlib import contextmanager
from dataclasses import replace
from itertools import islice
from multiprocessing import active_children, get_all_start_methods, get_context, parent_process
from threading import Thread
from typing import Any, TypeVar

import numpy as np

from upsort.core.arrays import Codes
from upsort.core.errors import DataProblem
from upsort.core.packed import Packed, packed, unpacked
from upsort.core.plan import Clean
from upsort.core.records import record
from upsort.core.sparse import narrow
from upsort.core.spreading import Spread, one_by_one
from upsort.core.text.cleaning import Cleaner, cleaner
from upsort.core.text.resources import Resources
from upsort.core.text.tokeniser import Tokens
from upsort.core.text.word_memory import WordMemory

_AHEAD = 2  # items in hand for each other process, so that none waits
_USUAL = 8  # beyond that, reading and writing are what is waited for
_MOST_HELD = 8  # for each process, so that memory stays bounded where one item takes long

Item = TypeVar("Item")
Result = TypeVar("Result")
Block = TypeVar("Block")
_work: Callable[[Any], Any] | None = None


def in_order(
    work: Callable[[Any], Result],
    items: Iterable[Item],
    workers: int,
    sent: Callable[[Item], Any] | None = None,
    first_here: bool = True,
) -> Iterator[tuple[Item, Result]]:
    """Each item with what the work makes of it, in the order of the items; so many processes work at once.

    work: may hold anything; processes that are forked have it at once, others are sent it once. sent: what of an item the
    work is given; all of it, where nothing is said. first_here: whether the first item is worked on before there are others: what
    it teaches the work, a fork knows too.
    """
    given = sent or _whole
    items = iter(items)
    for item in islice(items, None if workers == 1 else int(first_here)):
        yield item, work(given(item))
    if workers == 1:
        return
    pending: deque[tuple[Item, Future[Result]]] = deque()
    others = workers - 1
    with _children(others, work) as pool:
        for item in items:
            if sum(not future.done() for _, future in pending) < _AHEAD * others:
                pending.append((item, pool.submit(_do, given(item))))
            else:
                pending.append((item, _done(work(given(item)))))
            while pending and (pending[0][1].done() or len(pending) >= _MOST_HELD * workers):
                first, future = pending.popleft()
                yield first, future.result()
        for first, future in pending:
            yield first, future.result()


def usual_workers() -> int:
    """How many processes share work where nobody says it."""
    return min(os.cpu_count() or 1, _USUAL)


def spread_over(workers: int) -> Spread:
    """Pieces of work done by so many processes, which have at once whatever the work holds; only results travel. Where processes
    cannot be forked there is one."""

    def spread(work: Callable[[int], Result], count: int) -> list[Result]:
        able = min(workers, count) if "fork" in get_all_start_methods() else 1
        if able <= 1:
            return one_by_one(work, count)
        return [result for _, result in in_order(work, range(count), able, first_here=False)]

    return spread


@contextmanager
def _children(count: int, work: Callable[[Any], Any]) -> Iterator[ProcessPoolExecutor]:
    """Processes that do the work. They end with the block, at once where it ends with an exception, and with their parent,
    however that ends.

    Raises DataProblem where one of them was ended from outside.
    """
    context = get_context("fork" if "fork" in get_all_start_methods() else "spawn")  # a fork starts in no time
    before = set(active_children())
    pool = ProcessPoolExecutor(count, context, initializer=_take, initargs=(work,))
    try:
        yield pool
    except BaseException as error:
        for child in set(active_children()) - before:
            child.terminate()  # what it does is wanted by no one
        if isinstance(error, BrokenProcessPool):
            raise DataProblem(
                "A process that shared the work was ended from outside, often because memory ran out.",
                "Free some memory, or let fewer processes share it, where the command has --workers.",
            ) from error
        raise
    finally:
        pool.shutdown(wait=True, cancel_futures=True)


def _whole(item: Any) -> Any:
    return item


def _done(result: Result) -> Future[Result]:
    future: Future[Result] = Future()
    future.set_result(result)
    return future


def _take(work: Callable[[Any], Any]) -> None:
    global _work
    _work = work
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the parent is told, and ends its children
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    Thread(target=_end_with_parent, daemon=True).start()


def _end_with_parent() -> None:
    parent = parent_process()
    if parent is not None:
        parent.join()
        os._exit(1)


def _do(item: Any) -> Any:
    assert _work is not None
    return _work(item)


@record(frozen=True)
class Cutting:
    """How texts are cut into tokens. memory: of `cleaning`, to number the words of all blocks; without, those of each block
    are numbered anew. workers: how many processes cut."""

    cleaning: Cleaner
    memory: WordMemory | None
    workers: int = 1


def cut_blocks(
    blocks: Iterable[Block], parts_of: Callable[[Block], Sequence[Sequence[str]]], cutting: Cutting
) -> Iterator[tuple[Block, list[Tokens]]]:
    """Each block, in order, with the tokens of each of its parts before the steps on words. parts_of: the texts of a block."""
    numbers: dict[int, Codes] = {}
    work = _PartsCut(cutting.cleaning, cutting.memory)
    for block, cuts in in_order(work, blocks, cutting.workers, lambda block: Parts(parts_of(block))):
        yield block, [_numbered(cut, cutting.memory, numbers) for cut in cuts]


class Parts(list[Sequence[str]]):
    """The parts of a block; they travel packed."""

    def __reduce__(self) -> tuple[Any, ...]:
        return _travelled, ([packed(part) for part in self],)


def _travelled(parts: Sequence[Packed]) -> list[list[str]]:
    return [unpacked(part) for part in parts]


@record(frozen=True)
class _Cut:
    """What a process has cut. known: words that it had met before. tokens: in its own numbers; their words are the new ones."""

    process: int
    known: int
    tokens: Tokens


@record(frozen=True)
class _PartsCut:
    """Cuts the parts of blocks, each process with a memory of its own."""

    cleaning: Cleaner
    memory: WordMemory | None

    def __call__(self, parts: Sequence[Sequence[str]]) -> list[_Cut]:
        return [self._cut(texts) for texts in parts]

    def _cut(self, texts: Sequence[str]) -> _Cut:
        known = len(self.memory.words) if self.memory is not None else 0
        tokens = self.cleaning.words_of(texts, self.memory)
        return _Cut(os.getpid(), known, replace(tokens, words=tokens.words[known:], codes=narrow(tokens.codes)))

    def __reduce__(self) -> tuple[Any, ...]:
        text = Resources(replacements=self.cleaning.resources.replacements, keep=self.cleaning.resources.keep)
        return _parts_cut, (self.cleaning.settings, text, self.cleaning.with_sentences, self.memory is not None)


def _parts_cut(settings: Clean, resources: Resources, with_sentences: bool, remember: bool) -> _PartsCut:
    cleaning = cleaner(settings, resources, with_sentences)
    return _PartsCut(cleaning, cleaning.memory() if remember else None)


def _numbered(cut: _Cut, memory: WordMemory | None, numbers: dict[int, Codes]) -> Tokens:
    """The tokens in the numbers of the memory. numbers: for each other process what its numbers are there; renewed."""
    codes = cut.tokens.codes
    if memory is None:
        return replace(cut.tokens, codes=codes.astype(np.int32))
    if cut.process != os.getpid():
        before = numbers.get(cut.process, np.arange(cut.known, dtype=np.int32))  # known since the fork
        numbers[cut.process] = np.concatenate((before, memory.number_forms(cut.tokens.words)))
        codes = numbers[cut.process][codes] if codes.size else codes
    return replace(cut.tokens, words=memory.words, codes=codes.astype(np.int32))
