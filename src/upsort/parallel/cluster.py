"""Work spread over a cluster of Dask: a scheduler at an address, workers anywhere that see the same files.

Moving data, placing work and doing it again where a worker is lost are the scheduler's. Here are the requests to it: a list of
items worked on in their order, a bounded number of them at once. What the work holds is sent once, and unpacked by each thread of
a worker for itself; no item rests on an earlier one, so that it does not matter who does it, or how often it was begun."""

import logging
import platform
import threading
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import CancelledError
from contextlib import ExitStack, contextmanager
from importlib import metadata
from itertools import islice
from typing import Any, TypeVar
from uuid import uuid4

import numpy as np

from upsort.core.errors import DataProblem, Problem, UsageProblem
from upsort.core.executors import ParallelMap
from upsort.core.lazy import ONE_THREAD, cloudpickle, dask_config, distributed, record
from upsort.core.matrices.partitioned import Executor, SumTuple
from upsort.parallel.threads import ignore, usual_workers

Item = TypeVar("Item")
Result = TypeVar("Result")

LOCAL = "local:"
"""The prefix of the address of a cluster that is started for one command, on this machine; a number of workers follows."""

_PATIENCE = 10  # seconds to reach a scheduler, and for it to have a worker
_AT_ONCE = 3  # items for each thread of the workers: one in work, and some so that none waits
_TRIES = 3  # for an item whose worker is lost with what it had been sent
_DIRECT_BYTES = 100_000  # bytes; what is larger goes to a worker by itself, not through the list of work
_LOST = "The cluster at {} is gone: {}."
_AFTER_LOSS = "Start it again, and the command; score resumes with --resume where it wrote a table."
_CERTIFICATES = "Name them under distributed.comm.tls in the configuration of Dask, ~/.config/dask/*.yaml."
_OF_LOCAL = {
    # One thread each; and freed memory is kept: to give it back at once, as workers are reported else, costs a fifth of the time.
    "distributed.nanny.pre-spawn-environ": ONE_THREAD,
    "distributed.worker.profile.enabled": False,
}
_thread_state = threading.local()


class Cluster:
    """Workers of a cluster. See `ExecutionEngine`."""

    threads = usual_workers()
    elsewhere = True

    def __init__(self, client: Any, address: str) -> None:
        self.client, self.address = client, address
        self.pieces = 0

    @property
    def workers(self) -> int:
        """Those that the scheduler has."""
        with self.reporting_losses():
            return len(self.client.nthreads())

    @property
    def where(self) -> str:
        """Where others reach it, too, while it is there."""
        return str(self.client.scheduler.address)

    def piece_done(self) -> None:
        """See `ExecutionEngine`."""
        self.pieces += 1

    @property
    def executor(self) -> Executor:
        """The workers."""
        return _ClusterExecutor(self)

    def in_order(self, work: Callable[[Any], Result], items: Iterable[Item], together: int = 1) -> Iterator[tuple[Item, Result]]:
        """See `ExecutionEngine`. Raises DataProblem where the scheduler is lost, or a worker cannot do its work."""
        pending: deque[tuple[list[Item], Any]] = deque()

        def submitted(some: list[Item], work_there: Any) -> Any:
            return self.client.submit(_do, work_there, self._to_send(some), key=_key(work))

        def first() -> Iterator[tuple[Item, Result]]:
            """The results that have been waited for longest. What a worker that is lost had been sent is sent once more."""
            some, future = pending.popleft()
            for _ in range(_TRIES):
                try:
                    return zip(some, self._results(future), strict=True)
                except CancelledError:
                    with self.reporting_losses():
                        future = submitted(some, self.client.scatter(_serialised(work), broadcast=True))
            with self.reporting_losses():
                return zip(some, self._results(future), strict=True)

        try:
            with self.reporting_losses():
                sent = self.client.scatter(_serialised(work), broadcast=True)
                most = _AT_ONCE * self._threads_there()
            rest, done, asked = iter(items), 0, 0
            while some := list(islice(rest, min(together, 1 + done // (2 * most)))):
                done, asked = done + len(some), asked + 1
                with self.reporting_losses():
                    if asked % most == 0:
                        most = _AT_ONCE * self._threads_there()  # workers come and go
                    pending.append((some, submitted(some, sent)))
                while len(pending) >= most or (pending and pending[0][1].done()):
                    yield from first()
            while pending:
                yield from first()
        finally:
            if pending and self.client.status == "running":
                self.client.cancel([future for _, future in pending], force=True)

    def parallel(self, at_most: int, done: Callable[[int], None] = ignore) -> ParallelMap:
        """See `ExecutionEngine`."""

        def run_all(work: Callable[[int], Result], count: int) -> list[Result]:
            collected = []
            for _, result in self.in_order(work, range(count)):
                collected.append(result)
                done(1)
            return collected

        return run_all

    def results(self, futures: Sequence[Any]) -> list[Any]:
        """What pieces of work came to. Raises as `in_order`."""
        with self.reporting_losses():
            results: list[Any] = self.client.gather(list(futures))
        for result in results:
            _check_refusal(result)
        return results

    def _threads_there(self) -> int:
        threads: int = sum(self.client.nthreads().values())
        return max(1, threads)

    def _to_send(self, item: Any) -> Any:
        serialised = _serialised(item)
        return self.client.scatter(serialised) if len(serialised.content) > _DIRECT_BYTES else serialised

    def _results(self, future: Any) -> list[Any]:
        with self.reporting_losses(cancelled=self.client.status != "running"):
            results: list[Any] = future.result()
        for result in results:
            _check_refusal(result)
        return results

    @contextmanager
    def reporting_losses(self, cancelled: bool = True) -> Iterator[None]:
        """Around requests to the cluster itself, and nothing else. cancelled: whether work that is cancelled is one, too."""
        try:
            yield
        except (OSError, CancelledError) as error:
            if isinstance(error, CancelledError) and not cancelled:
                raise
            raise DataProblem(_LOST.format(self.address, _message_of(error)), _AFTER_LOSS) from error
        except distributed.KilledWorker as error:
            raise DataProblem(
                f"Several workers of the cluster at {self.address} ended while they did the same piece of work.",
                "Often memory ran out: give each worker more, or fewer threads.",
            ) from error


def _check_refusal(result: Any) -> None:
    if isinstance(result, _WorkerProblem):
        raise result.problem


class _ClusterExecutor:
    """The workers of a cluster as the hands that keep values. Every value is made by a piece of work, so that what a worker that
    is lost has kept is made again by others."""

    def __init__(self, cluster: Cluster) -> None:
        self.cluster = cluster

    def put(self, value: Any, /) -> Any:
        """A future of the value; what is small goes with each piece of work."""
        serialised = cloudpickle.dumps(value)
        return self._submitted(self.put, _unpacked, serialised) if len(serialised) > _DIRECT_BYTES else value

    def submit(self, work: Callable[..., Any], /, *given: Any) -> Any:
        """A future of the result."""
        return self._submitted(work, _done, work, *given)

    def gather(self, handles: Sequence[Any], /) -> list[Any]:
        """The values of futures, which may be changed. Raises as `Cluster.in_order`."""
        return [_own(value) for value in self.cluster.results(handles)]

    def _submitted(self, named: Callable[..., Any], work: Callable[..., Any], *given: Any) -> Any:
        with self.cluster.reporting_losses():
            return self.cluster.client.submit(work, *given, key=_key(named))


def _key(work: Callable[..., Any]) -> str:
    """What a piece of work is called where the scheduler shows what is done."""
    name: str = getattr(work, "__name__", type(work).__name__)
    return f"{name.strip('_').lower()}-{uuid4().hex}"


def _own(value: Any) -> Any:
    """What came over the wire, its arrays copied where they lie in what came."""
    if isinstance(value, np.ndarray):
        return value if value.flags.writeable else value.copy()
    return type(value)(map(_own, value)) if type(value) in (list, tuple, SumTuple) else value


def _unpacked(content: bytes) -> Any:
    return cloudpickle.loads(content)


def _done(work: Callable[..., Any], *given: Any) -> Any:
    """Runs on a worker. The result for a refusal is a refusal."""
    refused = next((argument for argument in given if isinstance(argument, _WorkerProblem)), None)
    return refused if refused is not None else _attempted(work, *given)


def _attempted(work: Callable[..., Any], *given: Any) -> Any:
    """Runs on a worker. Problems are results, those with its system with its address: raised here, they would be in its log as
    faults, and what the system refuses would look like a loss of the cluster."""
    try:
        return work(*given)
    except OSError as error:
        what = f"{error.filename or 'A file'} cannot be read or written by the worker at {distributed.get_worker().address}"
        return _WorkerProblem(
            DataProblem(
                f"{what}: {error.strerror or _message_of(error)}.",
                "All workers must see the files under the same names, in a shared folder.",
            )
        )
    except Problem as problem:
        if isinstance(problem.__cause__, OSError):
            where = distributed.get_worker().address
            problem = DataProblem(f"On the worker at {where}: {problem.what}", problem.remedy)
        return _WorkerProblem(problem)


@record(frozen=True)
class _Serialised:
    """Something for workers. name: no two have the same."""

    name: str
    content: bytes


def _serialised(value: Any) -> _Serialised:
    return _Serialised(uuid4().hex, cloudpickle.dumps(value))


@record(frozen=True)
class _WorkerProblem:
    """What a worker could not do."""

    problem: Problem


def _do(work: _Serialised, items: _Serialised) -> list[Any]:
    """Runs on a worker."""
    if getattr(_thread_state, "name", "") != work.name:
        _thread_state.name, _thread_state.work = work.name, cloudpickle.loads(work.content)
    return [_attempted(_thread_state.work, item) for item in cloudpickle.loads(items.content)]


@contextmanager
def connected(address: str) -> Iterator[Cluster]:
    """A cluster while it is needed. address: of its scheduler, or `local:N` for one of N workers that ends with the command.

    Raises UsageProblem where the library is not installed or the address is none, DataProblem where nobody answers there or its
    workers have other versions of this program, of Python or of what results rest on."""
    try:
        distributed.Client  # noqa: B018 - loads it
    except ImportError:
        raise UsageProblem("A cluster needs a library that is not installed.", "pip install 'upsort[cluster]' has it.") from None
    for name in ["distributed", "tornado", "asyncio", *logging.root.manager.loggerDict]:
        if name.partition(".")[0] in ("distributed", "tornado", "asyncio"):
            logging.getLogger(name).setLevel(logging.CRITICAL + 1)  # what matters of it is reported as a problem
    with ExitStack() as stack:
        stack.enter_context(dask_config.set({"distributed.admin.large-graph-warning-threshold": "1 TiB"}))
        where: Any = address
        if address.startswith(LOCAL):
            where = stack.enter_context(_local(address))
        else:
            _check_address(address)
        try:
            client = stack.enter_context(distributed.Client(where, timeout=_PATIENCE, set_as_default=False))
            client.wait_for_workers(1, timeout=_PATIENCE)
        except (OSError, TimeoutError) as error:
            raise DataProblem(
                f"No cluster with a worker answers at {address}: {_message_of(error)}.",
                "Start it with: dask scheduler, and dask worker ADDRESS.",
            ) from None
        _check_versions(client)
        yield Cluster(client, address)


def _check_address(address: str) -> None:
    """Raises UsageProblem for what cannot be an address; the library's client, once made of one, takes long to give up."""
    try:
        scheme, place = distributed.comm.parse_address(address)
        distributed.comm.registry.get_backend(scheme)
        distributed.comm.parse_host_port(place)
    except ValueError as error:
        raise UsageProblem(f"{address!r} is no address of a cluster: {_message_of(error)}.", "One is tcp://host:8786.") from None
    if scheme == "tls":
        _check_certificates(address)


def _check_certificates(address: str) -> None:
    """Raises UsageProblem where the library's configuration has none that can be used."""
    try:
        context = distributed.Security().get_connection_args("client").get("ssl_context")
    except OSError as error:  # among them what certificates can have wrong
        raise UsageProblem(f"The certificates for {address} cannot be used: {_message_of(error)}.", _CERTIFICATES) from None
    if context is None:
        raise UsageProblem(f"{address} asks for certificates, and none are configured.", _CERTIFICATES)


def _local(address: str) -> Any:
    number = address.removeprefix(LOCAL)
    if not number.isdecimal() or not 1 <= int(number) <= 256:
        raise UsageProblem(f"{address!r} names no number of workers.", "For four of them: local:4.")
    with dask_config.set(_OF_LOCAL):
        return distributed.LocalCluster(n_workers=int(number), threads_per_worker=1, dashboard_address=None)


_DECISIVE = ("upsort", "numba", "numpy", "scipy")
"""Other versions of these may change the last digits of results."""


def _check_versions(client: Any) -> None:
    """Raises DataProblem where a worker has not the versions that this machine has. Python comes first: a worker with another
    minor version cannot run what is sent to it, and is only asked what the library itself knows."""

    def installed(names: tuple[str, ...]) -> dict[str, str]:  # sent as it is: a worker need not have this program to answer
        found = {}
        for name in names:
            try:
                found[name] = metadata.version(name)
            except metadata.PackageNotFoundError:
                found[name] = ""
        return found

    mine = _minor_version(platform.python_version())
    for worker, about in client.get_versions()["workers"].items():
        python = _minor_version(about["host"]["python"])
        if python != mine:
            raise DataProblem(
                f"The worker at {worker} has Python {python}, this machine has {mine}.", f"Start it with Python {mine}."
            )
    here = installed(_DECISIVE)
    for worker, there in client.run(installed, _DECISIVE).items():
        for name in _DECISIVE:
            if there[name] != here[name]:
                has, own = (f"{name} {found}" if found else f"no {name}" for found in (there[name], here[name]))
                package = "upsort[cluster]" if name == "upsort" else name
                remedy = f"Install the same there: pip install '{package}=={here[name]}'."
                raise DataProblem(
                    f"The worker at {worker} has {has}, this machine has {own}.",
                    remedy if here[name] else f"Both need {name}, or neither.",
                )


def _minor_version(version: str) -> str:
    """3.11 of 3.11.7 and the like."""
    return ".".join(version.split(".")[:2])


def _message_of(error: BaseException) -> str:
    return " ".join(str(error).split()).rstrip(".")[:200] or type(error).__name__
