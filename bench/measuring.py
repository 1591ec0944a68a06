"""What the benchmarks share: medians of repeated runs, and the peak memory of a command."""

import statistics
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path


def median_seconds(work: Callable[[], object], times: int = 3) -> float:
    """The median duration of some work."""
    seconds = []
    for _ in range(times):
        began = time.perf_counter()
        work()
        seconds.append(time.perf_counter() - began)
    return statistics.median(seconds)


def high_water_mark() -> int:
    """Peak resident memory of this process in bytes (Linux counts it afresh for each program)."""
    with Path("/proc/self/status").open(encoding="ascii") as status:
        return next(int(line.split()[1]) * 1024 for line in status if line.startswith("VmHWM"))


def command(arguments: list[str]) -> tuple[float, int]:
    """Seconds and peak memory in bytes of one run of the program, start included."""
    code = (
        "import sys; sys.path.insert(0, sys.argv[1]); from measuring import high_water_mark\n"
        "from upsort.cli.main import main; status = main(sys.argv[2:]); print(high_water_mark()); sys.exit(status)"
    )
    began = time.perf_counter()
    done = subprocess.run(
        [sys.executable, "-c", code, str(Path(__file__).parent), *arguments], capture_output=True, text=True, check=True
    )
    return time.perf_counter() - began, int(done.stdout.splitlines()[-1])
