"""Warnings of drift: seldom false, and there where the topics have changed."""

from dataclasses import replace

import numpy as np
import pytest
from measured import measure, texts_alone

from upsort.core.analysis.drift import NewDocuments, drift, total_variation
from upsort.core.features.corpus_counts import CorpusCounts
from upsort.core.plan import Plan
from upsort.core.text.cleaning import cleaner
from upsort.core.training.decision import PlanWithResources
from upsort.core.training.labelled import LabelledDocuments, UnknownWords
from upsort.core.training.sorter import TrainedSorter, length_classes
from upsort.core.training.train_sorter import train_sorter


def counted(texts: list[str]) -> CorpusCounts:
    plan = Plan()
    return measure([texts_alone(*texts)], cleaner(plan.clean), replace(plan.columns, text=("text",)), plan.features)


def sorter_of(labels: int) -> TrainedSorter:
    """Trained on texts that tell their label most of the time; rare labels among them."""
    generator = np.random.default_rng(3)
    shares = 1.0 / np.arange(1, labels + 1)
    own = np.concatenate((np.arange(labels), generator.choice(labels, 3000, p=shares / shares.sum())))
    words = [f"w{label if generator.random() < 0.8 else generator.integers(labels)} also" for label in own.tolist()]
    documents = LabelledDocuments(measured=counted(words), labels=own, names=tuple(f"l{n:02}" for n in range(labels)))
    return train_sorter(documents, PlanWithResources(Plan()))[0]


def new(sorter: TrainedSorter, shares: np.ndarray, documents: int, generator: np.random.Generator) -> NewDocuments:
    """Documents as they may come: labels and lengths drawn, a few unknown words in some."""
    lengths = sorter.trained.lengths / sorter.trained.lengths.sum()
    words = np.full(documents, 20)
    unknown = generator.beta(1.0, 30.0, documents)
    return NewDocuments(
        generator.multinomial(documents, shares).astype(np.int64),
        generator.multinomial(documents, lengths).astype(np.int64),
        UnknownWords.of(words, unknown),
    )


@pytest.mark.parametrize("labels", [2, 7, 43])
def test_false_alarms_are_rare_and_changes_are_found(labels: int) -> None:
    sorter = sorter_of(labels)
    held_out = sorter.trained.held_out
    assert held_out.documents >= 1500
    shares = held_out.labels / held_out.labels.sum()
    changed = shares.copy()
    changed[[0, 1]] = changed[[1, 0]]  # the commonest label and the next have changed places
    for documents in (50, 200, 5000):
        generator = np.random.default_rng(documents)
        false = [drift(sorter, new(sorter, shares, documents, generator)).any for _ in range(250)]
        assert np.mean(false) < 0.02, documents
        if documents >= 200:
            found = [drift(sorter, new(sorter, changed, documents, generator)).labels for _ in range(50)]
            seen = np.mean([one is not None and one.label in {"l00", "l01"} for one in found])
            assert seen > 0.9 or documents < 5000
            assert seen > 0.5 or float(np.abs(changed - shares).sum() / 2) < 0.2


def test_the_chi_square_test_is_the_published_one() -> None:
    # Pearson's statistic of (20, 30, 50) against (30, 30, 40): 2 · (25/25 + 0 + 25/45) / … = Σ (o − e)²/e = 3.111 on 2 degrees,
    # whose tail is exp(−3.111 / 2).
    apart, p = total_variation(np.array([20, 30, 50]), np.array([30, 30, 40]))
    assert apart == pytest.approx(0.1)
    statistic = 2 * (5**2 / 25 + 0 + 5**2 / 45)
    assert p == pytest.approx(np.exp(-statistic / 2))


def test_rare_classes_are_counted_together() -> None:
    rare = np.ones(40, dtype=np.int64)
    assert total_variation(np.append(rare, 2000), np.append(rare[::-1], 50))[1] < 0.001  # 40 of 2,040 against 40 of 90
    assert total_variation(np.zeros(3, dtype=np.int64) + 1, np.array([1, 0, 0]))[1] == 1.0


def test_what_drifted_is_told_with_numbers() -> None:
    sorter = sorter_of(7)
    trained = sorter.trained
    words = np.full(200, 30)
    unlike = NewDocuments(np.array([10, 190, 0, 0, 0, 0, 0]), length_classes(words), UnknownWords.of(words, np.full(200, 0.8)))
    found = drift(sorter, unlike)
    assert found.unknown is not None
    assert found.unknown.now == pytest.approx(0.8)
    assert found.unknown.before == trained.held_out.unknown / trained.held_out.words
    assert found.labels is not None
    assert found.labels.now in {0.05, 0.95}
    assert found.lengths is not None
    assert found.lengths.now == 24  # 16 to 31 words
    few = NewDocuments(
        np.array([2, 38, 0, 0, 0, 0, 0]), length_classes(words[:40]), UnknownWords.of(words[:40], np.full(40, 0.9))
    )
    assert not drift(sorter, few).any


def test_the_standard_error_of_unknown_words() -> None:
    # Cochran 1977, section 2.11, by hand: shares 1/10, 3/10, 2/20; ratio 6/40, residuals −0.5, 1.5, −1.
    found = UnknownWords.summed(
        [UnknownWords.of(np.array([10, 10]), np.array([0.1, 0.3])), UnknownWords.of(np.array([20, 0]), np.array([0.1, np.nan]))]
    )
    assert found.share == pytest.approx(6 / 40)
    assert found.error == pytest.approx(np.sqrt(3 / 2 * (0.25 + 2.25 + 1.0)) / 40)
