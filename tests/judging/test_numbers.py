"""Intervals, measures and folds against published numbers and hand-worked tables."""

from dataclasses import replace
from math import erfc

import numpy as np
import pytest
from conftest import THOROUGH
from hypothesis import given
from hypothesis import strategies as st
from scipy import special
from scipy.sparse import csr_array
from scipy.sparse.csgraph import connected_components

from upsort.core.distributions import chi_square_above, normal_cdf, normal_quantile, student_quantile
from upsort.core.errors import DataProblem, UsageProblem
from upsort.core.evaluation.decision_costs import PricedDecisions, summarise_costs
from upsort.core.evaluation.duplicates import find_duplicates, joined
from upsort.core.evaluation.intervals import Sample, corrected_t, holm, mcnemar, share_of, sign_test, wilson
from upsort.core.evaluation.learning_curve import fit_learning_curve
from upsort.core.evaluation.measures import Decided, Judgement, judge
from upsort.core.evaluation.probability_measures import judge_probabilities
from upsort.core.evaluation.splits import SplitOrder, hold_out, latest, named_groups, splits
from upsort.core.features.fingerprints import fingerprints_of
from upsort.core.plan import Judge
from upsort.core.training.decision import aggregate_passages, cost_decision, macro_f_beta, values_of, weights_for_f_beta
from upsort.core.training.labelled import LabelledDocuments
from upsort.core.training.stratified_split import SplitKeys, assign_parts, document_keys, folds_of, held_out_of, text_digests
from upsort.workflows.split import not_counted

LABELS = st.lists(st.integers(0, 3), min_size=8, max_size=80)


def decided(true: np.ndarray, given_labels: np.ndarray, labels: tuple[str, ...], majority: str) -> Decided:
    return Decided(
        true=true,
        sorted_as=given_labels,
        labels=labels,
        majority=majority,
        baseline=true == labels.index(majority),
        sample=Sample.of(np.arange(true.size)),
    )


def judged_alone(true: np.ndarray, given_labels: np.ndarray, labels: tuple[str, ...], majority: str) -> Judgement:
    return judge(decided(true, given_labels, labels, majority), beta=2.0)


def labelled(labels: np.ndarray, names: str, groups: np.ndarray | None = None) -> LabelledDocuments:
    return LabelledDocuments(measured=not_counted(labels.size), labels=labels, names=tuple(names), groups=groups)


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
    judged = judged_alone(true, given_labels, ("a", "b", "c"), "b")
    assert judged.table.tolist() == [[3, 1, 0], [2, 4, 0], [0, 0, 0]]
    assert (judged.accuracy.right, judged.accuracy.of, judged.accuracy.value) == (7, 10, 0.7)
    assert judged.baseline.value == 0.6
    a, b, c = judged.per_label
    assert (a.precision.value, a.recall.value) == (3 / 5, 3 / 4)
    assert a.f1.value == pytest.approx(2 * 3 / (5 + 4))
    assert b.f1.value == pytest.approx(2 * 4 / (5 + 6))
    assert c.precision.value is c.recall.value is c.f1.value is None
    assert judged.macro_f1.value == pytest.approx((6 / 9 + 8 / 11) / 2)
    assert judged.macro_f1.low is judged.macro_f1.high is None  # the labels have fewer than ten documents
    more = judge(decided(np.tile(true, 5), np.tile(given_labels, 5), ("a", "b", "c"), "b")).macro_f1
    assert more.value == pytest.approx(judged.macro_f1.value) and more.low < more.value < more.high
    assert [(c.true, c.sorted_as, c.documents, c.of) for c in judged.confusions(3)] == [("b", "a", 2, 6), ("a", "b", 1, 4)]


@given(LABELS, st.integers(2, 5), st.integers(0, 99))
def test_folds_hold_each_label_evenly(labels: list[int], folds: int, seed: int) -> None:
    numbers = np.array(labels)
    sizes = np.bincount(numbers, minlength=4)
    if any(0 < size < folds for size in sizes):
        with pytest.raises(DataProblem, match="folds need at least"):
            splits(labelled(numbers, "abcd"), Judge(folds=folds, seed=seed))
        return
    fold = folds_of(SplitKeys(labels=numbers), folds, seed)
    for label in range(4):
        in_fold = np.bincount(fold[numbers == label], minlength=folds)
        assert in_fold.max() - in_fold.min() <= 1
    whole = np.bincount(fold, minlength=folds)
    assert whole.max() - whole.min() <= 1
    assert (fold == folds_of(SplitKeys(labels=numbers), folds, seed)).all()


@given(LABELS, st.floats(0.05, 0.9), st.integers(0, 99))
def test_a_hold_out_takes_its_share_of_each_label(labels: list[int], share: float, seed: int) -> None:
    numbers = np.array(labels)
    sizes = np.bincount(numbers, minlength=4)
    if 1 in sizes:
        with pytest.raises(DataProblem, match="at least two documents"):
            hold_out(labelled(numbers, "abcd"), share, seed)
        return
    held = hold_out(labelled(numbers, "abcd"), share, seed)
    for label in np.flatnonzero(sizes):
        out = int(held[numbers == label].sum())
        assert 1 <= out <= sizes[label] - 1
        assert abs(out - share * sizes[label]) <= 1


def test_whole_table_measures_by_hand() -> None:
    # The table [[3, 1], [2, 4]]: right 7 of 10, true 4 and 6, given 5 and 5.
    true = np.array([0] * 4 + [1] * 6)
    judged = judged_alone(true, np.array([0, 0, 0, 1, 0, 0, 1, 1, 1, 1]), ("a", "b"), "b")
    value = {name: rate.value for name, rate in judged.other_rates.items()}
    assert value["balanced_accuracy"] == pytest.approx((3 / 4 + 4 / 6) / 2)
    assert value["macro_precision"] == pytest.approx((3 / 5 + 4 / 5) / 2)
    assert value["weighted_f1"] == pytest.approx((4 * 6 / 9 + 6 * 8 / 11) / 10)
    assert value["macro_f_beta"] == pytest.approx((5 * 3 / (5 + 4 * 4) + 5 * 4 / (5 + 4 * 6)) / 2)
    chance = 4 * 5 + 6 * 5
    assert value["matthews"] == pytest.approx((70 - chance) / ((100 - 50) * (100 - 52)) ** 0.5)
    assert value["kappa"] == pytest.approx((0.7 - 0.5) / 0.5)


def test_measures_that_are_not_defined_stay_so() -> None:
    alone = judged_alone(np.zeros(3, dtype=np.int64), np.zeros(3, dtype=np.int64), ("a", "b"), "a")
    assert alone.other_rates["matthews"].value is None
    assert alone.other_rates["kappa"].value is None
    assert alone.per_label[1].f1.value is None


def test_probability_measures_by_hand() -> None:
    true = np.array([0, 0, 1])
    chances = np.array([[0.9, 0.1], [0.4, 0.6], [0.2, 0.8]])
    found = judge_probabilities(true, chances, np.array([0, 1, 1]), Sample.of(np.arange(3)))
    assert found.log_loss.value == pytest.approx(-(np.log(0.9) + np.log(0.4) + np.log(0.8)) / 3)
    assert found.brier.value == pytest.approx((0.02 + 0.72 + 0.08) / 3)
    assert (found.areas.labels[0].roc.value, found.areas.labels[0].precision_recall.value) == (
        1.0,
        1.0,
    )  # both documents of the label are above the other
    assert found.top2.value == 1.0
    # Four scores 4 3 2 1 of own, other, own, other: 3 of 4 pairs in order; precision 1 and 2/3 at recall 1/2 and 1.
    labels, score = np.array([0, 1, 0, 1]), np.array([0.8, 0.6, 0.4, 0.2])
    again = judge_probabilities(labels, np.column_stack((score, 1 - score)), np.zeros(4, dtype=np.int64), Sample.of(np.arange(4)))
    assert (again.areas.labels[0].roc.value, again.areas.labels[0].precision_recall.value) == pytest.approx(
        (0.75, (1 + 2 / 3) / 2)
    )


@given(st.lists(st.tuples(st.booleans(), st.integers(0, 5)), min_size=2, max_size=30))
def test_the_roc_area_counts_pairs_in_order(points: list[tuple[bool, int]]) -> None:
    own = np.array([a for a, _ in points])
    score = np.array([b / 10 for _, b in points])
    labels = np.where(own, 0, 1)
    sample = Sample.of(np.arange(labels.size))
    found = judge_probabilities(labels, np.column_stack((score, 1 - score)), labels, sample).areas.labels[0].roc.value
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
    rule = cost_decision(np.array([[0.0, 1.0], [5.0, 0.0]]))
    assert values_of(np.array([[0.2, 0.8], [0.1, 0.9]]), rule).argmax(axis=1).tolist() == [0, 1]
    priced = PricedDecisions(
        true=np.array([0, 1, 1]), sorted_as=np.array([1, 1, 0]), likeliest=np.array([0, 1, 0]), labels=("a", "b"),
        table=np.array([[0.0, 1.0], [5.0, 0.0]]), sample=Sample.of(np.arange(3)),
    )  # fmt: skip
    found = summarise_costs(priced)
    assert found.mean.value == 2.0 and found.of_most_probable.value == pytest.approx(1 / 3)
    assert (found.one_label, found.of_one_label.value) == ("a", pytest.approx(2 / 3))
    # The differences are 5, 0 and 0: mean 5/3, standard error √(Σ(d − 5/3)² / 2 / 3) = 5/3, Student's t of 2 degrees 4.3027.
    assert found.more_than_most_probable.value == pytest.approx(5 / 3)
    assert found.more_than_most_probable.high == pytest.approx(5 / 3 + 4.3027 * 5 / 3, rel=1e-4)
    assert not found.is_worse
    generator = np.random.default_rng(2)
    true = (generator.random(400) < 0.1).astype(np.int64)
    chance = np.clip(0.1 + 0.25 * true + generator.normal(0, 0.1, 400), 0.01, 0.99)
    both = np.column_stack((1 - chance, chance))
    weighted = values_of(both, weights_for_f_beta(true, both, 1.0)).argmax(axis=1)
    assert macro_f_beta(true, weighted, 2, 1.0) > macro_f_beta(true, both.argmax(axis=1), 2, 1.0) + 0.1


@given(LABELS, st.integers(2, 4), st.integers(0, 50))
def test_groups_stay_on_one_side(labels: list[int], folds: int, seed: int) -> None:
    numbers = np.array(labels)
    groups = np.arange(numbers.size) // 3
    fold = folds_of(SplitKeys(labels=numbers, groups=groups), folds, seed)
    for group in np.unique(groups):
        assert np.unique(fold[groups == group]).size == 1
    single = folds_of(SplitKeys(labels=numbers, groups=np.concatenate(([0, 0], np.arange(1, numbers.size - 1)))), folds, seed)
    for label in range(4):  # one pair among documents that stand alone: even to within the pair
        in_fold = np.bincount(single[numbers == label], minlength=folds)
        assert in_fold.max() - in_fold.min() <= 2
    whole = np.bincount(single, minlength=folds)
    assert whole.max() - whole.min() <= 3
    inside = held_out_of(SplitKeys(labels=numbers, groups=groups), 0.4, seed)
    for group in np.unique(groups):
        assert np.unique(inside[groups == group]).size == 1


def test_in_time_no_training_document_is_later() -> None:
    dates = np.random.default_rng(3).integers(0, 30, 90).astype(float)
    dates[:4] = np.nan
    documents = labelled(np.zeros(90, dtype=np.int64), "a")
    made = splits(documents, Judge(folds=4, in_time=True), SplitOrder(dates))
    assert len(made.each) == 4 and made.undated == 4
    for split in made.each:
        assert dates[split.training].max() < dates[split.held_out].min()
        assert not np.isnan(dates[split.held_out]).any()


SPLITS = {
    "folds": Judge(folds=3),
    "repeated": Judge(folds=2, repeats=3),
    "in time": Judge(folds=3, in_time=True),
    "alone": Judge(alone=True),
    "given": Judge(),
}


@given(st.lists(st.tuples(st.integers(0, 2), st.integers(0, 25)), min_size=40, max_size=90), st.sampled_from(list(SPLITS)))
def test_what_belongs_together_is_on_one_side_of_every_kind_of_split(rows: list[tuple[int, int]], kind: str) -> None:
    labels, groups = np.array([label for label, _ in rows]), np.array([group for _, group in rows])
    dates = np.arange(len(rows), dtype=np.float64)[::-1].copy()
    order = SplitOrder(dates, [f"f{place % 4}" for place in range(len(rows))] if kind == "given" else ())
    try:
        made = splits(labelled(labels, "abc", groups), SPLITS[kind], order)
    except DataProblem:  # too few groups of a label, or nothing left to learn from: refused, never divided
        return
    for split in made.each:
        assert not np.intersect1d(groups[split.training], groups[split.held_out]).size
    whole = sum(split.training.size + split.held_out.size for split in made.each) + sum(made.excluded)
    if kind in ("given", "alone"):
        assert whole == len(rows) * len(made.each)  # what was taken out is counted
    assert (sum(made.excluded) > 0) <= (kind in ("in time", "alone", "given"))


def test_earlier_copies_of_the_latest_rows_are_named() -> None:
    dates, groups = np.array([1.0, 2, 3, 4, np.nan]), np.array([0, 1, 2, 0, 0])
    held, taken = latest(dates, 0.25, groups)
    assert held.tolist() == [False, False, False, True, False]
    assert taken.tolist() == [True, False, False, False, False]


@given(st.lists(st.tuples(st.integers(0, 3), st.integers(0, 12)), min_size=8, max_size=60), st.integers(0, 9))
def test_shuffled_rows_are_dealt_alike(rows: list[tuple[int, int]], seed: int) -> None:
    labels, groups = np.array([label for label, _ in rows]), np.array([group for _, group in rows])
    keys = document_keys(text_digests([f"text {place // 2}" for place in range(len(rows))]), [f"r{n}" for n in range(len(rows))])
    order = np.random.default_rng(seed).permutation(len(rows))
    before = folds_of(SplitKeys(labels=labels, groups=groups, keys=keys), 3, seed)
    after = folds_of(SplitKeys(labels=labels[order], groups=groups[order] + 100, keys=keys[order]), 3, seed)
    assert after.tolist() == before[order].tolist()


def test_a_hold_out_of_large_groups_comes_near_its_share() -> None:
    # Groups of 45, 30 and 25 documents: exactly 30% is to be had, and no other choice is nearer.
    groups = np.repeat([0, 1, 2], [45, 30, 25])
    for seed in range(20):
        assert held_out_of(SplitKeys(labels=np.zeros(100, dtype=np.int64), groups=groups), 0.3, seed).sum() == 30
    # Eight writers with other mixtures of two labels; an exhaustive search says how near it can be done.
    generator = np.random.default_rng(4)
    content = generator.integers(2, 30, (8, 2))
    group = np.repeat(np.arange(16) // 2, content.reshape(-1))
    label = np.repeat(np.arange(16) % 2, content.reshape(-1))
    goal = 0.3 * content.sum(axis=0)
    off = [np.abs(content[[bool(number >> bit & 1) for bit in range(8)]].sum(axis=0) - goal).max() for number in range(1, 255)]
    held = held_out_of(SplitKeys(labels=label, groups=group), 0.3, 11)
    assert np.abs(np.bincount(label[held], minlength=2) - goal).max() <= min(off) + 6


@given(LABELS, st.integers(0, 20))
def test_shares_of_parts_need_not_be_equal(labels: list[int], seed: int) -> None:
    numbers = np.array(labels)
    part = assign_parts(SplitKeys(labels=numbers), np.array([0.5, 0.3, 0.2]), seed)
    for label, size in enumerate(np.bincount(numbers).tolist()):
        held = np.bincount(part[numbers == label], minlength=3)
        assert (np.abs(held - size * np.array([0.5, 0.3, 0.2])) <= 1.5).all()


def test_impossible_splits_are_refused_with_numbers() -> None:
    labels = np.array([0, 0, 0, 1, 1, 1])
    with pytest.raises(DataProblem, match="All 3 documents of 'b' are in one group"):
        splits(labelled(labels, "ab", np.array([0, 1, 2, 3, 3, 3])), Judge(folds=2))
    with pytest.raises(DataProblem, match="5 folds need at least 5 documents of each label; 'a' has 3"):
        splits(labelled(labels, "ab"), Judge())
    with pytest.raises(DataProblem, match="has 1 different value"):
        splits(labelled(labels, "ab"), Judge(), SplitOrder(folds=["x"] * 6))
    with pytest.raises(UsageProblem, match="cannot both say which documents are held out"):
        splits(labelled(labels, "ab"), Judge(alone=True, in_time=True))
    with pytest.raises(DataProblem, match="All 4 documents to learn from belong together with held-out ones"):
        splits(labelled(labels, "ab", np.zeros(6, dtype=np.int64)), Judge(), SplitOrder(folds=["x", "y", "z"] * 2))
    alone = splits(labelled(labels, "ab"), Judge(alone=True))
    assert [split.held_out.tolist() for split in alone.each] == [[n] for n in range(6)]


def test_copies_are_told_from_the_text() -> None:
    words = " ".join(f"word{number}" for number in range(40))
    texts = [words, f"{words} more", "quite another text", "Quite another, text!", "quite a third text", ""]
    groups = find_duplicates(fingerprints_of([*texts, ""]), 0.4).groups()
    assert groups[0] == groups[1]
    assert groups[2] == groups[3]
    assert len(set(groups.tolist())) == 5  # texts without words are copies of none
    assert joined(np.array([0, 0, 1, 2]), np.array([5, 6, 6, 7])).tolist() in ([0, 0, 0, 1], [1, 1, 1, 0])
    named = named_groups(["x", "", "x", "", "y"])
    assert named[0] == named[2] and len(set(named.tolist())) == 4


@given(st.lists(st.tuples(st.integers(0, 30), st.integers(0, 30)), max_size=40))
def test_parts_that_are_linked(links: list[tuple[int, int]]) -> None:
    # Documents of the same group in either of two groupings, as nodes of one graph with two kinds of nodes.
    first, second = (np.array(ends, dtype=np.int64) for ends in zip(*links, strict=True)) if links else ([], [])
    graph = csr_array((np.ones(len(links)), (first, np.asarray(second, dtype=np.int64) + 31)), shape=(62, 62))
    _, parts = connected_components(graph, directed=False)
    together = joined(np.asarray(first, dtype=np.int64), np.asarray(second, dtype=np.int64))
    assert together is not None
    wanted = parts[np.asarray(first, dtype=np.int64)]
    assert np.array_equal(together[:, None] == together, wanted[:, None] == wanted)


@given(st.floats(1, 1e5), st.floats(0.5, 1 - 1e-9), st.integers(1, 50), st.floats(0, 500))
def test_distributions_against_another_library(degrees: float, share: float, whole: int, value: float) -> None:
    assert student_quantile(degrees, share) == pytest.approx(special.stdtrit(degrees, share), rel=1e-8, abs=1e-12)
    assert normal_quantile(share) == pytest.approx(special.ndtri(share), abs=1e-9)
    assert normal_cdf(value - 250) == pytest.approx(special.ndtr(value - 250), rel=1e-9)
    assert chi_square_above(value, whole) == pytest.approx(special.chdtrc(whole, value), rel=1e-9)


def test_intervals_of_whole_groups() -> None:
    # 184 passages of 8 volumes, all right: what 8 of 8 says (Wilson 1927), not 184 of 184.
    volumes = np.repeat(np.arange(8), 23)
    sample = Sample.of(np.arange(184), 1, volumes)
    found = share_of(np.ones(184), np.ones(184), sample)
    assert (found.right, found.of, found.high) == (184, 184, 1.0)
    assert found.low == pytest.approx(wilson(8, 8).low)
    # Where groups tell no more alike than documents, the interval is nearly that of documents; where a group is right or wrong
    # as a whole, it is that of groups, made wider as Student's t is.
    generator = np.random.default_rng(1)
    many = np.repeat(np.arange(300), 4)
    mixed = (generator.random(1200) < 0.7).astype(np.float64)
    loose = share_of(mixed, np.ones(1200), Sample.of(np.arange(1200), 1, many))
    plain = wilson(int(mixed.sum()), 1200)
    assert loose.low == pytest.approx(plain.low, abs=0.01) and loose.low <= plain.low + 1e-9
    whole = np.repeat((np.arange(300) % 10 < 7).astype(np.float64), 4)
    tight = share_of(whole, np.ones(1200), Sample.of(np.arange(1200), 1, many))
    assert tight.low == pytest.approx(wilson(210, 300).low, abs=0.003)


def test_intervals_of_grouped_documents_cover() -> None:
    # Simulated: 40 groups of 10 documents, each group with a rate of its own around 0.8. 95% intervals hold 0.8 in about 95%.
    generator = np.random.default_rng(5)
    groups, every = np.repeat(np.arange(40), 10), np.ones(400)
    sample = Sample.of(np.arange(400), 1, groups)
    held = 0
    for _ in range(300):
        rates = generator.beta(8, 2, 40)[groups]
        rate = share_of((generator.random(400) < rates).astype(np.float64), every, sample)
        held += rate.low <= 0.8 <= rate.high
    assert 0.91 <= held / 300 <= 0.99


def test_repeats_do_not_multiply_documents() -> None:
    generator = np.random.default_rng(2)
    right = (generator.random(200) < 0.8).astype(np.float64)
    once = share_of(right, np.ones(200), Sample.of(np.arange(200)))
    places = np.tile(np.arange(200), 5)
    often = share_of(np.tile(right, 5), np.ones(1000), Sample.of(places, 5))
    assert often == once
    true = generator.integers(0, 3, 200)
    given_labels = np.where(right > 0, true, (true + 1) % 3)
    whole = decided(np.tile(true, 5), np.tile(given_labels, 5), ("a", "b", "c"), "a")
    whole = replace(whole, sample=Sample.of(places, 5))
    alone, repeated = judged_alone(true, given_labels, ("a", "b", "c"), "a"), judge(whole, 2.0)
    assert repeated.table.tolist() == alone.table.tolist()
    for one, other in zip(repeated.per_label, alone.per_label, strict=True):
        assert (one.precision, one.recall, one.documents) == (other.precision, other.recall, other.documents)
        assert one.f1.value == pytest.approx(other.f1.value)
        assert one.f1.high - one.f1.low == pytest.approx(other.f1.high - other.f1.low, rel=0.15)


@given(st.integers(0, 30), st.integers(0, 30))
def test_the_sign_test_is_mcnemars_where_documents_stand_alone(first: int, second: int) -> None:
    differences = np.array([1] * first + [-1] * second + [0] * 7)
    assert sign_test(differences) == pytest.approx(mcnemar(first, second))
    assert sign_test(5 * differences) == pytest.approx(mcnemar(first, second))  # five repeats tell no more than one


def test_the_sign_test_counts_sign_patterns() -> None:
    differences = np.array([3, -1, 2, 2, 5, -4, 1])
    sums = [sum(d if number >> bit & 1 else -d for bit, d in enumerate(differences.tolist())) for number in range(1 << 7)]
    expected = np.mean([abs(total) >= abs(differences.sum()) for total in sums])
    assert sign_test(differences) == pytest.approx(expected)
    large = np.random.default_rng(3).integers(-30, 34, 4000)
    z = abs(int(large.sum())) / float(np.sqrt((large.astype(float) ** 2).sum()))
    assert sign_test(large) == pytest.approx(erfc(z / 2**0.5), rel=0.02)


@pytest.mark.parametrize(
    ("way", "expected"), [("mean", [0.6, 0.4]), ("median", [0.8, 0.2]), ("product", [0.64 * 0.2, 0.04 * 0.8])]
)
def test_passages_are_added_up(way: str, expected: list[float]) -> None:
    chances = np.array([[0.8, 0.2], [0.8, 0.2], [0.2, 0.8], [0.5, 0.5]])
    names, owner, together = aggregate_passages(chances, ["x", "x", "x", "y"], way)
    assert names == ["x", "y"] and owner.tolist() == [0, 0, 0, 1]
    assert together[0] == pytest.approx(np.array(expected) / sum(expected))


def test_growth_is_found_again() -> None:
    sizes = np.array([50.0, 100, 200, 400, 800, 1600])
    found = fit_learning_curve(sizes, np.tile(0.95 - 2.0 * sizes**-0.6, (5, 1)), 2000)
    assert found is not None
    assert found.at(3200) == pytest.approx(0.95 - 2.0 * 3200**-0.6, abs=1e-3)
    low, high = found.between(3200)
    # the points lie on the curve, so that little more than the documents judged by is uncertain, there and then again
    half = 1.96 * np.sqrt(2 * 0.93 * 0.07 / 2000)
    assert (low, high) == pytest.approx((found.at(3200) - half, found.at(3200) + half), abs=0.006)
    assert fit_learning_curve(sizes[:3], np.ones((5, 3)), 2000) is None


def test_predictions_of_growth_cover() -> None:
    # Sorters whose accuracy follows 0.92 − 1.5 m^−0.5, judged on 5 times 100 documents that are the same at every size.
    generator = np.random.default_rng(2)
    sizes = np.array([20.0, 40, 80, 140, 200, 280, 400])
    held = 0
    draws = 300 if THOROUGH else 150
    for _ in range(draws):
        hard = generator.random((5, 100))
        truth = 0.92 - 1.5 * sizes**-0.5
        moved = np.clip(truth + 0.01 * generator.normal(size=(5, 7)), 0, 1)  # by the training documents drawn
        accuracies = (hard[:, :, None] < moved[:, None, :]).mean(axis=1)
        found = fit_learning_curve(sizes, accuracies, 500)
        assert found is not None
        low, high = found.between(800)
        later = float((generator.random(500) < 0.92 - 1.5 * 800**-0.5).mean())
        held += low <= later <= high
    assert 0.92 <= held / draws <= 0.99
