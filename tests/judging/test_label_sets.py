"""Cells with several labels: noticed, dealt, judged label by label, by folds too."""

import csv
import random
from pathlib import Path

import numpy as np
import pytest
from conftest import Program
from hypothesis import given
from hypothesis import strategies as st

from upsort.core.analysis.column_summaries import separator_of
from upsort.core.evaluation.intervals import Sample
from upsort.core.evaluation.set_measures import DecidedSets, judge_sets
from upsort.core.evaluation.suspects import find_wrong_sets
from upsort.core.training.stratified_split import SplitKeys, folds_of

WORDS = {
    "beds": ("bed", "soil", "spade", "raised", "planks", "dig", "compost"),
    "water": ("hose", "tap", "barrel", "drip", "rain", "bucket", "leak"),
    "visits": ("coach", "group", "guide", "school", "ticket", "hour", "tour"),
    "pests": ("slug", "aphid", "snail", "holes", "caterpillar", "net", "bugs"),
}
SEVERAL = "--set=columns.label_separator=;"


@pytest.fixture(scope="module")
def letters(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """300 letters about one to three topics each."""
    draw = random.Random(7)
    path = tmp_path_factory.mktemp("sets") / "letters.csv"
    with path.open("w", newline="", encoding="utf-8") as stream:
        writer = csv.writer(stream)
        writer.writerow(["ref", "message", "topics"])
        for number in range(300):
            topics = draw.sample(list(WORDS), draw.choice([1, 1, 2, 3]))
            words = [draw.choice(WORDS[topic]) for topic in topics for _ in range(draw.choice([0, 1, 2, 3]))]
            words += draw.choices(["we", "have", "the", "garden", "please", "near"], k=8)
            draw.shuffle(words)
            writer.writerow([f"L{number:03}", " ".join(words), "; ".join(topics)])
    return path


class TestTheSeparator:
    @pytest.mark.parametrize("separator", ["; ", "|", ", ", "/", " + ", " & ", "\n"])
    def test_it_is_noticed(self, separator: str) -> None:
        cells = ["pests", "water", f"pests{separator}water", "beds", f"beds{separator}pests"] * 3
        assert separator_of(cells) == (separator.strip() or separator)

    @pytest.mark.parametrize(
        "cells",
        [
            ["lost, found", "visits", "orders, deliveries"] * 5,
            ["pests", "water", "beds"] * 5,
            ["and/or", "neither/nor"] * 9,
            ["a; b"],
            [],
            ["", " "] * 9,
        ],
    )
    def test_labels_with_a_comma_are_no_sets(self, cells: list[str]) -> None:
        assert separator_of(cells) == ""


SETS = st.lists(st.lists(st.booleans(), min_size=3, max_size=3), min_size=1, max_size=30)


class TestMeasures:
    LABELS = ("a", "b", "c")

    def judged(self, own: list[list[int]], given_: list[list[int]]) -> DecidedSets:
        truth = np.array(own, dtype=bool)
        return DecidedSets(
            own=truth,
            given=np.array(given_, dtype=bool),
            labels=self.LABELS,
            majority="a",
            baseline=(truth == [True, False, False]).all(axis=1),
            sample=Sample.of(np.arange(len(own))),
        )

    def test_by_hand(self) -> None:
        own = [[1, 1, 0], [1, 1, 0], [1, 0, 0], [0, 0, 1], [0, 0, 0]]
        got = [[1, 1, 0], [0, 0, 1], [1, 0, 1], [0, 0, 1], [0, 0, 0]]
        found = judge_sets(self.judged(own, got))
        assert (found.accuracy.right, found.accuracy.of) == (3, 5)
        assert found.baseline.right == 1
        counts = [(one.right, one.missed, one.false) for one in found.per_label]
        assert counts == [(2, 1, 0), (1, 1, 0), (1, 0, 2)]
        assert found.other_rates["micro_f1"].value == pytest.approx(2 * 4 / (2 * 4 + 2 + 2))
        assert found.macro_f1.value == pytest.approx((4 / 5 + 2 / 3 + 2 / 4) / 3)
        assert found.sets is not None
        assert [(one.labels, one.documents, one.of) for one in found.sets.pairs_missed] == [(("a", "b"), 1, 2)]
        assert [(one.true, one.sorted_as, one.documents, one.of) for one in found.sets.given_instead] == [
            ("a", "c", 1, 3),
            ("b", "c", 1, 2),
        ]
        assert found.table.size == 0

    @given(SETS)
    def test_all_right_is_all_right(self, rows: list[list[bool]]) -> None:
        found = judge_sets(self.judged(rows, rows))  # type: ignore[arg-type]
        assert found.accuracy.value == 1.0
        assert all(one.missed == one.false == 0 for one in found.per_label)
        assert found.sets is not None and not found.sets.pairs_missed and not found.sets.given_instead

    def test_the_interval_narrows_with_documents(self) -> None:
        own, got = [[1, 1, 0], [1, 0, 1], [0, 1, 0]], [[1, 1, 0], [0, 0, 1], [0, 1, 1]]
        few, many = (judge_sets(self.judged(own * times, got * times)).macro_f1 for times in (10, 100))
        assert few.low is not None and many.low is not None and few.high is not None and many.high is not None
        assert few.value == pytest.approx(many.value)
        assert many.high - many.low < 0.5 * (few.high - few.low)


class TestDealing:
    @given(st.lists(st.lists(st.booleans(), min_size=4, max_size=4), min_size=8, max_size=120), st.integers(2, 5))
    def test_every_label_is_spread_evenly(self, rows: list[list[bool]], folds: int) -> None:
        sets = np.array(rows, dtype=bool)
        fold = folds_of(SplitKeys(labels=np.zeros(len(sets), dtype=np.int64), sets=sets), folds, 11)
        assert set(fold.tolist()) <= set(range(folds))
        rarest = int(np.argmin(np.where(sets.any(axis=0), sets.sum(axis=0), 10**6)))
        counts = np.bincount(fold[sets[:, rarest]], minlength=folds)
        assert counts.max() - counts.min() <= 1

    def test_copies_stay_together(self) -> None:
        sets = np.random.default_rng(3).random((200, 5)) < 0.3
        groups = np.arange(200) // 2
        fold = folds_of(SplitKeys(labels=np.zeros(200, dtype=np.int64), sets=sets, groups=groups), 5, 11)
        assert (fold[::2] == fold[1::2]).all()
        shares = np.array([[sets[fold == part, label].mean() for label in range(5)] for part in range(5)])
        assert np.abs(shares - sets.mean(axis=0)).max() < 0.08


def test_wrong_and_wanting_labels_are_suspicious() -> None:
    rng = np.random.default_rng(5)
    truth = rng.random((400, 3)) < 0.4
    told = np.where(truth, 0.97, 0.03) + rng.normal(0, 0.01, truth.shape)
    own = truth.copy()
    turned = [(row, row % 3) for row in range(5, 400, 20)]
    for row, label in turned:
        own[row, label] ^= True
    found = find_wrong_sets(own, [np.clip(told, 0.001, 0.999)])
    assert set(found.places.tolist()) == {row for row, _ in turned}
    by_row = dict(zip(found.places.tolist(), found.rather.tolist(), strict=True))
    assert all(by_row[row] == truth[row].tolist() for row, _ in turned)


def test_from_file_to_evaluated_sorter_with_one_option(program: Program, letters: Path) -> None:
    noticed = program("survey", letters)
    assert "--set 'columns.label_separator=;'" in noticed.out
    parts = program("split", letters, SEVERAL, "-o", "parts", "--json").json
    for counts in parts["labels"].values():
        assert counts["held_out"] == pytest.approx(0.2 * (counts["held_out"] + counts["training"]), abs=2)
    program("train", "parts/train.csv", SEVERAL, "-o", "s.sorter")
    shown = program("evaluate", "s.sorter", "parts/held-out.csv", "--no-ledger").out
    assert "with all of their labels right and no other" in shown
    assert "true ↓" not in shown
    found = program("evaluate", "s.sorter", "parts/held-out.csv", "--no-ledger", "--json").json
    assert set(found["labels"]) == set(WORDS) and not found["confusion"]
    for label in found["labels"].values():
        assert label["right"] + label["missed"] == label["documents"]
        assert label["right"] + label["false"] == label["sorted_as"]
    assert found["label_sets"]["given_instead"]


def test_survey_and_plan_count_single_labels(program: Program, letters: Path) -> None:
    found = program("survey", letters, SEVERAL, "--json").json
    with letters.open(newline="", encoding="utf-8") as stream:
        cells = [row["topics"].split("; ") for row in csv.DictReader(stream)]
    counted = {topic: sum(topic in cell for cell in cells) for topic in WORDS}
    assert {label: one["documents"] for label, one in found["labels"].items()} == counted
    program("plan", letters, "-o", "upsort.toml")
    assert program("survey", letters, "--json").json["labels"] == found["labels"]
    terms = program("features", letters, "--json").json
    assert all(sum(one["by_label"].values()) >= one["documents"] for one in terms["top"])


def test_folds_judge_sets(program: Program, letters: Path, tmp_path: Path) -> None:
    found = program("cross-validate", letters, SEVERAL, "--no-ledger", "-o", "told.csv", "--json").json
    with (tmp_path / "told.csv").open(newline="", encoding="utf-8") as stream:
        rows = list(csv.DictReader(stream))
    right = sum(set(row["label"].split("; ")) == set(row["sorted_label"].split("; ")) for row in rows)
    assert (found["accuracy"]["right"], found["accuracy"]["of"]) == (right, 300)
    assert sum(fold["accuracy"]["right"] for fold in found["folds"]) == right
    compared = program("compare", letters, SEVERAL, "--try=classifier.kind=logistic,svm", "--json").json
    assert {one["accuracy"]["of"] for one in compared["candidates"]} == {300}
    assert program("curve", letters, SEVERAL, "--json").json["points"][-1]["held_out"] > 0.2
    suspects = program("suspects", letters, SEVERAL, "--most=5", "--json").json["suspects"]
    assert len(suspects) == 5 and all(one["label"] != one["rather"] for one in suspects)
    program("train", letters, SEVERAL, "-o", "s.sorter")
    program("report", "s.sorter", letters, "-o", "page.html")
    page = (tmp_path / "page.html").read_text(encoding="utf-8")
    assert "got all of their labels and no other" in page and "confusion matrix" not in page


def test_each_held_out_alone_goes_against_the_commonest_of_all(program: Program, letters: Path, tmp_path: Path) -> None:
    few = letters.read_text(encoding="utf-8").splitlines(keepends=True)[:41]
    (tmp_path / "few.csv").write_text("".join(few), encoding="utf-8")
    shown = program("cross-validate", "few.csv", "--text=message", "--label=topics", SEVERAL, "--alone", "--no-ledger").out
    assert " alone (the most common label): " in shown and "most common label in training" not in shown
    program("train", "few.csv", "--text=message", "--label=topics", SEVERAL, "-o", "s.sorter")
    told = program("evaluate", "s.sorter", "few.csv", "--figures=figures", "--no-ledger").out
    assert "Written: figures/similarity.png." in told
