"""Intervals, measures and folds against published numbers and hand-worked tables."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from upsort.core.errors import DataProblem
from upsort.core.judging.folds import stratified_folds, stratified_hold_out
from upsort.core.judging.intervals import wilson
from upsort.core.judging.measures import judge

LABELS = st.lists(st.integers(0, 3), min_size=8, max_size=80)


def test_wilson_intervals() -> None:
    # Wilson 1927: 81 of 100, and 3 of 3.
    rate = wilson(81, 100)
    assert (rate.low, rate.high) == pytest.approx((0.7222, 0.8749), abs=5e-5)
    rate = wilson(3, 3)
    assert (rate.low, rate.high) == pytest.approx((0.4385, 1.0), abs=5e-5)
    assert wilson(0, 0).value is None


def test_measures_of_a_hand_worked_table() -> None:
    # True a: 3 given a, 1 given b. True b: 2 given a, 4 given b. Nothing is c.
    true = np.array([0] * 4 + [1] * 6)
    given_labels = np.array([0, 0, 0, 1, 0, 0, 1, 1, 1, 1])
    judged = judge(true, given_labels, ("a", "b", "c"), baseline_right=6, majority="b", seed=1)
    assert judged.table.tolist() == [[3, 1, 0], [2, 4, 0], [0, 0, 0]]
    assert (judged.accuracy.right, judged.accuracy.of, judged.accuracy.value) == (7, 10, 0.7)
    assert judged.baseline.value == 0.6
    a, b, c = judged.per_label
    assert (a.precision.value, a.recall.value) == (3 / 5, 3 / 4)
    assert a.f1.value == pytest.approx(2 * 3 / (5 + 4))
    assert b.f1.value == pytest.approx(2 * 4 / (5 + 6))
    assert c.precision.value is c.recall.value is c.f1.value is None
    assert judged.macro_f1.value == pytest.approx((6 / 9 + 8 / 11) / 2)
    assert judged.macro_f1.low is not None
    assert judged.macro_f1.low < judged.macro_f1.value < judged.macro_f1.high
    assert [(c.true, c.given, c.documents, c.of) for c in judged.largest_confusions()] == [
        ("b", "a", 2, 6),
        ("a", "b", 1, 4),
    ]


@given(LABELS, st.integers(2, 5), st.integers(0, 99))
def test_folds_hold_each_label_evenly(labels: list[int], folds: int, seed: int) -> None:
    numbers = np.array(labels)
    sizes = np.bincount(numbers, minlength=4)
    if any(0 < size < folds for size in sizes):
        with pytest.raises(DataProblem, match="folds need at least"):
            stratified_folds(numbers, "abcd", folds, seed)
        return
    fold = stratified_folds(numbers, "abcd", folds, seed)
    for label in range(4):
        in_fold = np.bincount(fold[numbers == label], minlength=folds)
        assert in_fold.max() - in_fold.min() <= 1
    whole = np.bincount(fold, minlength=folds)
    assert whole.max() - whole.min() <= 1
    assert (fold == stratified_folds(numbers, "abcd", folds, seed)).all()


@given(LABELS, st.floats(0.05, 0.9), st.integers(0, 99))
def test_a_hold_out_takes_its_share_of_each_label(labels: list[int], share: float, seed: int) -> None:
    numbers = np.array(labels)
    sizes = np.bincount(numbers, minlength=4)
    if 1 in sizes:
        with pytest.raises(DataProblem, match="at least two documents"):
            stratified_hold_out(numbers, "abcd", share, seed)
        return
    held = stratified_hold_out(numbers, "abcd", share, seed)
    for label in np.flatnonzero(sizes):
        out = int(held[numbers == label].sum())
        assert 1 <= out <= sizes[label] - 1
        assert abs(out - share * sizes[label]) <= 1
