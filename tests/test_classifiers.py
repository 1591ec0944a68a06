"""Classifiers against the textbook's numbers, and optima against their conditions and an independent optimiser."""

from pathlib import Path

import numpy as np
import pytest
from conftest import Program
from scipy.optimize import minimize
from scipy.sparse import csr_array, random_array

from upsort.core.classifiers.logistic import SoftmaxLoss, train
from upsort.core.classifiers.multinomial_nb import MultinomialNaiveBayes
from upsort.core.plan import Classifier
from upsort.files.sorter_file import load_sorter

TEXTBOOK = [
    "--set=classifier.kind=multinomial-nb",
    "--set=features.in_at_least=1",
    "--set=features.in_at_most=1",
]


def test_naive_bayes_gives_the_textbook_numbers(program: Program, wet_and_dry: Path, tmp_path: Path) -> None:
    # Manning, Raghavan & Schütze 2008, section 13.2, with other words.
    program("train", wet_and_dry, "--text", "text", "--label", "label", *TEXTBOOK, "-o", "plants.sorter")
    sorter = load_sorter(tmp_path / "plants.sorter")
    conditional = np.exp(sorter.classifier.rule.weights)
    chance = {
        (term, label): conditional[sorter.space.terms.index(term), sorter.labels.index(label)]
        for term in sorter.space.terms
        for label in sorter.labels
    }
    assert chance["fern", "wet"] == pytest.approx(6 / 14)
    assert chance["cactus", "wet"] == chance["sand", "wet"] == pytest.approx(1 / 14)
    assert chance["fern", "dry"] == chance["cactus", "dry"] == chance["sand", "dry"] == pytest.approx(2 / 9)
    (tmp_path / "new.csv").write_text("text\nfern fern fern cactus sand\n")
    (row,) = program("score", "plants.sorter", "new.csv", "--json").json
    assert row["sorted_label"] == "wet"
    assert row["sorted_probability"] == pytest.approx(0.68976, abs=5e-5)
    scores = sorter.decide(sorter.texts_alone(["fern fern fern cactus sand"])).scores[0]
    assert np.exp(scores) == pytest.approx([0.0001355, 0.0003012], rel=1e-3)  # dry, wet


def test_naive_bayes_counts_are_kept_as_they_are(program: Program, wet_and_dry: Path, tmp_path: Path) -> None:
    program("train", wet_and_dry, *TEXTBOOK, "-o", "plants.sorter")
    classifier = load_sorter(tmp_path / "plants.sorter").classifier
    assert isinstance(classifier, MultinomialNaiveBayes)
    assert classifier.term_counts.sum(axis=0).tolist() == [3, 8]
    assert classifier.label_documents.tolist() == [1, 3]


def problem(seed: int, rows: int, terms: int, k: int) -> tuple[csr_array, np.ndarray]:
    generator = np.random.default_rng(seed)
    matrix = csr_array(random_array((rows, terms), density=0.2, rng=generator, format="csr"))
    return matrix, generator.integers(0, k, rows)


@pytest.mark.parametrize(("rows", "terms", "k", "penalty"), [(60, 20, 3, 1.0), (40, 90, 4, 0.05), (30, 5, 2, 0.001)])
def test_the_logistic_optimum_meets_its_condition_and_an_independent_optimum(
    rows: int, terms: int, k: int, penalty: float
) -> None:
    matrix, labels = problem(rows, rows, terms, k)
    fitted = train(matrix, labels, k, Classifier(penalty=penalty, tolerance=1e-9))
    assert fitted.minimum is not None
    assert fitted.minimum.reached
    # The gradient, written out densely and independently: Xᵀ(P − Y) + penalty · W, and Σ(P − Y).
    dense, weights, intercept = matrix.toarray(), fitted.rule.weights, fitted.rule.intercept
    scores = dense @ weights + intercept
    odds = np.exp(scores - scores.max(axis=1, keepdims=True))
    residuals = odds / odds.sum(axis=1, keepdims=True) - np.eye(k)[labels]
    assert np.abs(dense.T @ residuals + penalty * weights).max() < 1e-6
    assert np.abs(residuals.sum(axis=0)).max() < 1e-6

    def value(packed: np.ndarray) -> float:
        w, b = packed[: terms * k].reshape(terms, k), packed[terms * k :]
        z = dense @ w + b
        top = z.max(axis=1)
        logs = z[np.arange(rows), labels] - top - np.log(np.exp(z - top[:, None]).sum(axis=1))
        return -logs.sum() + penalty / 2 * (w**2).sum()

    independent = minimize(value, np.zeros((terms + 1) * k), method="BFGS", options={"maxiter": 500})
    assert fitted.minimum.value <= independent.fun + 1e-6 * abs(independent.fun)
    assert fitted.minimum.value == pytest.approx(value(np.concatenate((weights.ravel(), intercept))))


def test_hessian_products_are_differences_of_gradients() -> None:
    matrix, labels = problem(1, 30, 8, 3)
    loss = SoftmaxLoss(matrix, labels, 3, 0.5)
    generator = np.random.default_rng(2)
    at, direction = generator.normal(size=27), generator.normal(size=27)
    step = 1e-6
    ahead, behind = (loss.value_and_gradient(at + sign * step * direction)[1] for sign in (1, -1))
    loss.value_and_gradient(at)
    assert loss.hessian_product(direction) == pytest.approx((ahead - behind) / (2 * step), abs=1e-5)


def test_stopping_short_is_told(program: Program, demo: Path) -> None:
    found = program(
        "train",
        demo / "letters-2024.csv",
        "--text=message",
        "--label=topic",
        "--set=classifier.most_iterations=1",
        "--set=classifier.tolerance=1e-9",
        "-o",
        "short.sorter",
    )
    assert "training stopped after 1 steps" in found.err


def test_perfectly_separable_documents_without_penalty_end_soundly() -> None:
    matrix = csr_array(np.eye(4))
    fitted = train(matrix, np.array([0, 0, 1, 1]), 2, Classifier(penalty=0.0))
    assert np.isfinite(fitted.rule.weights).all()
    assert fitted.rule.scores(matrix).argmax(axis=1).tolist() == [0, 0, 1, 1]
