"""Intervals hold the truth about as often as they say, and none is given where too little bears on it."""

import numpy as np
import pytest
from benchmarks import benchmark
from conftest import THOROUGH, some_always, thorough

from upsort.core.evaluation.intervals import FEW, Sample, design_effect, student
from upsort.core.evaluation.measures import Decided, judge
from upsort.core.evaluation.probability_measures import areas

coverage = benchmark("intervals")
CASES = coverage.CASES


def judged(true: np.ndarray, given: np.ndarray, groups: np.ndarray | None = None, beta: float = 1.0):
    labels = tuple(f"l{number}" for number in range(int(max(true.max(), given.max())) + 1))
    sample = Sample.of(np.arange(true.size), 1, groups)
    decided = Decided(true=true, sorted_as=given, labels=labels, majority="l0", baseline=true == 0, sample=sample)
    return judge(decided, beta)


@pytest.mark.parametrize("name", some_always([case.name for case in CASES], *(case.name for case in CASES[::9])))
def test_intervals_cover(name: str) -> None:
    case = next(case for case in CASES if case.name == name)
    # 400 draws have a standard error of 1.1 points, 200 of 1.5; an area of nearly 1 is held more often, its lower end being what
    # nobody can tell.
    found = coverage.covered(case, 400 if THOROUGH else 200, 3)
    for measure, (share, width) in found.items():
        at_most = 1.0 if "area" in measure else 0.98
        assert 0.92 <= share <= at_most, (name, measure, share)
        assert 0 < width < 0.7


@pytest.mark.parametrize("case", coverage.GROUPED)
def test_few_large_groups_are_few(case: object) -> None:
    share, width = coverage.covered_by_groups(case, 500, 3)
    assert share >= 0.93 and width < 0.5, share


def test_the_interval_of_groups_by_hand() -> None:
    """Of groups of 4, 1 and 1 with 2, 1 and 0 right: the mean is ½, the influences sum to 0, ½ and −½."""
    influences, group = np.array([0.5, 0.5, -0.5, -0.5, 0.5, -0.5]), np.array([0, 0, 0, 0, 1, 2])
    measured = max(2 * (0.5 / (1 - 1 / 6)) ** 2 / 1.5, 1.0)  # below 1: as if all stood alone
    degrees = 6**2 / (16 + 1 + 1) - 1.0
    together = 18 / 6
    widened = measured * (student(degrees) / 1.959964) ** 2
    effect = design_effect(influences, np.ones(6), Sample.of(np.arange(6), 1, group), 3.0)
    assert effect == pytest.approx((widened * 3 + together) / 4, rel=1e-5)


def test_no_mistake_is_no_certainty() -> None:
    labels = np.repeat([0, 1], 30)
    found = judged(labels, labels)
    for rate in (found.macro_f1, *found.other_rates.values(), *(one.f1 for one in found.per_label)):
        assert rate.value == 1.0
        assert rate.low is not None
        assert rate.low < 0.98
    chances = np.column_stack((1.0 - labels, labels)).astype(float)
    whole = areas(labels, chances, Sample.of(np.arange(60)))
    assert whole.roc.value == whole.precision_recall.value == 1.0
    assert whole.roc.low is not None
    assert whole.roc.low < 0.999


def test_few_documents_of_a_label_have_no_interval() -> None:
    labels = np.array([0] * 40 + [1] * (FEW - 1))
    given = labels.copy()
    given[:3], given[-2:] = 1, 0
    few = judged(labels, given, beta=2.0).per_label[1]
    assert few.f1.value == pytest.approx(2 * 7 / (9 + 10))
    assert few.f1.low is few.f_beta.low is None
    assert few.recall.low is not None  # a share of documents holds for any number of them
    assert judged(labels, given).per_label[0].f1.low is not None


def test_copied_documents_widen_every_interval() -> None:
    generator = np.random.default_rng(4)
    labels = generator.integers(0, 3, 60)
    given = np.where(generator.random(60) < 0.7, labels, 0)
    once = judged(labels, given, beta=2.0)
    thrice = judged(np.tile(labels, 3), np.tile(given, 3), np.tile(np.arange(60), 3), beta=2.0)
    pairs = [(once.macro_f1, thrice.macro_f1)]
    pairs += [(once.other_rates[name], thrice.other_rates[name]) for name in once.other_rates]
    pairs += [(a.f_beta, b.f_beta) for a, b in zip(once.per_label, thrice.per_label, strict=True)]
    for alone, copied in pairs:
        assert copied.value == pytest.approx(alone.value)
        assert copied.high - copied.low == pytest.approx(alone.high - alone.low, rel=0.1)


@thorough
def test_a_coin_is_not_told_from_guessing() -> None:
    # Two labels, one somewhat commoner, and answers by a coin, whose chances are the shares of the labels or even.
    generator = np.random.default_rng(9)
    for documents, share in ((60, 0.5), (200, 0.5), (200, 0.6), (1000, 0.5)):
        better = 0
        for _ in range(400):
            labels = (generator.random(documents) > share).astype(np.int64)
            given = generator.integers(0, 2, documents)
            better += judged(labels, given).above_baseline is True
        assert better <= 0.035 * 400, (documents, share)


def test_the_paired_test_sees_what_intervals_do_not() -> None:
    # 98.2% have the common label. Ten of the rare ones found and none called rare wrongly is no luck: p = 2 / 2^10.
    labels = np.array([0] * 982 + [1] * 18)
    given = labels.copy()
    given[-8:] = 0
    found = judged(labels, given)
    assert found.accuracy.low is not None
    assert found.baseline.high is not None
    assert found.accuracy.low < found.baseline.high  # the intervals overlap
    assert found.against_baseline == pytest.approx(2 / 2**10)
    assert found.above_baseline is True
