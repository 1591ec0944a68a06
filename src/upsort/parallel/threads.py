"""Work shared by threads of this process, item by item, with results in order; how many of them memory has room for; and lines
that a thread waits for.

What takes the time (compiled passes, products of matrices, Arrow) lets threads run side by side. Results are the same for any
executor."""

import os
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from queue import Empty, Queue
from threading import Thread
from time import monotonic
from typing import Any, BinaryIO, ClassVar, Protocol, TypeVar

from upsort.core.executors import ParallelMap, map_threads, reporting
from upsort.core.lazy import psutil, record
from upsort.core.matrices.partitioned import Executor


def fitting(threads: int, bytes_each: int) -> int:
    """As many of the wanted threads as there is room for. bytes_each: what each takes beside what all share."""
    free = int(psutil.virtual_memory().available)
    return max(1, min(threads, free // max(bytes_each, 1)))


Item = TypeVar("Item")
Result = TypeVar("Result")


def ignore(done: int) -> None:
    """Report nothing."""


class ExecutionEngine(Protocol):
    """Does work on many items."""

    @property
    def workers(self) -> int:
        """How many do the work now, all of them together; of a cluster they come and go."""

    @property
    def threads(self) -> int:
        """How many threads what is done here alone may use."""

    @property
    def elsewhere(self) -> bool:
        """Whether the work is done by others than this process: they may be anywhere, are sent what the work holds, and may be
        replaced in the middle of it, so that no item may rest on what an earlier one taught."""

    @property
    def pieces(self) -> int:
        """How many pieces of tables others have done, as `piece_done` was reported."""

    def piece_done(self) -> None:
        """One more is."""

    @property
    def executor(self) -> Executor | None:
        """Who keeps the parts of a matrix and works on them; None where that is this process."""

    def in_order(self, work: Callable[[Any], Result], items: Iterable[Item], together: int = 1) -> Iterator[tuple[Item, Result]]:
        """Each item with what the work makes of it, in the order of the items. together: so many at most of a long list go to a
        worker as one, where small results make that worth while."""

    def parallel(self, at_most: int, done: Callable[[int], None] = ignore) -> ParallelMap:
        """What does pieces of work by at most so many at once, where there are that many. done: is called with 1 for each piece
        that is done."""


_USUAL = 8  # beyond that, reading and writing are what is waited for
_AHEAD = 2  # items in hand for each thread, so that none waits


def in_order(work: Callable[[Item], Result], items: Iterable[Item], threads: int) -> Iterator[tuple[Item, Result]]:
    """Each item with what the work makes of it, in the order of the items; so many threads work at once.

    No more items are taken than are soon worked on. Where the work ends with an exception, or is interrupted, those in work are
    waited for, and no more are begun."""
    if threads == 1:
        for item in items:
            yield item, work(item)
        return
    pool = ThreadPoolExecutor(threads)
    pending: deque[tuple[Item, Future[Result]]] = deque()
    try:
        for item in items:
            pending.append((item, pool.submit(work, item)))
            while pending and (pending[0][1].done() or len(pending) >= _AHEAD * threads):
                first, future = pending.popleft()
                yield first, future.result()
        for first, future in pending:
            yield first, future.result()
    finally:
        pool.shutdown(cancel_futures=True)


@record(frozen=True)
class Threads:
    """This process, so many threads of it. See `ExecutionEngine`."""

    workers: int = 1
    elsewhere: ClassVar[bool] = False
    executor: ClassVar[None] = None
    pieces: ClassVar[int] = 0

    @property
    def threads(self) -> int:
        """As many."""
        return self.workers

    def piece_done(self) -> None:
        """Nothing is kept of it."""

    def in_order(self, work: Callable[[Any], Result], items: Iterable[Item], together: int = 1) -> Iterator[tuple[Item, Result]]:
        """As `in_order`. together: makes no difference."""
        return in_order(work, items, self.workers)

    def parallel(self, at_most: int, done: Callable[[int], None] = ignore) -> ParallelMap:
        """Pieces of work by so many threads."""
        return lambda work, count: map_threads(reporting(work, done), range(count), min(at_most, count) or 1)


def usual_workers() -> int:
    """How many share work by default."""
    return min(os.cpu_count() or 1, _USUAL)


_MOST_TOGETHER = 1000  # lines that are handed on together


def arriving_lines(stream: BinaryIO, window: float) -> Iterator[list[bytes]]:
    """The lines of a stream, together those that have arrived when the first of them is taken, or seconds later."""
    queue: Queue[bytes] = Queue(_MOST_TOGETHER)
    failures: list[OSError] = []

    def read() -> None:
        try:
            for line in _lines_of(stream):
                queue.put(line)
        except OSError as error:
            failures.append(error)
        queue.put(b"")

    Thread(target=read, daemon=True).start()
    while line := queue.get():
        lines, ends = [line], monotonic() + window
        with suppress(Empty):
            while lines[-1] and len(lines) < _MOST_TOGETHER:
                left = ends - monotonic()
                lines.append(queue.get(left > 0, max(left, 0.0)))
        yield [line for line in lines if line]
        if not lines[-1]:
            break
    if failures:
        raise failures[0]


def _lines_of(stream: BinaryIO) -> Iterator[bytes]:
    """The lines of a stream. A file is read below its buffer, whose lock a waiting thread would hold when the program ends."""
    try:
        descriptor = stream.fileno()
    except OSError:
        yield from iter(stream.readline, b"")
        return
    pending: list[bytes] = []
    while piece := os.read(descriptor, 1 << 16):
        *whole, rest = piece.split(b"\n")
        for line in whole:
            yield b"".join([*pending, line, b"\n"])
            pending = []
        pending.append(rest)
    if last := b"".join(pending):
        yield last
