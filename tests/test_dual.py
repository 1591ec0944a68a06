"""Passes on the dual: they end where Newton's method does, whatever the loss, the weights and the threads."""

import csv
import subprocess
import sys
from collections.abc import Iterator
from itertools import islice
from pathlib import Path

import numpy as np
import pytest
from conftest import THOROUGH, Program
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.sparse import csr_array

from upsort.core.classifiers import dual, families, linear_families, newton
from upsort.core.classifiers.family import TrainingData
from upsort.core.classifiers.problem_arrays import Targets
from upsort.core.plan import Classifier

KINDS = {
    "softmax": Classifier(kind="logistic"),
    "logistic": Classifier(kind="logistic", contrast="one-against-rest"),
    "hinge": Classifier(kind="svm"),
    "squares": Classifier(kind="ridge"),
    "scaled hinge": Classifier(kind="ratio-svm"),
}


@pytest.fixture
def always(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """Passes are made however small a problem is."""
    monkeypatch.setattr(dual, "WORTH_COMPILING", 0)
    yield


def made(seed: int, labels: int, documents: int = 60, terms: int = 40) -> TrainingData:
    generator = np.random.default_rng(seed)
    values = generator.random((documents, terms)) * (generator.random((documents, terms)) < 0.2)
    truth = np.concatenate((np.arange(labels), generator.integers(0, labels, documents - labels)))
    values[np.arange(documents), truth] += 0.7
    weights = generator.choice([0.0, 0.5, 1.0, 3.0], documents)
    weights[:labels] = 1.0
    return TrainingData(csr_array(values), Targets(truth, labels, weights), tuple(f"label {n}" for n in range(labels)))


@pytest.mark.parametrize("kind", KINDS)
@settings(max_examples=20 if THOROUGH else 3)
@given(seed=st.integers(0, 1000), labels=st.integers(3, 30), penalty=st.sampled_from([0.02, 0.1, 1.0, 30.0]))
def test_every_way_ends_at_the_optimum(kind: str, seed: int, labels: int, penalty: float) -> None:
    data, chosen = made(seed, labels), KINDS[kind]
    exact = families.train(data, Classifier(**{**vars(chosen), "tolerance": 1e-9}), penalty)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(dual, "WORTH_COMPILING", 0)
        found = families.train(data, Classifier(**{**vars(chosen), "tolerance": 1e-7}), penalty)
    assert found.ended.passes > 0 and found.ended.reached and found.ended.optimality <= 1e-7
    scores, expected = found.scores(data.matrix), exact.scores(data.matrix)
    if kind == "softmax":  # all scores of a document may rise together
        scores, expected = scores - scores.mean(axis=1, keepdims=True), expected - expected.mean(axis=1, keepdims=True)
    assert np.allclose(scores, expected, atol=2e-3 * max(1.0, 1 / penalty))


@pytest.mark.parametrize("kind", KINDS)
def test_threads_and_runs_make_no_difference(kind: str, always: None, monkeypatch: pytest.MonkeyPatch) -> None:
    data = made(3, 60, 200, 90)
    first = families.train(data, KINDS[kind]).arrays()
    monkeypatch.setattr(dual.os, "cpu_count", lambda: 1)
    second = families.train(data, KINDS[kind]).arrays()
    assert all(first[name].tobytes() == second[name].tobytes() for name in first)


def test_a_path_goes_on_from_penalty_to_penalty(always: None) -> None:
    data = made(5, 6)
    for kind in ("softmax", "hinge"):
        for penalty, found in zip(families.PENALTIES, families.path(data, KINDS[kind]), strict=True):
            assert found.ended.reached and found.ended.passes > 0, penalty


def test_most_steps_are_saved(always: None, monkeypatch: pytest.MonkeyPatch) -> None:
    after = families.train(made(1, 5, 3000, 300), Classifier(tolerance=1e-4)).ended.iterations
    monkeypatch.setattr(dual, "WORTH_COMPILING", 10**9)
    assert 2 * after < families.train(made(1, 5, 3000, 300), Classifier(tolerance=1e-4)).ended.iterations


def test_passes_that_lead_nowhere_are_forgotten(always: None, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(newton, "run_dual_passes", lambda ascent, *_: (np.full((41, 5), 1e6), np.inf))
    assert families.train(made(1, 5), Classifier()).ended.reached


@pytest.mark.parametrize("kind", ["softmax", "hinge", "squares"])
@settings(max_examples=20 if THOROUGH else 5)
@given(seed=st.integers(0, 1000), penalty=st.sampled_from([0.02, 0.1, 1.0, 30.0]))
def test_two_labels_mirror_each_other(kind: str, seed: int, penalty: float) -> None:
    """And the slopes of the objective of both columns, worked out here from its definition, vanish there."""
    data = made(seed, 2)
    found = families.train(data, Classifier(**{**vars(KINDS[kind]), "tolerance": 1e-9}), penalty)
    first, second = found.parameters.T  # type: ignore[attr-defined]
    assert (first == -second).all() and found.ended.passes == 0
    slopes = slopes_at(found.parameters, data, kind)  # type: ignore[attr-defined]
    slopes[:-1] += penalty * found.parameters[:-1]  # type: ignore[attr-defined]
    assert np.linalg.norm(slopes) <= 1e-6 * np.linalg.norm(slopes_at(np.zeros(slopes.shape), data, kind))


def test_a_lasso_and_small_problems_go_to_newton(always: None, monkeypatch: pytest.MonkeyPatch) -> None:
    assert families.train(made(1, 5), Classifier(sparsity=0.5)).ended.passes == 0
    monkeypatch.setattr(dual, "WORTH_COMPILING", 10**9)
    assert families.train(made(1, 5), Classifier()).ended.passes == 0


def test_without_the_compiler_training_works_and_says_so(
    always: None, monkeypatch: pytest.MonkeyPatch, program: Program, demo: object
) -> None:
    monkeypatch.setattr(newton, "compiled", lambda: None)
    found = families.train(made(1, 5), Classifier()).ended
    assert found.uncompiled and found.reached and found.passes == 0
    assert not families.train(made(1, 5), Classifier(sparsity=0.5)).ended.uncompiled  # a lasso has no passes to miss
    told = program("train", f"{demo}/letters-2025.csv", "--text=Text", "--label=Bench", "--no-check", "-o", "s.sorter").err
    assert "numba cannot be loaded" in told


def test_a_thousand_rows_never_wait_for_the_compiler(demo: Path, tmp_path: Path) -> None:
    with (demo / "letters-2024.csv").open(newline="", encoding="utf-8") as stream:
        rows = list(islice(csv.reader(stream), 1_001))
    with (tmp_path / "letters.csv").open("w", newline="", encoding="utf-8") as stream:
        csv.writer(stream).writerows(rows)
    code = "import sys; from upsort.cli.main import main; main(sys.argv[1:]); sys.exit('numba' in sys.modules)"
    line = ["train", f"{tmp_path}/letters.csv", "--text=message", "--label=topic", "-o", f"{tmp_path}/s.sorter"]
    assert subprocess.run([sys.executable, "-c", code, *line], capture_output=True, check=False).returncode == 0


@settings(max_examples=200 if THOROUGH else 10, deadline=None)
@given(
    seed=st.integers(0, 1000),
    kind=st.sampled_from(["logistic", "svm"]),
    size=st.sampled_from([0.0, 0.1, 5.0]),
    sparsity=st.sampled_from([0.0, 0.5, 1.0]),
    k=st.sampled_from([2, 4]),
)
def test_from_any_start_the_subgradient_vanishes(seed: int, kind: str, size: float, sparsity: float, k: int) -> None:
    """Worked out here from the definition: 0 is among the slopes of loss + ridge / 2 · Σ W² + lasso · Σ |W| at the end."""
    data, penalty = made(seed, k), 0.3
    chosen = Classifier(kind=kind, sparsity=sparsity if kind == "logistic" else 0.0, tolerance=1e-7, most_iterations=500)
    record = families.family(chosen).penalised
    assert record is not None and record.loss is not None
    lasso = penalty * chosen.sparsity
    start = np.random.default_rng(seed).normal(scale=size, size=(data.matrix.shape[1] + 1, k))
    found = linear_families.LinearTraining(data, chosen, record).train(penalty, start)
    slopes = slopes_at(found.parameters, data, kind)
    slopes[:-1] += (penalty - lasso) * found.parameters[:-1]
    weights = found.parameters[:-1]
    slopes[:-1] = np.where(
        weights != 0, slopes[:-1] + lasso * np.sign(weights), np.sign(slopes[:-1]) * np.maximum(abs(slopes[:-1]) - lasso, 0)
    )
    nothing = slopes_at(np.zeros_like(found.parameters), data, kind)
    assert found.ended.reached
    assert np.linalg.norm(slopes) <= 1e-5 * np.linalg.norm(nothing)


def slopes_at(parameters: np.ndarray, data: TrainingData, kind: str) -> np.ndarray:
    """(p + 1, k) the slopes of the loss alone: of −ln softmax, or of squares of each label against the rest."""
    scores = data.matrix @ parameters[:-1] + parameters[-1]
    own = np.eye(scores.shape[1])[data.targets.labels]
    if kind in {"logistic", "softmax"}:
        grown = np.exp(scores - scores.max(axis=1, keepdims=True))
        residuals = grown / grown.sum(axis=1, keepdims=True) - own
    else:
        signs = 2 * own - 1
        short = 1 - signs * scores
        residuals = -2 * signs * (short if kind == "squares" else np.maximum(short, 0))
    residuals *= data.targets.weights[:, None]
    return np.vstack((data.matrix.T @ residuals, residuals.sum(axis=0)))
