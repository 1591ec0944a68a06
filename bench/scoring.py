"""Scoring in bulk against a plain loop, and its memory as tables grow.

    python bench/scoring.py [MILLIONS]

The plain loop reads the table with the csv module, finds words with a regular expression, counts the known ones with `Counter`,
makes a sparse row, multiplies it with the weights, takes the softmax and writes the row with its label and probability."""

import csv
import re
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

import numpy as np
from made_text import documents
from measuring import command
from scipy.sparse import csr_array

from upsort.core.training.sorter import TrainedSorter
from upsort.io.sorter.loading import load_sorter

_WORD = re.compile(r"[^\W_]+(?:['’-][^\W_]+)*")


def made_table(path: Path, rows: int, labelled: bool) -> int:
    """A table of short made documents; returns its size in bytes."""
    with path.open("w", newline="", encoding="utf-8") as stream:
        writer = csv.writer(stream)
        writer.writerow(["ref", "text", *(["label"] if labelled else [])])
        for number, text in enumerate(documents(rows, 250, distinct=20_000)):
            label = [f"label{sum(map(ord, text[:9])) % 7}"] if labelled else []
            writer.writerow([f"r{number}", text, *label])
    return path.stat().st_size


def plain(sorter: TrainedSorter, source: Path, target: Path) -> None:
    """What one would write first, a document at a time."""
    rule, space = sorter.classifier.rule, sorter.space
    assert rule is not None
    with source.open(newline="", encoding="utf-8") as given, target.open("w", newline="", encoding="utf-8") as out:
        reader, writer = csv.reader(given), csv.writer(out)
        writer.writerow([*next(reader), "label", "probability"])
        for row in reader:
            counts = Counter(word for word in _WORD.findall(row[1].lower()) if word in space.columns)
            columns = np.array([space.columns[word] for word in counts], dtype=np.int64)
            values = (1 + np.log10(np.array(list(counts.values()), dtype=float))) * space.idf[columns]
            values = values / max(np.linalg.norm(values), 1e-12)
            vector = csr_array((values, columns, [0, columns.size]), shape=(1, len(space.terms)))
            scores = (vector @ rule.weights + rule.intercept)[0]
            chances = np.exp(scores - scores.max())
            best = int(chances.argmax())
            writer.writerow([*row, sorter.labels[best], f"{chances[best] / chances.sum():.6f}"])


def main() -> None:
    """Measure and print."""
    smallest = "--smallest" in sys.argv
    millions = 0.002 if smallest else float(sys.argv[1]) if len(sys.argv) > 1 else 2
    few = 1_000 if smallest else 20_000
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        made_table(folder / "train.csv", 5_000, labelled=True)
        sorter_file = str(folder / "s.sorter")
        columns = ["--text", "text", "--label", "label", "--no-check", "--quiet"]
        command(["train", str(folder / "train.csv"), *columns, "-o", sorter_file])
        size = made_table(folder / "few.csv", few, labelled=False)
        sorter = load_sorter(Path(sorter_file))
        began = time.perf_counter()
        plain(sorter, folder / "few.csv", folder / "plain.csv")
        slow = time.perf_counter() - began
        print(f"plain loop: {few / slow:,.0f} documents/s ({size / slow / 1e6:.1f} MB/s)")
        for rows in (5 * few, int(millions * 1e6)):
            size = made_table(folder / "big.csv", rows, labelled=False)
            for workers in (1, 2):
                output = folder / f"o{workers}.csv"
                arguments = ["score", sorter_file, str(folder / "big.csv"), "-o", str(output), "--quiet", "--overwrite"]
                seconds, peak = command([*arguments, "--workers", str(workers)])
                print(
                    f"{rows:>9,} documents, {size / 1e6:,.0f} MB, workers {workers}: {seconds:.1f} s with start, "
                    f"{rows / seconds:,.0f} documents/s, {rows / seconds * slow / few:.1f} times the plain loop, "
                    f"peak {peak / 1e6:,.0f} MB",
                    flush=True,
                )
            print(f"  the same bytes: {(folder / 'o1.csv').read_bytes() == (folder / 'o2.csv').read_bytes()}")


if __name__ == "__main__":
    main()
