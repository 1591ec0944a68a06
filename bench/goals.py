"""What people wait for, each beside its goal, in one run: counting, scoring, start, training, judging, penalties, the demo.

    python bench/goals.py [--counts FILE] [--smallest]

Without the counts of a real corpus (see bench/classifiers.py) the texts are made. Goals that are ratios name what they are a
ratio to; goals in seconds are of a machine with two cores."""

import csv
import random
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path

import numpy as np
from features import ours as our_features
from features import plain as plain_features
from made_text import documents
from measuring import SMALLEST, command, command_with_processor_time, gain_of_a_second_process, medians_in_turn
from scoring import plain as plain_scoring

from upsort.io.sorter.loading import load_sorter

Row = tuple[str, str, str]


def main() -> None:
    """Measure and print a table."""
    rows = [("a second process makes arithmetic", f"{gain_of_a_second_process():.2f} times as fast", "(what can be had)")]
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        rows += [*counting(), *short_rows(folder), *starts(folder), *training(folder), demo(folder)]
    print("| what | measured | goal |\n|---|---|---|")
    for row in rows:
        print(f"| {' | '.join(row)} |")


def starts(folder: Path) -> Iterator[Row]:
    """Small commands, against a program that only loads NumPy and SciPy's sparse matrices."""
    table, sorter = folder / "few.csv", folder / "few.sorter"
    few = documents(100 if SMALLEST else 1_000, 250)
    labelled(table, [(text, number % 5) for number, text in enumerate(few)])
    of_table = (str(table), "--text=text", "--label=label")
    lines = {
        "train": ("train", *of_table, "-o", str(sorter), "--overwrite"),
        "explain": ("explain", str(sorter), "a short text"),
        "score": ("score", str(sorter), str(table), "-o", str(folder / "few-scored.csv"), "--overwrite"),
        "survey": ("survey", *of_table),
        "evaluate": ("evaluate", str(sorter), str(table)),
    }

    def run(*line: str) -> None:
        subprocess.run([sys.executable, *line], check=True, capture_output=True)

    works = {name: partial(run, "-m", "upsort", *line, "--quiet") for name, line in lines.items()}
    seconds = medians_in_turn({"": partial(run, "-c", "import numpy, scipy.sparse"), **works}, 7)
    for name in works:
        goal = "0.25 s" if name in {"explain", "score"} else ""
        yield f"{name}, 1,000 rows, above libraries", f"{seconds[name] - seconds['']:.2f} s", goal


def training(folder: Path) -> Iterator[Row]:
    """Training as a whole, five folds and a choice of penalties, against each other."""
    table = folder / "many.csv"
    labelled(table, texts_of_counts() if "--counts" in sys.argv else made_texts())
    shared = (str(table), "--text=text", "--label=label", "--quiet")
    train = ["train", *shared, "-o", str(folder / "many.sorter"), "--overwrite"]
    once, folds, auto = (
        command_with_processor_time(line)
        for line in (train, ["cross-validate", *shared, "--no-ledger"], [*train, "--penalty=auto"])
    )
    yield f"train, {table.stat().st_size / 1e6:.0f} MB, with folds for probabilities and the quick check", described(once), "10 s"
    yield "five folds", f"{folds[0] / once[0]:.2f} trainings", "2.2"
    yield "penalty = auto", f"{auto[0] / once[0]:.2f} trainings", "3"


def counting() -> Iterator[Row]:
    """Cutting and counting words, in memory, against a plain loop: a regular expression, lower case, `Counter`, CSR."""
    texts = list(documents(600 if SMALLEST else 60_000, 420))
    for name, pairs, goal in (("words", False, "18 times, two threads 30"), ("words and pairs", True, "18 times")):
        ways: dict[str, Callable[[], object]] = {
            "plain": partial(plain_features, texts, pairs),
            "one": partial(our_features, texts, pairs),
            "two": partial(our_features, texts, pairs, 2),
        }
        seconds = medians_in_turn(ways, 3)
        one, two = seconds["plain"] / seconds["one"], seconds["plain"] / seconds["two"]
        yield f"cutting, counting and weighing {name}", f"{one:.1f} times the plain loop, two threads {two:.1f}", goal


def short_rows(folder: Path) -> Iterator[Row]:
    """Commands on many rows of some 60 characters."""
    rows = 2_000 if SMALLEST else 1_000_000
    table, sorter = folder / "short.csv", folder / "short.sorter"
    labelled(table, [(text, number % 2) for number, text in enumerate(documents(rows, 60, distinct=20_000))])
    labelled(folder / "part.csv", [(text, number % 2) for number, text in enumerate(documents(rows // 50, 60, distinct=20_000))])
    columns, quiet = ["--text=text", "--label=label"], ["--quiet", "--overwrite"]
    command(["train", str(folder / "part.csv"), *columns, "--no-check", *quiet, "-o", str(sorter)])
    began = time.perf_counter()
    plain_scoring(load_sorter(sorter), folder / "part.csv", folder / "plain.csv")
    plain = 50 * (time.perf_counter() - began)
    score = ["score", str(sorter), str(table), *quiet, "-o", str(folder / "scored.csv")]
    one, two = (command_with_processor_time([*score, f"--workers={many}"]) for many in (1, 2))
    yield (
        f"score, {rows:,} rows, one thread",
        f"{plain / one[0]:.1f} times a plain loop, {described(one)}; two threads {one[0] / two[0]:.2f} times as fast",
        "25 times, 6 s of the processor, 150 MB; 1.7",
    )
    for name, line, goal in (
        ("survey", ["survey", str(table), *columns], "12 s, 500 MB"),
        ("train, two labels", ["train", str(table), *columns, *quiet, "-o", str(sorter)], "30 s, 800 MB"),
        ("gather", ["gather", str(table), "--text=text", *quiet, "-o", str(folder / "g.csv")], "(8 s for 1 GB)"),
    ):
        yield f"{name}, {rows:,} rows, {table.stat().st_size / 1e6:.0f} MB", described(command_with_processor_time(line)), goal


def described(run: tuple[float, float, int]) -> str:
    """Time, processor time and memory of a run."""
    seconds, spent, peak = run
    return f"{seconds:.1f} s, {spent:.1f} s of the processor, {peak / 1e6:.0f} MB"


def demo(folder: Path) -> Row:
    """The whole example."""
    if SMALLEST:
        return "upsort demo", "not run", "15 s"
    return "upsort demo", f"{command(['demo', str(folder / 'demo'), '--quiet'])[0]:.1f} s", "15 s"


def labelled(path: Path, rows: list[tuple[str, int]]) -> None:
    """A table of texts and labels."""
    with path.open("w", newline="", encoding="utf-8") as stream:
        writer = csv.writer(stream)
        writer.writerow(["text", "label"])
        writer.writerows((text, f"label {label}") for text, label in rows)


def made_texts() -> list[tuple[str, int]]:
    """Texts of which four in five hold a sign of their label."""
    generator = random.Random(3)
    rows = []
    for text in documents(600 if SMALLEST else 50_000, 420):
        label = generator.randrange(10)
        sign = label if generator.random() < 0.8 else generator.randrange(10)
        rows.append((f"{text} sign{sign}", label))
    return rows


def texts_of_counts() -> list[tuple[str, int]]:
    """Texts whose words are as often in them as the counts say."""
    with np.load(sys.argv[sys.argv.index("--counts") + 1]) as held:
        counts, terms, starts_, labels = (held[name].tolist() for name in ("counts", "terms", "starts", "labels"))
    rows = []
    for number, label in enumerate(labels):
        within = range(starts_[number], starts_[number + 1])
        rows.append((" ".join(f"wq{terms[at]}" for at in within for _ in range(counts[at])), label))
    return rows


if __name__ == "__main__":
    main()
