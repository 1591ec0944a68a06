"""What people wait for, each beside its goal, in one run: start, training, judging, choosing a penalty, scoring, the demo.

    python bench/goals.py [--counts FILE] [--smallest]

Without the counts of a real corpus (see bench/classifiers.py) the texts are made. Goals that are ratios name what they are a
ratio to; goals in seconds are of a machine with two cores."""

import csv
import random
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from pathlib import Path

import numpy as np
from made_text import documents
from measuring import command, gain_of_a_second_process, medians_in_turn
from scoring import made_table

SMALLEST = "--smallest" in sys.argv
Row = tuple[str, str, str]


def main() -> None:
    """Measure and print a table."""
    rows = [("a second process makes arithmetic", f"{gain_of_a_second_process():.2f} times as fast", "(what can be had)")]
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        rows += [*starts(folder), *training(folder), *sharing(folder), demo(folder)]
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
    seconds = medians_in_turn({"": partial(run, "-c", "import numpy, scipy.sparse"), **works}, 1 if SMALLEST else 7)
    for name in works:
        goal = "0.7" if name in {"explain", "score"} else "0.9"
        more = seconds[name] - seconds[""]
        yield f"{name}, 1,000 rows", f"{seconds[name]:.2f} s, {more:.2f} s above libraries", f"{goal} s, 0.35 s above"


def training(folder: Path) -> Iterator[Row]:
    """Training as a whole, five folds and a choice of penalties, against each other."""
    table = folder / "many.csv"
    labelled(table, texts_of_counts() if "--counts" in sys.argv else made_texts())
    shared = (str(table), "--text=text", "--label=label", "--quiet")
    train = ["train", *shared, "-o", str(folder / "many.sorter"), "--overwrite"]
    seconds = {
        name: command(line)[0]
        for name, line in {
            "once": train,
            "folds": ["cross-validate", *shared, "--no-ledger"],
            "auto": [*train, "--penalty=auto"],
        }.items()
    }
    yield "train, with folds for probabilities and the quick check", f"{seconds['once']:.1f} s", "20 s (of real counts)"
    yield "five folds", f"{seconds['folds'] / seconds['once']:.2f} trainings", "2.5"
    yield "penalty = auto", f"{seconds['auto'] / seconds['once']:.2f} trainings", "3"


def sharing(folder: Path) -> Iterator[Row]:
    """Many short rows, by one process and by two that read their own stretches; and what two gain that have nothing to share."""
    made_table(folder / "labelled.csv", 200 if SMALLEST else 5_000, labelled=True)
    columns = ("--text=text", "--label=label", "--no-check", "--quiet")
    command(["train", str(folder / "labelled.csv"), *columns, "-o", str(folder / "short.sorter")])
    rows = str(folder / "short.csv")
    made_table(folder / "short.csv", 1_000 if SMALLEST else 100_000, labelled=True)
    lines = {
        "gather": ["gather", rows, "--text=text", "--drop=copies"],
        "features": ["features", rows, "--text=text", "--label=label"],
        "train (naive Bayes, no checks: counting)": ["train", rows, *columns, "--classifier=naive-bayes"],
        "score": ["score", str(folder / "short.sorter"), rows],
    }
    for name, line in list(lines.items())[-1:] if SMALLEST else lines.items():
        ending = ".sorter" if line[0] == "train" else ".csv"

        def run(many: int, output: str = "a", line: list[str] = line, ending: str = ending) -> None:
            shared = ["-o", str(folder / f"{output}{ending}"), "--overwrite", "--quiet", f"--workers={many}"]
            command([*line, *shared])

        def twice(run: Callable[..., None] = run) -> None:
            with ThreadPoolExecutor(2) as pool:
                list(pool.map(lambda output: run(1, output), ("a", "b")))

        works: dict[str, Callable[[], object]] = {"one": partial(run, 1), "two": partial(run, 2), "twice": twice}
        seconds = medians_in_turn(works, 1 if SMALLEST else 3)
        gain, most = seconds["one"] / seconds["two"], 2 * seconds["one"] / seconds["twice"]
        yield f"{name}, two processes", f"{gain:.2f} times as fast as one (two runs at once: {most:.2f})", "1.7"
    yield "(score against a plain loop: bench/scoring.py)", "", "4 and 6.5 times"


def demo(folder: Path) -> Row:
    """The whole example."""
    if SMALLEST:
        return "upsort demo", "not run", "25 s"
    return "upsort demo", f"{command(['demo', str(folder / 'demo'), '--quiet'])[0]:.1f} s", "25 s"


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
    for text in documents(600 if SMALLEST else 30_000, 420):
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
