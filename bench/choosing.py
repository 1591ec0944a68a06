"""How near upsort choose comes to the best of 60 plans made by hand, on documents that are new to all of them.

python bench/choosing.py [--smallest]

Three made corpora: labels that pairs of words tell, short lines with mistyped and joined words, long texts in 25 labels of very
different size; and the demo's letters of one year, judged on those of the next."""

import csv
import json
import random
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from itertools import product
from pathlib import Path

from made_text import vocabulary

Row = tuple[str, str]


def _common(words: Sequence[str], draws: random.Random, many: int) -> list[str]:
    """Words of which the first are the most frequent, as in any language."""
    return [words[min(int(len(words) ** draws.random()) - 1, len(words) - 1)] for _ in range(many)]


def pairs(many: int, seed: int) -> list[Row]:
    """Six labels, told by pairs of common words and a few words of their own."""
    words, made, draws = vocabulary(3000, random.Random(1)), random.Random(2), random.Random(seed)
    labels, keys = "abcdef", made.sample(words[50:400], 24)
    told = {label: [(made.choice(keys), made.choice(keys)) for _ in range(15)] for label in labels}
    own = {label: made.sample(words[400:], 60) for label in labels}
    rows = []
    for _ in range(many):
        label = draws.choices(labels, [5, 4, 3, 2, 2, 1])[0]
        text = list[str]()
        for _ in range(draws.randrange(4, 9)):
            of = label if draws.random() < 0.55 else draws.choice(labels)
            text += _common(words, draws, draws.randrange(1, 4))
            text += draws.choice(told[of]) if draws.random() < 0.6 else [draws.choice(own[of])]
        rows.append((" ".join(text), label if draws.random() < 0.94 else draws.choice(labels)))
    return rows


def mistyped(many: int, seed: int) -> list[Row]:
    """Short lines in 15 labels, whose words have endings, wrong letters and other words at their end."""
    words, made, draws = vocabulary(2500, random.Random(5)), random.Random(6), random.Random(seed)
    labels = [f"k{number:02}" for number in range(15)]
    own = {label: made.sample([word for word in words if len(word) > 4], 40) for label in labels}

    def typed(word: str) -> str:
        word += draws.choice(("", "s", "er", "ing", "ed", "lich"))
        if draws.random() < 0.25 and len(word) > 3:
            at = draws.randrange(1, len(word) - 1)
            word = word[:at] + draws.choice(("", word[at + 1] + word[at], draws.choice("aeiourstn"))) + word[at + 1 :]
        return word + (draws.choice(words) if draws.random() < 0.12 else "")

    rows = []
    for _ in range(many):
        label = draws.choices(labels, [1 / (place + 2) for place in range(15)])[0]
        text = []
        for _ in range(draws.randrange(5, 12)):
            of = label if draws.random() < 0.45 else draws.choice(labels)
            text.append(typed(draws.choice(own[of]) if draws.random() < 0.6 else _common(words, draws, 1)[0]))
        rows.append((" ".join(text), label if draws.random() < 0.95 else draws.choice(labels)))
    return rows


def skewed(many: int, seed: int) -> list[Row]:
    """Long texts in 25 labels, the first 25 times as common as the last."""
    words, made, draws = vocabulary(8000, random.Random(8)), random.Random(9), random.Random(seed)
    labels = [f"q{number:02}" for number in range(25)]
    own = {label: made.sample(words[200:], 150) for label in labels}
    rows = []
    for _ in range(many):
        label, other = draws.choices(labels, [1 / (place + 1) for place in range(25)])[0], draws.choice(labels)
        text = []
        for _ in range(draws.randrange(15, 90)):
            which = draws.random()
            of = own[label] if which < 0.1 else own[other] if which < 0.16 else None
            text.append(draws.choice(of) if of else _common(words, draws, 1)[0])
        rows.append((" ".join(text), label if draws.random() < 0.95 else draws.choice(labels)))
    return rows


MADE: dict[str, Callable[[int, int], list[Row]]] = {"pairs": pairs, "mistyped": mistyped, "skewed": skewed}
_PENALTIES = {"logistic": (0.03, 0.1, 0.3), "svm": (0.3, 1, 3), "ridge": (0.3, 1, 3), "ratio-svm": (1, 10)}
CLASSIFIERS = [
    *([f"classifier.kind={kind}", f"classifier.penalty={size}"] for kind, sizes in _PENALTIES.items() for size in sizes),
    *(["classifier.kind=naive-bayes", f"classifier.event_model={model}"] for model in ("counts", "complement")),
    ["classifier.kind=svm", "classifier.label_weights=even"],
    ["features.weighting=presence"],
]
FEATURES: tuple[list[str], ...] = (
    [],
    ["features.lengths=[1,2]"],
    ["features.units=letters", "features.lengths=[2,4]"],
    ["features.units=letters", "features.lengths=[3,5]", "features.most_terms=100000"],
)


def program(folder: Path, *arguments: str) -> str:
    """What the program prints."""
    line = [sys.executable, "-m", "upsort", *arguments]
    return subprocess.run(line, cwd=folder, check=True, capture_output=True, text=True).stdout


def accuracy(folder: Path, options: Sequence[str]) -> float:
    """Of a plan trained on the one table, on the other."""
    columns = ("--text=text", "--label=label", "--set=classifier.calibrate=none", "--no-check", "--no-fingerprints")
    program(folder, "train", "known.csv", *columns, *options, "--overwrite", "-o", "x.sorter")
    found: float = json.loads(program(folder, "evaluate", "x.sorter", "new.csv", "--json", "--no-ledger"))["accuracy"]["value"]
    return found


def measure(name: str, known: Sequence[Row], new: Sequence[Row], smallest: bool) -> None:
    """Print one line."""
    by_hand = list(product(FEATURES, CLASSIFIERS))
    with tempfile.TemporaryDirectory() as folder_name:
        folder = Path(folder_name)
        for table, rows in (("known.csv", known), ("new.csv", new)):
            with (folder / table).open("w", encoding="utf-8", newline="") as stream:
                csv.writer(stream).writerows([("text", "label"), *rows])
        began = time.perf_counter()
        trials = ("--trials=3",) if smallest else ()
        program(folder, "choose", "known.csv", "--text=text", "--label=label", "--no-ledger", *trials, "-o", "chosen.toml")
        seconds = time.perf_counter() - began
        chosen = accuracy(folder, ["--plan=chosen.toml"])
        best, which = max(
            (accuracy(folder, [f"--set={setting}" for setting in (*features, *classifier)]), [*features, *classifier])
            for features, classifier in (by_hand[:2] if smallest else by_hand)
        )
    print(
        f"{name}: chosen {100 * chosen:.1f}% in {seconds:.0f} s, best by hand {100 * best:.1f}% ({', '.join(which)})", flush=True
    )


def main() -> None:
    """Measure and print."""
    smallest = "--smallest" in sys.argv
    for name, made in list(MADE.items())[: 1 if smallest else None]:
        measure(name, made(300 if smallest else 4000, 11), made(300 if smallest else 8000, 12), smallest)
    if smallest:
        return
    with tempfile.TemporaryDirectory() as folder_name:
        folder = Path(folder_name)
        program(folder, "demo", "desk", "--files-only")
        known = _letters(folder / "desk" / "letters-2024.csv", "utf-8", ",", "message", "topic")
        new = _letters(folder / "desk" / "letters-2025.csv", "cp1252", ";", "Text", "Bench")
    measure("letters", known, new, smallest)


def _letters(path: Path, encoding: str, delimiter: str, text: str, label: str) -> list[Row]:
    with path.open(encoding=encoding, newline="") as stream:
        rows = [(row[text].strip(), row[label].strip().lower()) for row in csv.DictReader(stream, delimiter=delimiter)]
    return [row for row in rows if all(row)]


if __name__ == "__main__":
    main()
