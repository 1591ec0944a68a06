"""Five-fold cross-validation against one training, reading and start included; the measures.

python bench/judging.py [DOCUMENTS]"""

import csv
import random
import tempfile
from pathlib import Path

import numpy as np
from made_text import documents
from measuring import command, median_seconds, size_asked

from upsort.core.evaluation.intervals import Sample
from upsort.core.evaluation.measures import Decided, judge


def main() -> None:
    """Measure and print."""
    number = size_asked(60_000, 600)
    generator = random.Random(3)
    with tempfile.TemporaryDirectory() as name:
        table = Path(name) / "t.csv"
        with table.open("w", newline="", encoding="utf-8") as stream:
            writer = csv.writer(stream)
            writer.writerow(["text", "label"])
            for text in documents(number, 420):
                label = generator.randrange(10)
                writer.writerow([f"{text} sign{label if generator.random() < 0.8 else generator.randrange(10)}", f"label{label}"])
        for kind in ("naive-bayes", "logistic"):
            shared = [str(table), "--text", "text", "--label", "label", "--quiet", "--set", f"classifier.kind={kind}"]
            once, _ = command(["train", *shared, "--no-check", "--overwrite", "-o", str(Path(name) / "s.sorter")])
            folds, _ = command(["cross-validate", *shared, "--no-ledger"])
            print(f"{kind}: training {once:.1f} s, five folds {folds:.1f} s: {folds / once:.1f} times")
    draws = np.random.default_rng(1)
    true, given = draws.integers(0, 10, 10_000), draws.integers(0, 10, 10_000)
    decided = Decided(
        true=true,
        sorted_as=given,
        labels=tuple("abcdefghij"),
        majority="a",
        baseline=true == 0,
        sample=Sample.of(np.arange(10_000)),
    )
    seconds = median_seconds(lambda: judge(decided))
    print(f"measures and intervals of 10,000 documents: {seconds:.2f} s")


if __name__ == "__main__":
    main()
