"""Intervals, measures and folds against published numbers and hand-worked tables."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.sparse import csr_array

from upsort.core.errors import DataProblem
from upsort.core.judging.adding_up import added_up
from upsort.core.judging.copies_together import copy_groups, one_side
from upsort.core.judging.deciding import by_costs, decide, macro_f_beta, mean_cost, weights_for_f_beta
from upsort.core.judging.folds import dealt_folds, stratified_folds, stratified_hold_out
from upsort.core.judging.growth import fitted_growth
from upsort.core.judging.intervals import wilson
from upsort.core.judging.measures import judge
from upsort.core.judging.paired import corrected_t, holm, mcnemar
from upsort.core.judging.probability_measures import judge_probabilities
from upsort.core.judging.splits import hold_out, splits
from upsort.core.judging.suspects import find_suspects
from upsort.core.plan import Judge

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


def test_whole_table_measures_by_hand() -> None:
    # The table [[3, 1], [2, 4]]: right 7 of 10, true 4 and 6, given 5 and 5.
    true = np.array([0] * 4 + [1] * 6)
    judged = judge(true, np.array([0, 0, 0, 1, 0, 0, 1, 1, 1, 1]), ("a", "b"), 6, "b", seed=1, beta=2.0)
    value = {name: rate.value for name, rate in judged.others.items()}
    assert value["balanced_accuracy"] == pytest.approx((3 / 4 + 4 / 6) / 2)
    assert value["macro_precision"] == pytest.approx((3 / 5 + 4 / 5) / 2)
    assert value["weighted_f1"] == pytest.approx((4 * 6 / 9 + 6 * 8 / 11) / 10)
    assert value["macro_f_beta"] == pytest.approx((5 * 3 / (5 + 4 * 4) + 5 * 4 / (5 + 4 * 6)) / 2)
    chance = 4 * 5 + 6 * 5
    assert value["matthews"] == pytest.approx((70 - chance) / ((100 - 50) * (100 - 52)) ** 0.5)
    assert value["kappa"] == pytest.approx((0.7 - 0.5) / 0.5)


def test_measures_that_are_not_defined_stay_so() -> None:
    alone = judge(np.zeros(3, dtype=np.int64), np.zeros(3, dtype=np.int64), ("a", "b"), 3, "a", seed=1)
    assert alone.others["matthews"].value is None
    assert alone.others["kappa"].value is None
    assert alone.per_label[1].f1.value is None


def test_probability_measures_by_hand() -> None:
    true = np.array([0, 0, 1])
    chances = np.array([[0.9, 0.1], [0.4, 0.6], [0.2, 0.8]])
    found = judge_probabilities(true, chances, np.array([0, 1, 1]), seed=1)
    assert found.log_loss.value == pytest.approx(-(np.log(0.9) + np.log(0.4) + np.log(0.8)) / 3)
    assert found.brier.value == pytest.approx((0.02 + 0.72 + 0.08) / 3)
    assert found.areas[0] == (1.0, 1.0)  # both documents of the label are above the other
    assert found.top2.value == 1.0
    # Four scores 4 3 2 1 of own, other, own, other: 3 of 4 pairs in order; precision 1 and 2/3 at recall 1/2 and 1.
    labels, score = np.array([0, 1, 0, 1]), np.array([0.8, 0.6, 0.4, 0.2])
    again = judge_probabilities(labels, np.column_stack((score, 1 - score)), np.zeros(4, dtype=np.int64), seed=1)
    assert again.areas[0] == pytest.approx((0.75, (1 + 2 / 3) / 2))


@given(st.lists(st.tuples(st.booleans(), st.integers(0, 5)), min_size=2, max_size=30))
def test_the_roc_area_counts_pairs_in_order(points: list[tuple[bool, int]]) -> None:
    own = np.array([a for a, _ in points])
    score = np.array([b / 10 for _, b in points])
    labels = np.where(own, 0, 1)
    found = judge_probabilities(labels, np.column_stack((score, 1 - score)), labels, seed=0).areas[0][0]
    if own.all() or not own.any():
        assert found is None
        return
    pairs = [(a > b) + 0.5 * (a == b) for a in score[own] for b in score[~own]]
    assert found == pytest.approx(np.mean(pairs))


def test_mcnemar_is_the_published_number() -> None:
    # Of 25 disagreements 6 favour one side and 19 the other.
    assert mcnemar(6, 19) == pytest.approx(0.0146, abs=5e-5)
    assert mcnemar(0, 0) == mcnemar(4, 4) == 1.0


def test_the_corrected_t_test_by_hand() -> None:
    # Differences 1, 2, 3 of 3 folds, 1 part tested for 2 trained: t = 2 / sqrt((1/3 + 1/2) · 1) with 2 degrees of freedom,
    # whose two-sided p is 1 − t / sqrt(2 + t²).
    t = 2 / (1 / 3 + 1 / 2) ** 0.5
    assert corrected_t(np.array([1.0, 2.0, 3.0]), 1, 2) == pytest.approx(1 - t / (2 + t * t) ** 0.5)
    assert holm(np.array([0.01, 0.04, 0.03])).tolist() == pytest.approx([0.03, 0.06, 0.06])


def test_decisions_by_cost_and_by_f_beta() -> None:
    # Giving b to an a costs 5, the other way 1: b is given only from 5/6 on.
    rule = by_costs(np.array([[0.0, 1.0], [5.0, 0.0]]))
    assert decide(np.array([[0.2, 0.8], [0.1, 0.9]]), rule).tolist() == [0, 1]
    assert mean_cost(np.array([0, 1, 1]), np.array([1, 1, 0]), np.array([[0.0, 1.0], [5.0, 0.0]])) == 2.0
    generator = np.random.default_rng(2)
    true = (generator.random(400) < 0.1).astype(np.int64)
    chance = np.clip(0.1 + 0.25 * true + generator.normal(0, 0.1, 400), 0.01, 0.99)
    both = np.column_stack((1 - chance, chance))
    weighted = decide(both, weights_for_f_beta(true, both, 1.0))
    assert macro_f_beta(true, weighted, 2, 1.0) > macro_f_beta(true, both.argmax(axis=1), 2, 1.0) + 0.1


def test_suspects_by_hand() -> None:
    # Usual confidence: a (0.9 + 0.8 + 0.1) / 3 = 0.6, b (0.7 + 0.9) / 2 = 0.8. Only the third reaches that of the other label.
    chances = np.array([[0.9, 0.1], [0.8, 0.2], [0.1, 0.9], [0.3, 0.7], [0.1, 0.9]])
    found = find_suspects(np.array([0, 0, 0, 1, 1]), chances)
    assert found.usual == pytest.approx([0.6, 0.8])
    assert (found.places.tolist(), found.suggested.tolist()) == ([2], [1])


@given(LABELS, st.integers(2, 4), st.integers(0, 50))
def test_groups_stay_on_one_side(labels: list[int], folds: int, seed: int) -> None:
    numbers = np.array(labels)
    groups = np.arange(numbers.size) // 3
    fold = dealt_folds(numbers, folds, seed, groups)
    for group in np.unique(groups):
        assert np.unique(fold[groups == group]).size == 1
    single = dealt_folds(numbers, folds, seed, np.concatenate(([0, 0], np.arange(1, numbers.size - 1))))
    for label in range(4):  # one pair among documents that stand alone: even to within the pair
        in_fold = np.bincount(single[numbers == label], minlength=folds)
        assert in_fold.max() - in_fold.min() <= 2
    whole = np.bincount(single, minlength=folds)
    assert whole.max() - whole.min() <= 3
    out = hold_out(numbers, 0.4, seed, groups)
    inside = np.isin(np.arange(numbers.size), out)
    for group in np.unique(groups):
        assert np.unique(inside[groups == group]).size == 1


def test_in_time_no_training_document_is_later() -> None:
    dates = np.random.default_rng(3).integers(0, 30, 90).astype(float)
    dates[:4] = np.nan
    made = splits(np.zeros(90, dtype=np.int64), "a", Judge(folds=4, in_time=True), dates=dates)
    assert len(made) == 4
    for split in made:
        assert dates[split.training].max() < dates[split.held_out].min()
        assert not np.isnan(dates[split.held_out]).any()


def test_impossible_splits_are_refused_with_numbers() -> None:
    labels = np.array([0, 0, 0, 1, 1, 1])
    with pytest.raises(DataProblem, match="All 3 documents of 'b' are in one group"):
        splits(labels, "ab", Judge(folds=2), np.array([0, 1, 2, 3, 3, 3]))
    with pytest.raises(DataProblem, match="5 folds need at least 5 documents of each label; 'a' has 3"):
        splits(labels, "ab", Judge())
    with pytest.raises(DataProblem, match="has 1 different value"):
        splits(labels, "ab", Judge(), given=["x"] * 6)
    alone = splits(labels, "ab", Judge(alone=True))
    assert [split.held_out.tolist() for split in alone] == [[n] for n in range(6)]


def test_copies_are_told_from_counted_terms() -> None:
    rows = np.zeros((6, 30), dtype=np.int32)
    rows[0, :20] = 1
    rows[1, :19] = 1
    rows[1, 25] = 1  # 19 of 21 words in common with the first
    rows[2, 10:30] = 1
    rows[3] = rows[2]
    rows[4, 5] = 1
    groups = copy_groups(csr_array(rows))
    assert groups[0] == groups[1]
    assert groups[2] == groups[3]
    assert len({groups[0], groups[2], groups[4], groups[5]}) == 4
    assert one_side(np.array([0, 0, 1, 2]), np.array([5, 6, 6, 7])).tolist() in ([0, 0, 0, 1], [0, 0, 0, 1])


@pytest.mark.parametrize(
    ("way", "expected"),
    [("mean", [0.6, 0.4]), ("median", [0.8, 0.2]), ("product", [0.64 * 0.2, 0.04 * 0.8])],
)
def test_passages_are_added_up(way: str, expected: list[float]) -> None:
    chances = np.array([[0.8, 0.2], [0.8, 0.2], [0.2, 0.8], [0.5, 0.5]])
    names, together = added_up(chances, ["x", "x", "x", "y"], way)
    assert names == ["x", "y"]
    assert together[0] == pytest.approx(np.array(expected) / sum(expected))


def test_growth_is_found_again() -> None:
    sizes = np.array([50.0, 100, 200, 400, 800, 1600])
    found = fitted_growth(sizes, 0.95 - 2.0 * sizes**-0.6)
    assert found is not None
    assert (found.ceiling, found.drop, found.rate) == pytest.approx((0.95, 2.0, 0.6), rel=1e-3)
    assert found.at(3200) == pytest.approx(0.95 - 2.0 * 3200**-0.6, abs=1e-4)
    assert fitted_growth(sizes[:3], sizes[:3]) is None
