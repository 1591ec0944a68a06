"""A Dask cluster of two local workers, one thread each, against one process: counting, scoring and training; what a part costs.

    python bench/cluster.py [DOCUMENTS] [--smallest]

The documents lie in 16 Parquet files. Starting the cluster is not counted, reaching it is; how long that takes is told."""

import subprocess
import sys
import tempfile
from collections.abc import Callable
from functools import partial
from itertools import islice
from pathlib import Path
from time import perf_counter

import pyarrow as pa
import pyarrow.parquet as pq
from made_text import documents
from measuring import SMALLEST, command, gain_of_a_second_process, medians_in_turn, size_asked

from upsort.parallel.cluster import LOCAL, connected

PARTS = 16
LABELS = 20
WITHOUT_FOLDS = ("--no-check", "--set=classifier.calibrate=none")


def main() -> None:
    """Measure and print a table."""
    many = size_asked(1_000_000, 1_600)
    with tempfile.TemporaryDirectory() as name, connected(f"{LOCAL}2") as cluster:
        folder = Path(name)
        made_parts(folder, many)
        print(f"{many:,} documents in {PARTS} Parquet files, {LABELS} labels")
        print(f"a second process makes arithmetic {gain_of_a_second_process():.2f} times as fast here")
        sorter = str(folder / "a.sorter")
        columns = ("--text=text", "--label=label", "--quiet")
        small = str(folder / "small.csv")
        Path(small).write_text("text,label\nmoss,wet\nfern,dry\n")
        line = ["features", small, *columns, "--in-at-least=1"]
        ways = {"one": "--workers=1", "two": f"--cluster={cluster.where}"}
        times = medians_in_turn({name: partial(command, [*line, way]) for name, way in ways.items()}, 3)
        print(f"reaching the cluster takes {times['two'] - times['one']:.1f} s of each command")
        print("| what | one process | cluster of two | times as fast | goal |\n|---|---|---|---|---|")
        command(["train", *map(str, sorted(folder.glob("part-000[01].parquet"))), *columns, "--no-check", "-o", sorter])
        all_parts = str(folder / "part-*.parquet")
        measured = (
            ("counting (features)", 1.7, ["features", all_parts, *columns]),
            ("scoring into one table", "", ["score", sorter, all_parts, "--quiet"]),
            ("scoring into a file for each part", 1.8, ["score", sorter, all_parts, "--quiet"]),
            ("naive Bayes, folds included", 1.7, ["train", all_parts, *columns, "--classifier=naive-bayes"]),
            ("logistic, folds included", 1.7, ["train", all_parts, *columns]),
            ("logistic without folds", 1.5, ["train", all_parts, *columns, *WITHOUT_FOLDS]),
        )
        for what, goal, line in measured[:1] if SMALLEST else measured:
            output = "out.sorter" if line[0] == "train" else "scored/*.csv" if "each part" in what else "out.csv"
            shared = [*line, "--overwrite", "-o", str(folder / output)]
            works: dict[str, Callable[[], object]] = {name: partial(command, [*shared, way]) for name, way in ways.items()}
            seconds = medians_in_turn(works, 1 if "logistic" in what else 3)
            gain = seconds["one"] / seconds["two"]
            print(f"| {what} | {seconds['one']:.1f} s | {seconds['two']:.1f} s | {gain:.2f} | {goal} |")
        began = perf_counter()
        items = 20 if SMALLEST else 400
        list(cluster.in_order(abs, range(items)))
        print(f"a part that takes no time costs {1000 * (perf_counter() - began) / items:.1f} ms")
        there = f"--cluster={cluster.where}"
        for number in (2,) if SMALLEST else (2, PARTS):
            parts = [str(path) for path in sorted(folder.glob("part-*.parquet"))[:number]]
            naive_bayes = [
                "train",
                *parts,
                *columns,
                *WITHOUT_FOLDS,
                "--classifier=naive-bayes",
                "-o",
                str(folder / "out.sorter"),
            ]
            score = ["score", sorter, *parts, "--quiet", "-o", str(folder / "scored" / "*.csv")]
            for what, line in (("scoring into parts", score), ("training naive Bayes", naive_bayes))[: 1 if SMALLEST else 2]:
                memory = command([*line, "--overwrite", there])[1]
                sent, received = traffic([*line, "--overwrite", there])
                print(
                    f"{what}, {number * many // PARTS:,} documents: the driver takes {memory / 1e6:.0f} MB, "
                    f"sends {sent / 1e6:.2f} MB and receives {received / 1e6:.2f} MB"
                )


COUNTING_BYTES = """
import sys
from distributed.comm import tcp
from upsort.cli.main import main
bytes_of = {"sent": 0, "received": 0}
write, from_frames = tcp.TCP.write, tcp.from_frames
async def counted_write(self, *given, **named):
    written = await write(self, *given, **named)
    bytes_of["sent"] += written
    return written
async def counted_frames(frames, *given, **named):
    bytes_of["received"] += sum(getattr(frame, "nbytes", None) or len(frame) for frame in frames)
    return await from_frames(frames, *given, **named)
tcp.TCP.write, tcp.from_frames = counted_write, counted_frames
status = main(sys.argv[1:])
print(bytes_of["sent"], bytes_of["received"])
sys.exit(status)
"""


def traffic(line: list[str]) -> tuple[int, int]:
    """The bytes that the driver of a command sends to the cluster, and those that it receives."""
    done = subprocess.run([sys.executable, "-c", COUNTING_BYTES, *line], capture_output=True, text=True, check=True)
    sent, received = map(int, done.stdout.splitlines()[-1].split())
    return sent, received


def made_parts(folder: Path, many: int) -> None:
    """Parquet files of documents, of which each holds a word of its label."""
    each = many // PARTS
    made = documents(many, 120)
    for part in range(PARTS):
        texts = list(islice(made, each))
        numbers = [(part * each + place) * 7919 % LABELS for place in range(each)]
        table = {
            "text": [
                f"{text} sign{number if place % 5 else 0}"
                for place, (text, number) in enumerate(zip(texts, numbers, strict=True))
            ],
            "label": [f"label {number}" for number in numbers],
        }
        pq.write_table(pa.table(table), folder / f"part-{part:04}.parquet", row_group_size=20_000)


if __name__ == "__main__":
    main()
