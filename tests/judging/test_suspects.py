"""Wrong labels are found, first the surest, and how many of a list are wrong is told truly."""

import csv
import random
from pathlib import Path

import numpy as np
import pytest
from benchmarks import benchmark
from conftest import Program, thorough
from corpora import read, write
from test_commands import BOTH_YEARS, COLUMNS, planted

from upsort.core.evaluation.suspects import find_suspects, wrong_labels

bench = benchmark("suspects")
LISTED = ("--id=ref", "--json", "--quiet")


def test_what_is_probably_wrong_is_wrong_as_often() -> None:
    # Drawn from the model: a label by the probabilities told, and 5% of the labels moved to any other.
    generator = np.random.default_rng(6)
    told = generator.dirichlet(np.full(5, 0.15), 20_000)
    labels = (generator.random((20_000, 1)) > told.cumsum(axis=1)).sum(axis=1).clip(0, 4)
    wrong = generator.random(20_000) < 0.05
    stands = np.where(wrong, (labels + generator.integers(1, 5, 20_000)) % 5, labels)
    chance = wrong_labels(stands, told)
    assert chance.mean() == pytest.approx(0.05, abs=0.006)
    for low, high in ((0.0, 0.1), (0.1, 0.5), (0.5, 0.8), (0.8, 0.95), (0.95, 1.0)):
        among = (chance >= low) & (chance < high)
        error = np.sqrt(chance[among].mean() * (1 - chance[among].mean()) / among.sum())
        assert wrong[among].mean() == pytest.approx(chance[among].mean(), abs=4 * error + 0.02)
    listed = find_suspects(stands, [told])
    assert listed.expected.low - 20 <= wrong[listed.places].sum() <= listed.expected.high + 20
    assert listed.noise == pytest.approx(np.full(5, 0.05), abs=0.02)
    assert find_suspects(stands, [told], most=7).places.tolist() == listed.places[:7].tolist()


def test_nothing_is_suspicious_where_labels_are_told_rightly() -> None:
    told = np.eye(3)[np.arange(300) % 3] * 0.9 + 0.1 / 3
    assert find_suspects(np.arange(300) % 3, [told, told]).places.size == 0


@pytest.mark.parametrize("seed", [1, *(pytest.param(seed, marks=thorough) for seed in (2, 3))])
def test_changed_labels_of_twelve_are_found(seed: int) -> None:
    found = bench.looked_for(bench.corpus(*bench.twelve_labels(2000, seed)), seed)
    assert found.at_recall >= 0.75
    assert found.first >= 0.9
    value, low, high = found.expected
    assert abs(found.wrong - value) <= max(high - low, 6)


def changed_letters(demo: Path, program: Program, folder: Path, seed: int) -> set[str]:
    """Both years of letters as one table, 3% with another bench; the references of those, and of those that the demo planted."""
    program("gather", demo / "letters-2024.csv", demo / "letters-2025.csv", *COLUMNS, *BOTH_YEARS, "-o", "g.csv")
    rows = [row for row in read(folder / "g.csv") if row["topic"]]
    draws, benches = random.Random(seed), sorted({row["topic"] for row in rows})
    wrong = planted("wrong bench") | planted("copy, other bench")
    for row in rows:
        if draws.random() < 0.03:
            row["topic"] = draws.choice([bench for bench in benches if bench != row["topic"]])
            wrong.add(row["ref"])
    write(folder / "c.csv", rows)
    return wrong & {row["ref"] for row in rows}


@thorough
def test_changed_labels_of_the_letters_are_found(program: Program, demo: Path, tmp_path: Path) -> None:
    wrong = changed_letters(demo, program, tmp_path, 4)
    found = program("suspects", "c.csv", *COLUMNS, *LISTED, f"--most={3 * len(wrong)}", "-o", "s.csv").json
    named = [one["reference"] for one in found["suspects"]]
    hits = np.cumsum([name in wrong for name in named])
    at = int(np.searchsorted(hits, np.ceil(0.7 * len(wrong))))
    assert hits[at] / (at + 1) >= 0.75
    assert hits[49] / 50 >= 0.9
    listed = program("suspects", "c.csv", *COLUMNS, *LISTED).json
    assert all(one["wrong"] >= 0.5 for one in listed["suspects"])
    expected = listed["expected_wrong"]
    true = len({one["reference"] for one in listed["suspects"]} & wrong)
    assert abs(true - expected["value"]) <= 2 * (expected["high"] - expected["low"])
    with (tmp_path / "s.csv").open(newline="", encoding="utf-8") as stream:
        rows = list(csv.DictReader(stream))
    assert [row["ref"] for row in rows] == named
    assert all(row["rather"] != row["topic"] for row in rows)
