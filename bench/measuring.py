"""What the benchmarks share: medians of repeated runs, and the peak memory of a command.

With --smallest, which shows that a benchmark runs, everything is done once, and commands in this process."""

import contextlib
import io
import resource
import statistics
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from upsort.cli.main import main

SMALLEST = "--smallest" in sys.argv


def size_asked(usual: int, smallest: int) -> int:
    """How large a benchmark is to be: the first argument, or as usual; with --smallest just large enough to run."""
    if SMALLEST:
        return smallest
    return int(sys.argv[1]) if len(sys.argv) > 1 else usual


def median_seconds(work: Callable[[], object], times: int = 3) -> float:
    """The median duration of some work."""
    return medians_in_turn({"work": work}, times)["work"]


def medians_in_turn(works: dict[Any, Callable[[], object]], times: int = 5) -> dict[Any, float]:
    """The median duration of each of several works, run in turn, so that a slow moment of the machine falls on all."""
    seconds: dict[Any, list[float]] = {name: [] for name in works}
    for _ in range(1 if SMALLEST else times):
        for name, work in works.items():
            began = time.perf_counter()
            work()
            seconds[name].append(time.perf_counter() - began)
    return {name: statistics.median(each) for name, each in seconds.items()}


def gain_of_a_second_process() -> float:
    """How many times as fast this machine does plain arithmetic in two processes as in one: what can be had at most."""
    steps = 200_000 if SMALLEST else 20_000_000
    code = f"total = 0\nfor number in range({steps}):\n    total += number"

    def running(many: int) -> float:
        began = time.perf_counter()
        for process in [subprocess.Popen([sys.executable, "-c", code]) for _ in range(many)]:
            process.wait()
        return time.perf_counter() - began

    return statistics.median(2 * running(1) / running(2) for _ in range(1 if SMALLEST else 3))


def high_water_mark() -> int:
    """Peak resident memory of this process in bytes (Linux counts it afresh for each program)."""
    with Path("/proc/self/status").open(encoding="ascii") as status:
        return next(int(line.split()[1]) * 1024 for line in status if line.startswith("VmHWM"))


def command(arguments: list[str]) -> tuple[float, int]:
    """Seconds and peak memory in bytes of one run of the program, start included."""
    seconds, _, peak = command_with_processor_time(arguments)
    return seconds, peak


def command_with_processor_time(arguments: list[str]) -> tuple[float, float, int]:
    """The same with seconds of the processors in the middle."""
    code = (
        "import sys; sys.path.insert(0, sys.argv[1]); from measuring import high_water_mark\n"
        "from upsort.cli.main import main; status = main(sys.argv[2:]); print(high_water_mark()); sys.exit(status)"
    )
    began, before = time.perf_counter(), resource.getrusage(resource.RUSAGE_CHILDREN)
    if SMALLEST:
        with contextlib.redirect_stdout(io.StringIO()), contextlib.redirect_stderr(io.StringIO()) as said:
            status = main(arguments)
        assert status == 0, said.getvalue()
        return time.perf_counter() - began, 0.0, high_water_mark()
    done = subprocess.run(
        [sys.executable, "-c", code, str(Path(__file__).parent), *arguments], capture_output=True, text=True, check=True
    )
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    spent = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
    return time.perf_counter() - began, spent, int(done.stdout.splitlines()[-1])
