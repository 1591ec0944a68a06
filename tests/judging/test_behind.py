"""What may be said of the distance to the best of several candidates, by hand and by simulation."""

import numpy as np
import pytest
from scipy.special import ndtri

from upsort.core.evaluation.intervals import Comparison, Sample, difference_to_best

MARGIN = 0.01


def alone(n: int) -> Sample:
    return Sample.of(np.arange(n))


def test_the_interval_by_hand() -> None:
    # Bonett & Price (2012): 100 documents, 12 only the best gets right, 4 only the other: (12 + 1, 4 + 1) / 102;
    # D = 8/102, variance (18/102 − D²) / 102.
    differences = np.array([1.0] * 12 + [-1.0] * 4 + [0.0] * 84)
    found = difference_to_best(differences, alone(100), 2)
    d = 8 / 102
    half = 1.959964 * np.sqrt((18 / 102 - d**2) / 102)
    assert found.value == pytest.approx(0.08)
    assert (found.low, found.high) == pytest.approx((d - half, d + half), abs=1e-6)
    assert difference_to_best(differences, alone(100), 4).high > found.high


def test_the_words_go_by_the_ends() -> None:
    assert difference_to_best(np.array([1.0] * 40 + [0.0] * 60), alone(100), 2).comparison(MARGIN) is Comparison.WORSE
    assert difference_to_best(np.zeros(1000), alone(1000), 2).comparison(MARGIN) is Comparison.NO_WORSE
    assert (
        difference_to_best(np.zeros(100), alone(100), 2).comparison(MARGIN) is Comparison.NOT_DISTINGUISHABLE
    )  # too few to show it
    copied = Sample.of(np.arange(1000), 1, np.arange(1000) // 20)
    assert difference_to_best(np.zeros(1000), copied, 2).comparison(MARGIN) is Comparison.NOT_DISTINGUISHABLE


def drawn(generator: np.random.Generator, n: int, accuracies: np.ndarray) -> np.ndarray:
    """(m, n) right or not; documents are easy or hard for all candidates alike, as they are."""
    hard = generator.normal(size=n)
    own = generator.normal(size=(accuracies.size, n))
    noise = 0.8 * hard + 0.6 * own
    return noise < ndtri(accuracies)[:, None]


@pytest.mark.parametrize("candidates", [2, 11])
def test_a_worse_candidate_is_not_called_no_worse(candidates: int) -> None:
    # One candidate is better than all others by 4 points. Were the words right in 95%, a worse one would seldom get them.
    generator = np.random.default_rng(8)
    accuracies = np.full(candidates, 0.81)
    accuracies[0] = 0.85
    wrongly = held = 0
    draws = 400
    for _ in range(draws):
        right = drawn(generator, 300, accuracies)
        best = int(np.argmax(right.sum(axis=1)))
        found = [
            difference_to_best(right[best] - right[other].astype(float), alone(300), candidates) for other in range(candidates)
        ]
        truth = accuracies[best] - accuracies
        wrongly += any(
            one.comparison(MARGIN) is Comparison.NO_WORSE and gap >= MARGIN for one, gap in zip(found, truth, strict=True)
        )
        held += all(
            one.low <= gap <= one.high for other, (one, gap) in enumerate(zip(found, truth, strict=True)) if other != best
        )
    assert wrongly <= 0.025 * draws
    assert held >= 0.93 * draws


def test_equal_candidates_are_rarely_called_worse() -> None:
    generator = np.random.default_rng(9)
    worse = 0
    for _ in range(400):
        right = drawn(generator, 300, np.full(8, 0.8))
        best = int(np.argmax(right.sum(axis=1)))
        found = [difference_to_best(right[best] - one.astype(float), alone(300), 8) for one in right]
        worse += any(one.comparison(MARGIN) is Comparison.WORSE for one in found)
    assert worse <= 0.05 * 400
