"""Work shared by local processes, item by item, with results in order; and how many processes memory has room for.

The parent works too: it takes an item itself whenever the others have enough queued. Results are the same for any executor."""

import os
import signal
import threading
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from contextlib import contextmanager
from itertools import chain, islice
from multiprocessing import active_children, get_all_start_methods, get_context, parent_process
from multiprocessing.connection import wait
from multiprocessing.process import BaseProcess
from typing import Any, Protocol, TypeVar

from upsort.core.errors import DataProblem
from upsort.core.executors import ParallelMap, reporting, sequential
from upsort.core.lazy import psutil, record
from upsort.core.matrices.partitioned import Executor


def fitting(processes: int, bytes_each: int) -> int:
    """As many of the wanted processes as there is room for, this one among them, which needs the same. bytes_each: what each
    takes beside what all share."""
    free = int(psutil.virtual_memory().available)
    return max(1, min(processes, free // max(bytes_each, 1)))


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
    def reads(self) -> bool:
        """Whether those who work read files by themselves; else they are given what was read."""

    @property
    def elsewhere(self) -> bool:
        """Whether the work is done by others than this process and its own: they may be anywhere, are sent what the work holds,
        and may be replaced in the middle of it, so that no item may rest on what an earlier one taught."""

    @property
    def pieces(self) -> int:
        """How many pieces of tables others have done, as `piece_done` was reported."""

    def piece_done(self) -> None:
        """One more is."""

    @property
    def executor(self) -> Executor | None:
        """Who keeps the parts of a matrix and works on them; None where that is this process."""

    def in_order(
        self, work: Callable[[Any], Result], items: Iterable[Item], learns: bool = True
    ) -> Iterator[tuple[Item, Result]]:
        """Each item with what the work makes of it, in the order of the items. learns: whether the work is faster for having been
        done before."""

    def parallel(self, at_most: int, done: Callable[[int], None] = ignore) -> ParallelMap:
        """What does pieces of work by at most so many at once, where there are that many. done: is called with 1 for each piece
        that is done."""


_AHEAD = 2  # items in hand for each other process, so that none waits
_USUAL = 8  # beyond that, reading and writing are what is waited for
_ENDING = {signal.SIGINT, signal.SIGTERM}
_MOST_QUEUED = 8  # for each process, so that memory stays bounded where one item takes long

_work: Callable[[Any], Any] | None = None
_working = _leaving = False


def in_order(
    work: Callable[[Any], Result],
    items: Iterable[Item],
    workers: int,
    sent: Callable[[Item], Any] | None = None,
    include_parent: bool = True,
) -> Iterator[tuple[Item, Result]]:
    """Each item with what the work makes of it, in the order of the items; so many processes work at once.

    work: may hold anything; processes that are forked have it at once, others are sent it once. sent: what of an item the work is
    given; all of it, where nothing is said. include_parent: whether the first item is worked on before there are others: what it
    teaches the work, a fork knows too."""
    given = sent or _is_whole
    items = iter(items)
    for item in islice(items, None if workers == 1 else int(include_parent)):
        yield item, work(given(item))
    begun = list(islice(items, 2))
    if workers == 1 or len(begun) < 2:  # one alone is not worth another process
        for item in begun:
            yield item, work(given(item))
        return
    items = chain(begun, items)
    pending: deque[tuple[Item, Future[Result]]] = deque()
    children = workers - 1
    with _children(children, work) as pool:
        for item in items:
            if sum(not future.done() for _, future in pending) < _AHEAD * children:
                pending.append((item, pool.submit(_do, given(item))))
            else:
                pending.append((item, _done(work(given(item)))))
            while pending and (pending[0][1].done() or len(pending) >= _MOST_QUEUED * workers):
                first, future = pending.popleft()
                yield first, future.result()
        for first, future in pending:
            yield first, future.result()


def forks() -> bool:
    """Whether processes begin as copies of this one, with all that it holds."""
    return "fork" in get_all_start_methods()


@record(frozen=True)
class Processes:
    """This process and others of this machine, so many in all. See `ExecutionEngine`."""

    workers: int = 1

    @property
    def threads(self) -> int:
        """As many."""
        return self.workers

    @property
    def reads(self) -> bool:
        """Copies of this process have the files open that it has."""
        return self.workers == 1 or forks()

    @property
    def elsewhere(self) -> bool:
        """No."""
        return False

    @property
    def pieces(self) -> int:
        """Of no interest: they are part of this process."""
        return 0

    def piece_done(self) -> None:
        """Nothing is kept of it."""

    @property
    def executor(self) -> Executor | None:
        """They have one memory."""
        return None

    def in_order(
        self, work: Callable[[Any], Result], items: Iterable[Item], learns: bool = True
    ) -> Iterator[tuple[Item, Result]]:
        """As `in_order`."""
        return in_order(work, items, self.workers, include_parent=learns)

    def parallel(self, at_most: int, done: Callable[[int], None] = ignore) -> ParallelMap:
        """As `parallel_map`."""
        return parallel_map(at_most, done)


def usual_workers() -> int:
    """How many processes share work where nobody says it."""
    return min(os.cpu_count() or 1, _USUAL)


def parallel_map(workers: int, done: Callable[[int], None] = ignore) -> ParallelMap:
    """Pieces of work done by so many processes, which have at once whatever the work holds; only results travel. Where processes
    cannot be forked there is one. done: see `ExecutionEngine.parallel`."""

    def run_all(work: Callable[[int], Result], count: int) -> list[Result]:
        able = min(workers, count) if forks() else 1
        if able <= 1:
            return sequential(reporting(work, done), count)
        return reported(in_order(work, range(count), able, include_parent=False), done)

    return run_all


def reported(results: Iterable[tuple[int, Result]], done: Callable[[int], None]) -> list[Result]:
    """The results of `in_order`; calls `done` with 1 for each."""
    collected = []
    for _, result in results:
        collected.append(result)
        done(1)
    return collected


@contextmanager
def _children(count: int, work: Callable[[Any], Any]) -> Iterator[ProcessPoolExecutor]:
    """Processes that do the work. They end with the block, at once where it ends with an exception, and with their parent,
    however that ends.

    Raises DataProblem where one of them was ended from outside."""
    context = get_context("fork" if forks() else "spawn")  # a fork starts in no time
    before = set(active_children())
    pool = ProcessPoolExecutor(count, context, initializer=_take, initargs=(work,))
    over = threading.Event()
    try:
        with _signals_blocked():  # until the processes know what signals mean to them
            pool.submit(int)  # begins them all
        if forks():
            _close_write_end(pool)
            children = set(active_children()) - before
            threading.Thread(target=_terminate_all, args=(children, over), daemon=True).start()
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
        over.set()
        pool.shutdown(wait=True, cancel_futures=True)


def _close_write_end(pool: ProcessPoolExecutor) -> None:
    """Close this process's own end of the pipe that others write results to: when they are gone, reading it ends."""
    results = getattr(pool, "_result_queue", None)
    if (end := getattr(results, "_writer", None)) is not None:
        end.close()


def _terminate_all(children: Iterable[BaseProcess], over: threading.Event) -> None:
    """Where one process is ended from outside, end the others too: if it was handing a result over, the rest of it would be
    waited for as long as any of them might write."""
    children = list(children)
    wait([child.sentinel for child in children])
    if not over.is_set():
        for child in children:
            child.kill()


@contextmanager
def _signals_blocked() -> Iterator[None]:
    """Signals that end a program come after the block; processes that begin in it let them in themselves."""
    if threading.current_thread() is not threading.main_thread() or not hasattr(signal, "pthread_sigmask"):
        yield
        return
    before = signal.pthread_sigmask(signal.SIG_BLOCK, _ENDING)
    try:
        yield
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)


def _is_whole(item: Any) -> Any:
    return item


def _done(result: Result) -> Future[Result]:
    future: Future[Result] = Future()
    future.set_result(result)
    return future


def _take(work: Callable[[Any], Any]) -> None:
    global _work
    _work = work
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the parent is reported, and ends its children
    signal.signal(signal.SIGTERM, _leave)
    if hasattr(signal, "pthread_sigmask"):
        signal.pthread_sigmask(signal.SIG_UNBLOCK, _ENDING)
    threading.Thread(target=_end_with_parent, daemon=True).start()


def _end_with_parent() -> None:
    parent = parent_process()
    if parent is not None:
        parent.join()
        os._exit(1)


def _leave(number: int, frame: object) -> None:
    """End at once in the middle of work. In the middle of handing a result over, for whose rest the parent would wait, end with
    the next item, or when there is none."""
    global _leaving
    _leaving = True
    if _working:
        os._exit(1)


def _do(item: Any) -> Any:
    global _working
    assert _work is not None
    _working = True
    if _leaving:
        os._exit(1)
    try:
        return _work(item)
    finally:
        _working = False
