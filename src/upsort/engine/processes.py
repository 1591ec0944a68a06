"""Cleaning and tokenising in several local processes, block by block, in order."""

from collections import deque
from collections.abc import Iterable, Iterator, Sequence
from concurrent.futures import Future, ProcessPoolExecutor
from multiprocessing import get_all_start_methods, get_context

from upsort.core.plan import Clean
from upsort.core.text.cleaning import Cleaner, cleaner
from upsort.core.text.tokeniser import Tokens
from upsort.core.text.word_steps import Resources

_AHEAD = 2  # blocks in hand for each process, so that none waits and memory stays bounded

_cleaning: Cleaner | None = None


def cleaned_tokens(
    blocks: Iterable[Sequence[str]], settings: Clean, resources: Resources, workers: int
) -> Iterator[Tokens]:
    """The cleaned tokens of each block, in the order of the blocks."""
    if workers == 1:
        cleaning = cleaner(settings, resources)
        yield from map(cleaning.tokens_of, blocks)
        return
    pending: deque[Future[Tokens]] = deque()
    context = get_context("fork" if "fork" in get_all_start_methods() else "spawn")  # a fork starts in no time
    with ProcessPoolExecutor(workers, context, initializer=_prepare, initargs=(settings, resources)) as pool:
        for block in blocks:
            pending.append(pool.submit(_tokens_of, block))
            if len(pending) >= _AHEAD * workers:
                yield pending.popleft().result()
        while pending:
            yield pending.popleft().result()


def _prepare(settings: Clean, resources: Resources) -> None:
    global _cleaning
    _cleaning = cleaner(settings, resources)


def _tokens_of(block: Sequence[str]) -> Tokens:
    assert _cleaning is not None
    return _cleaning.tokens_of(block)
