"""Corpora made to tempt: what they hold can be learned by heart, or read off a column, and by nothing else."""

import csv
import random
from collections.abc import Mapping, Sequence
from datetime import date, timedelta
from pathlib import Path

WORDS = [
    f"{a}{b}" for a in ("mos", "fer", "ree", "dun", "bar", "lea", "roo", "pet") for b in ("sa", "no", "di", "ku", "le", "mi")
]
Rows = list[dict[str, str]]


def words(generator: random.Random, many: int = 14) -> str:
    """A text of words that tell nothing."""
    return " ".join(generator.choice(WORDS) for _ in range(many))


def write(path: Path, rows: Sequence[Mapping[str, str]]) -> Path:
    """A CSV table of rows."""
    with path.open("w", newline="", encoding="utf-8") as stream:
        writer = csv.DictWriter(stream, list(rows[0]))
        writer.writeheader()
        writer.writerows(rows)
    return path


def read(path: Path) -> Rows:
    """The rows of a CSV table."""
    with path.open(newline="", encoding="utf-8") as stream:
        return list(csv.DictReader(stream))


def _row(number: int, text: str, label: str, group: str, fold: str) -> dict[str, str]:
    day = date(2025, 1, 1) + timedelta(days=number)
    return {"ref": f"r{number:03}", "text": text, "label": label, "day": day.isoformat(), "who": group, "part": fold}


def copied(seed: int, documents: int = 100) -> Rows:
    """Random labels; every text stands twice, its copies far apart in time and in different parts."""
    generator = random.Random(seed)
    texts = [(words(generator), generator.choice("ab")) for _ in range(documents)]
    twice = [*texts, *generator.sample(texts, documents)]
    place: dict[str, int] = {}
    rows = []
    for number, (text, label) in enumerate(twice):
        part = str((number + 2 * (text in place)) % 4 + 1 if text not in place else (place[text] + 1) % 4 + 1)
        place.setdefault(text, int(part) - 1)
        rows.append(_row(number, text, label, "", part))
    return rows


def edited(seed: int, share: float, documents: int = 100) -> Rows:
    """The same, but that each word of a copy is replaced by another with a chance of `share`, and texts are longer."""
    generator = random.Random(seed)
    rows = copied(seed, documents)
    longer: dict[str, str] = {}
    for row in rows:
        if row["text"] not in longer:
            longer[row["text"]] = f"{row['text']} {words(generator, 26)}"
            row["text"] = longer[row["text"]]
            continue
        kept = longer[row["text"]].split()
        row["text"] = " ".join(generator.choice(WORDS) if generator.random() < share else word for word in kept)
    return rows


def told_by_group(seed: int, groups: int = 30, each: int = 5, window: int = 3) -> Rows:
    """Each writer has one label, drawn at random, and a word of their own: who knows the writer knows the label.

    A writer writes for a while, beside about `window` others."""
    generator = random.Random(seed)
    writers = [(f"writer{number}", generator.choice("ab")) for number in range(groups)]
    rows = []
    for number in range(groups * each):
        writer, label = writers[(number // each + generator.randrange(window)) % groups]
        text = f"{words(generator)} by{writer} by{writer} by{writer}"
        rows.append(_row(number, text, label, writer, str(number // groups % 4)))
    return rows


def told_when_held_out(seed: int, documents: int = 160) -> Rows:
    """The last part, which is the latest too, has a word that tells its label; nothing else tells it anywhere."""
    generator = random.Random(seed)
    rows = []
    for number in range(documents):
        label = generator.choice("ab")
        last = number >= documents * 3 // 4
        text = words(generator) + (f" tell{label} tell{label} tell{label}" if last else "")
        rows.append(_row(number, text, label, "", "late" if last else "early"))
    return rows
