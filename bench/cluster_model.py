"""What clusters of any size take, by a simulation of their events whose costs are measured here; checked against clusters of one
and two workers on this machine.

    python bench/cluster_model.py [DOCUMENTS] [--smallest]

Measured are: what a document costs a worker, by two corpora on a cluster of one; what a request costs the driver; what is added
for each command; on three quarters of the documents, how much slower two workers are because they share this machine, which is
left out for larger clusters. Simulated are the driver, which makes requests
and takes results one after the other, and workers, of which each does one request at a time."""

import tempfile
from collections import deque
from collections.abc import Callable, Sequence
from functools import partial
from heapq import heappop, heappush
from math import ceil
from pathlib import Path
from time import perf_counter
from typing import Any

from cluster import PARTS, WITHOUT_FOLDS, made_parts
from measuring import SMALLEST, command, medians_in_turn, size_asked

from upsort.parallel.cluster import _AT_ONCE, LOCAL, Cluster, connected
from upsort.workflows.shared.distributed_counting import _MOST_PARTS, PARTS_PER_PARTITION, PIECES_OF_A_PART
from upsort.workflows.shared.score_parts import _TOGETHER

PIECE = 20_000  # documents: a row group of the files made here
FAN_IN = 8  # sums that are added up by one request


def main() -> None:
    """Measure, predict and print."""
    many = size_asked(1_920_000, 3_200)
    commands = {"scoring into parts": scoring} if SMALLEST else {"scoring into parts": scoring, "training naive Bayes": training}
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        made_parts(folder, many)
        sorter = folder / "a.sorter"
        few, more = 4, 12
        command(["train", *files(folder, 2), "--text=text", "--label=label", "--no-check", "--quiet", "-o", str(sorter)])
        each = many // PARTS
        with connected(f"{LOCAL}1") as one, connected(f"{LOCAL}2") as two:
            request = cost_of_a_request(one)
            works: dict[Any, Callable[[], object]] = {}
            for what in commands:
                line = lines(folder, sorter)[what]
                for number, workers, cluster in ((few, 1, one), (more, 1, one), (PARTS, 1, one), (more, 2, two), (PARTS, 2, two)):
                    whole = [*line, *files(folder, number), "--quiet", "--overwrite", f"--cluster={cluster.where}"]
                    works[what, number, workers] = partial(command, whole)
            times = medians_in_turn(works, 3)
        print(f"a request costs the driver {1000 * request:.1f} ms")
        print("| what | documents | workers | measured | predicted | off |\n|---|---|---|---|---|---|")
        models = {}
        for what, simulated in commands.items():
            document = (times[what, more, 1] - times[what, few, 1]) / ((more - few) * each)
            start = times[what, few, 1] - simulated(few * each, 1, document, request)
            beyond = times[what, more, 2] - start - simulated(more * each, 2, document, request)
            shared = 1 + max(beyond, 0.0) / max(simulated(more * each, 2, document, request), 1e-9)
            models[what] = (simulated, document, start)
            for workers, slower in ((1, 1.0), (2, shared)):
                predicted = start + simulated(PARTS * each, workers, document * slower, request)
                took = times[what, PARTS, workers]
                print(
                    f"| {what} | {PARTS * each:,} | {workers} | {took:.1f} s | {predicted:.1f} s | {predicted / took - 1:+.0%} |"
                )
            print(f"  {what}: {start:.1f} s, {1e6 * document:.1f} µs a document; two workers here are slower by {shared - 1:.0%}")
        print("| what | documents | " + " | ".join(f"{workers:,} workers" for workers in (16, 256, 4096)) + " |")
        print("|---|---|---|---|---|")
        for what, (simulated, document, start) in models.items():
            for documents in (10**5,) if SMALLEST else (10**8, 10**9, 10**10):
                cells = (in_words(start + simulated(documents, workers, document, request)) for workers in (16, 256, 4096))
                print(f"| {what} | 10^{len(str(documents)) - 1} | {' | '.join(cells)} |")


def files(folder: Path, number: int) -> list[str]:
    """Some of the files."""
    return [str(path) for path in sorted(folder.glob("part-*.parquet"))[:number]]


def lines(folder: Path, sorter: Path) -> dict[str, list[str]]:
    """The commands that are measured, but for their inputs."""
    train = ["train", "--text=text", "--label=label", *WITHOUT_FOLDS, "--classifier=naive-bayes", "-o", str(folder / "b.sorter")]
    return {"scoring into parts": ["score", str(sorter), "-o", str(folder / "scored" / "p-*.csv")], "training naive Bayes": train}


def cost_of_a_request(cluster: Cluster) -> float:
    """Seconds of the driver, or of the scheduler, for a request that takes a worker no time, where very many are under way."""
    requests = 20 if SMALLEST else 2000
    began = perf_counter()
    cluster.executor.gather([cluster.executor.submit(abs, number) for number in range(requests)])
    return (perf_counter() - began) / requests


def scoring(documents: int, workers: int, document: float, request: float) -> float:
    """Seconds of scoring into parts: one list of pieces, of which many together are one request where there are very many."""
    pieces, most, requests, done = ceil(documents / PIECE), _AT_ONCE * workers, [], 0
    while done < pieces:
        some = min(_TOGETHER, 1 + done // (2 * most), pieces - done)
        requests.append(some * PIECE * document)
        done += some
    return simulate(requests, workers, request, most)


def training(documents: int, workers: int, document: float, request: float) -> float:
    """Seconds of naive Bayes: texts counted, terms dealt to stretches and merged, counts put into the columns of the corpus, sums
    by label, and prints dealt and compared. That counting is four fifths of what a document costs, and
    that a request between workers costs a third of others, is assumed."""
    pieces = ceil(documents / PIECE)
    parts = ceil(pieces / max(PIECES_OF_A_PART, ceil(pieces / _MOST_PARTS)))
    stretches, of_a_part = ceil(parts / PARTS_PER_PARTITION), documents / parts * document
    counted = simulate([of_a_part * 0.8] * parts, workers, request, parts)
    after = simulate([of_a_part * 0.2] * parts, workers, request, parts)
    dealt = simulate([0.0] * (3 * parts * (stretches + 1)), workers, request / 3, parts)
    summed = 0.0
    while parts > 1:
        parts = ceil(parts / FAN_IN)
        summed += simulate([request] * parts, workers, request, parts)
    return counted + after + dealt + summed


def simulate(requests: Sequence[float], workers: int, request: float, at_once: int) -> float:
    """Seconds until all requests, seconds of a worker each, are done and their results taken, in order.

    The driver makes one request after the other, half of whose cost is for taking its result; no more than `at_once` are under
    way. A request is done by the worker that is free first."""
    free, ends, now = [0.0] * workers, deque[float](), 0.0
    for seconds in requests:
        if len(ends) == at_once:
            now = max(now, ends.popleft()) + request / 2
        now += request / 2
        end = max(now, heappop(free)) + seconds
        heappush(free, end)
        ends.append(end)
    for end in ends:
        now = max(now, end) + request / 2
    return now


def in_words(seconds: float) -> str:
    """A duration in the unit that fits it."""
    for unit, size in (("days", 86_400.0), ("h", 3600.0), ("min", 60.0)):
        if seconds >= 2 * size:
            return f"{seconds / size:.0f} {unit}" if seconds >= 10 * size else f"{seconds / size:.1f} {unit}"
    return f"{seconds:.0f} s"


if __name__ == "__main__":
    main()
