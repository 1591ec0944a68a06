"""Cleaning and tokenising in several local processes, block by block, in order.

The steps on running text and the tokeniser run in the other processes. The steps on words are left to this one, so that a
word is stemmed once, not once in each process.
"""

from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Future, ProcessPoolExecutor
from multiprocessing import get_all_start_methods, get_context
from typing import Any, TypeVar

from upsort.core.plan import Clean
from upsort.core.text.cleaning import Cleaner, cleaner
from upsort.core.text.tokeniser import Tokens

_AHEAD = 2  # blocks in hand for each process, so that none waits and memory stays bounded

_cleaning: Cleaner | None = None


def cut_words(blocks: Iterable[Sequence[str]], cleaning: Cleaner, workers: int) -> Iterator[Tokens]:
    """The tokens of each block before the steps on words, in the order of the blocks."""
    if workers == 1:
        yield from map(cleaning.words_of, blocks)
        return
    pending: deque[Future[Tokens]] = deque()
    context = get_context("fork" if "fork" in get_all_start_methods() else "spawn")  # a fork starts in no time
    needs = (cleaning.settings, cleaning.with_sentences)
    with ProcessPoolExecutor(workers, context, initializer=_prepare, initargs=needs) as pool:
        for block in blocks:
            pending.append(pool.submit(_cut, block))
            if len(pending) >= _AHEAD * workers:
                yield pending.popleft().result()
        while pending:
            yield pending.popleft().result()


def _prepare(settings: Clean, with_sentences: bool) -> None:
    global _cleaning
    _cleaning = cleaner(settings, with_sentences=with_sentences)


def _cut(block: Sequence[str]) -> Tokens:
    assert _cleaning is not None
    return _cleaning.words_of(block)


Item = TypeVar("Item")
Result = TypeVar("Result")
_work: Callable[[Any], Any] | None = None


def in_order(work: Callable[[Item], Result], items: Iterable[Item], workers: int) -> Iterator[tuple[Item, Result]]:
    """Each item with what the work makes of it, in the order of the items; so many processes work at once.

    work: may hold anything; processes that are forked have it at once, others are sent it once.
    """
    if workers == 1:
        for item in items:
            yield item, work(item)
        return
    pending: deque[tuple[Item, Future[Result]]] = deque()
    context = get_context("fork" if "fork" in get_all_start_methods() else "spawn")
    with ProcessPoolExecutor(workers, context, initializer=_take, initargs=(work,)) as pool:
        for item in items:
            pending.append((item, pool.submit(_do, item)))
            if len(pending) >= _AHEAD * workers:
                first, future = pending.popleft()
                yield first, future.result()
        while pending:
            first, future = pending.popleft()
            yield first, future.result()


def _take(work: Callable[[Any], Any]) -> None:
    global _work
    _work = work


def _do(item: Any) -> Any:
    assert _work is not None
    return _work(item)
