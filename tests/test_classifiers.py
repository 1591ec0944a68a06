"""Classifiers against the textbook's numbers, and optima against their conditions and an independent optimiser."""

import csv
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from conftest import KINDS, Program, crossed, of_kind, rows_of, some_always, write_rows
from hypothesis import given
from hypothesis import strategies as st
from measured import texts_alone
from scipy.optimize import isotonic_regression, minimize
from scipy.sparse import csr_array, random_array
from scipy.special import logsumexp

from upsort.core.classifiers import families, linear_families, losses, nonlinear
from upsort.core.classifiers.calibration import calibrate, isotonic, reordered_like
from upsort.core.classifiers.families import sampled
from upsort.core.classifiers.family import Linear, StoredClassifier, TrainingData
from upsort.core.classifiers.naive_bayes import NaiveBayesOnCounts
from upsort.core.classifiers.newton import Objective, Stopping, minimise
from upsort.core.classifiers.optimiser_partitions import PartitionStates
from upsort.core.classifiers.problem_arrays import Targets, targets_of
from upsort.core.plan import Classifier
from upsort.io.sorter.loading import load_sorter, load_sorters

UNBOUNDED = ["--set=features.in_at_least=1", "--set=features.in_at_most=1"]
TEXTBOOK = ["--set=classifier.kind=naive-bayes", *UNBOUNDED]


def test_naive_bayes_gives_the_textbook_numbers(program: Program, wet_and_dry: Path, tmp_path: Path) -> None:
    # Manning, Raghavan & Schütze 2008, section 13.2, with other words.
    program("train", wet_and_dry, "--text", "text", "--label", "label", *TEXTBOOK, "-o", "plants.sorter")
    sorter = load_sorter(tmp_path / "plants.sorter")
    assert sorter.classifier.rule is not None
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
    scores = sorter.decide(texts_alone("fern fern fern cactus sand")).scores[0]
    assert np.exp(scores) == pytest.approx([0.0001355, 0.0003012], rel=1e-3)  # dry, wet


def test_presence_gives_the_textbook_numbers(program: Program, wet_and_dry: Path, tmp_path: Path) -> None:
    # The same, section 13.3.
    program("train", wet_and_dry, *UNBOUNDED, *of_kind("naive-bayes presence"), "-o", "plants.sorter")
    sorter = load_sorter(tmp_path / "plants.sorter")
    decisions = sorter.decide(texts_alone("fern fern fern cactus sand"))
    assert np.exp(decisions.scores[0]) == pytest.approx([0.021948, 0.005184], rel=1e-4)
    assert sorter.labels[decisions.best[0]] == "dry"


def test_complement_by_hand(program: Program, wet_and_dry: Path, tmp_path: Path) -> None:
    # Outside dry stand fern 5, moss, reed, dune 1 each (8 words); outside wet cactus, sand, fern 1 each (3); six terms.
    program("train", wet_and_dry, *UNBOUNDED, *of_kind("naive-bayes complement"), "-o", "plants.sorter")
    sorter = load_sorter(tmp_path / "plants.sorter")
    dry, wet = sorter.decide(texts_alone("fern fern fern cactus sand")).scores[0]
    assert dry == pytest.approx(np.log(1 / 4) - 3 * np.log(6 / 14) - 2 * np.log(1 / 14))
    assert wet == pytest.approx(np.log(3 / 4) - 5 * np.log(2 / 9))


def test_priors_can_be_uniform_or_given(program: Program, wet_and_dry: Path, tmp_path: Path) -> None:
    for setting, expected in (("prior=uniform", [0.5, 0.5]), ("prior={ dry = 3, wet = 1 }", [0.75, 0.25])):
        program("train", wet_and_dry, *TEXTBOOK, f"--set=classifier.{setting}", "--overwrite", "-o", "plants.sorter")
        rule = load_sorter(tmp_path / "plants.sorter").classifier.rule
        assert rule is not None
        assert np.exp(rule.intercept) == pytest.approx(expected)


def test_naive_bayes_counts_are_kept_as_they_are(program: Program, wet_and_dry: Path, tmp_path: Path) -> None:
    program("train", wet_and_dry, *TEXTBOOK, "-o", "plants.sorter")
    classifier = load_sorter(tmp_path / "plants.sorter").classifier
    assert isinstance(classifier, NaiveBayesOnCounts)
    assert classifier.counts.sum(axis=0).tolist() == [3, 8]
    assert classifier.label_documents.tolist() == [1, 3]


def problem(seed: int, rows: int, terms: int, k: int) -> tuple[csr_array, np.ndarray]:
    generator = np.random.default_rng(seed)
    matrix = csr_array(random_array((rows, terms), density=0.2, rng=generator, format="csr"))
    labels = generator.integers(0, k, rows)
    labels[:k] = np.arange(k)
    return matrix, labels


def dense_loss(kind: str, scores: np.ndarray, labels: np.ndarray) -> float:
    """Each loss written out once more, densely."""
    rows, k = scores.shape
    signs = np.where(labels[:, None] == np.arange(k), 1.0, -1.0)
    match kind:
        case "softmax":
            top = scores.max(axis=1)
            return float(-(scores[np.arange(rows), labels] - top - np.log(np.exp(scores - top[:, None]).sum(axis=1))).sum())
        case "logistic":
            return float(np.log1p(np.exp(-signs * scores)).sum())
        case "svm":
            return float((np.maximum(0, 1 - signs * scores) ** 2).sum())
        case _:
            return float(((scores - signs) ** 2).sum())


LOSSES = {"softmax": losses.Softmax, "logistic": losses.Logistic, "svm": losses.SquaredHinge, "ridge": losses.Squares}


@pytest.mark.parametrize(("kind", "made"), crossed(LOSSES, [(30, 5, 2, 0.01), (60, 20, 3, 1.0), (40, 90, 4, 0.05)]))
def test_each_optimum_meets_its_condition_and_an_independent_optimum(kind: str, made: tuple[int, int, int, float]) -> None:
    rows, terms, k, ridge = made
    matrix, labels = problem(rows, rows, terms, k)
    ones = np.ones(rows)
    own = labels[:, None] == np.arange(k)
    loss = losses.Softmax(labels=labels, weights=ones, n_labels=k) if kind == "softmax" else LOSSES[kind](own, ones)  # type: ignore[arg-type]
    found, ended = minimise(Objective(partitions=PartitionStates(matrix, loss), n_labels=k, ridge=ridge), Stopping(1e-8, 300))
    assert ended.reached
    dense = np.hstack((matrix.toarray(), ones[:, None]))

    def value(packed: np.ndarray) -> float:
        w = packed.reshape(terms + 1, k)
        return dense_loss(kind, dense @ w, labels) + ridge / 2 * float((w[:-1] ** 2).sum())

    # The gradient by central differences vanishes at the optimum, against its size at zero.
    def gradient(at: np.ndarray) -> np.ndarray:
        steps = np.eye(at.size) * 1e-5
        return np.array([(value(at + step) - value(at - step)) / 2e-5 for step in steps])

    at = found.ravel()
    assert np.linalg.norm(gradient(at)) < 1e-4 * np.linalg.norm(gradient(np.zeros_like(at)))
    independent = minimize(value, np.zeros_like(at), method="BFGS", options={"maxiter": 800})
    assert value(at) <= independent.fun + 1e-6 * abs(independent.fun)


@pytest.mark.parametrize("contrast", ["multinomial", "one-against-rest"])
@pytest.mark.parametrize("sparsity", [1.0, 0.5])
def test_sparse_optima_meet_the_subgradient_condition(contrast: str, sparsity: float) -> None:
    matrix, labels = problem(7, 80, 40, 3)
    chosen = Classifier(sparsity=sparsity, contrast=contrast, tolerance=1e-7, most_iterations=500)  # type: ignore[arg-type]
    data = TrainingData(matrix, Targets(labels, 3, np.ones(80)), ("a", "b", "c"))
    fitted = families.train(data, chosen, penalty=2.0)
    assert isinstance(fitted, Linear) and fitted.ended.reached
    weights, dense = fitted.rule.weights, matrix.toarray()
    scores = fitted.scores(matrix)
    if contrast == "multinomial":
        odds = np.exp(scores - scores.max(axis=1, keepdims=True))
        p = odds / odds.sum(axis=1, keepdims=True)
    else:
        p = 1 / (1 + np.exp(-scores))
    residuals = p - np.eye(3)[labels]
    smooth = dense.T @ residuals + 2.0 * (1 - sparsity) * weights
    lasso = 2.0 * sparsity
    zero = weights == 0
    assert zero.any() and not zero.all()
    assert (np.abs(smooth[zero]) <= lasso + 1e-4).all()
    assert np.abs(smooth[~zero] + lasso * np.sign(weights[~zero])).max() < 1e-4
    assert np.abs(residuals.sum(axis=0)).max() < 1e-4


def test_a_weight_of_two_is_a_document_given_twice() -> None:
    matrix, labels = problem(3, 30, 10, 3)
    twice = np.concatenate((np.arange(30), [4, 9]))
    weights = np.ones(30)
    weights[[4, 9]] = 2
    for kind in ("naive-bayes counts", "naive-bayes presence", "logistic", "svm", "ridge", "centroid"):
        settings = replace(KINDS[kind], tolerance=1e-9, most_iterations=500)
        names = ("a", "b", "c")
        weighted = families.train(TrainingData(matrix, Targets(labels, 3, weights), names), settings)
        repeated = families.train(TrainingData(csr_array(matrix[twice]), Targets(labels[twice], 3, np.ones(32)), names), settings)
        assert weighted.scores(matrix) == pytest.approx(repeated.scores(matrix), abs=1e-5), kind


def test_balanced_labels_weigh_the_same_together() -> None:
    labels = np.array([0] * 8 + [1] * 2)
    weights = targets_of(labels, ("a", "b"), Classifier(label_weights="even")).weights
    assert weights[labels == 0].sum() == pytest.approx(weights[labels == 1].sum())
    assert weights.sum() == pytest.approx(10)
    assert targets_of(labels, ("a", "b"), Classifier(label_weights={"b": 3.0})).weights.tolist() == [1.0] * 8 + [3.0] * 2


@given(st.lists(st.integers(0, 3), min_size=1, max_size=40), st.sampled_from(["over", "under"]), st.integers(0, 9))
def test_sampling_gives_every_label_equally_many(labels: list[int], way: str, seed: int) -> None:
    given_labels = np.array(labels)
    drawn = sampled(given_labels, 4, way, seed)
    sizes = np.bincount(given_labels[drawn], minlength=4)
    present = np.bincount(given_labels, minlength=4)
    goal = present.max() if way == "over" else present[present > 0].min()
    assert sizes.tolist() == [goal if size else 0 for size in present.tolist()]
    if way == "under":
        assert np.unique(drawn).size == drawn.size
    else:
        assert set(drawn.tolist()) == set(range(len(labels)))
    assert drawn.tolist() == sampled(given_labels, 4, way, seed).tolist()


def test_a_path_ends_where_single_trainings_end() -> None:
    matrix, labels = problem(11, 50, 30, 3)
    chosen = Classifier(kind="svm", tolerance=1e-8, most_iterations=300)
    data = TrainingData(matrix, Targets(labels, 3, np.ones(50)), ("a", "b", "c"))
    for penalty, fitted in zip((10.0, 1.0, 0.1), families.path(data, chosen, (10.0, 1.0, 0.1)), strict=True):
        alone = families.train(data, chosen, penalty)
        assert fitted.scores(matrix) == pytest.approx(alone.scores(matrix), abs=1e-5)


def test_neighbours_by_brute_force() -> None:
    matrix, labels = problem(5, 40, 12, 3)
    fitted = nonlinear.train_neighbours(matrix, Targets(labels, 3, np.ones(40)), nearest=4)
    asked = csr_array(random_array((9, 12), density=0.4, rng=np.random.default_rng(8), format="csr"))
    a, b = matrix.toarray(), asked.toarray()
    a = a / np.maximum(np.linalg.norm(a, axis=1, keepdims=True), 1e-12)
    b = b / np.maximum(np.linalg.norm(b, axis=1, keepdims=True), 1e-12)
    similar = b @ a.T
    for row, found in zip(similar, fitted.scores(asked), strict=True):
        ranked = sorted(range(40), key=lambda place: (-round(row[place], 12), place))[:4]
        shares = np.bincount(labels[ranked], weights=row[ranked], minlength=3)
        if shares.sum() > 0:
            assert found == pytest.approx(shares / shares.sum())
        else:
            assert found == pytest.approx(np.bincount(labels) / 40)


def test_a_tree_asks_the_best_question_first() -> None:
    # Term 1 splits the labels clean; term 0 is in every other document.
    rows = np.array([[1, 1], [0, 1], [1, 0], [0, 0], [1, 1], [0, 0]])
    labels = np.array([0, 0, 1, 1, 0, 1])
    grown = nonlinear.train_tree(csr_array(rows), Targets(labels, 2, np.ones(6)), depth=3, least=1)
    assert grown.term.tolist() == [1, nonlinear.LEAF, nonlinear.LEAF]
    assert grown.node_documents.tolist() == [[3, 3], [3, 0], [0, 3]]
    assert grown.leaves(csr_array(rows)).tolist() == [1, 1, 2, 2, 1, 2]
    assert np.exp(grown.scores(csr_array(rows)))[0] == pytest.approx([4 / 5, 1 / 5])


@given(st.lists(st.tuples(st.integers(-5, 5), st.booleans()), min_size=1, max_size=25))
def test_isotonic_values_are_the_best_rising_ones(points: list[tuple[int, bool]]) -> None:
    scores, own = np.array([float(x) for x, _ in points]), np.array([y for _, y in points])
    steps = isotonic(scores, own)
    assert (np.diff(steps[:, 1]) >= 0).all()
    values = np.interp(scores, steps[:, 0], steps[:, 1])
    # The max-min formula for the least-squares rising function (Barlow et al. 1972, theorem 1.4).
    for x, value in zip(scores, values, strict=True):
        means = [
            [own[(scores >= low) & (scores <= high)].mean() for high in np.unique(scores[scores >= x])]
            for low in np.unique(scores[scores <= x])
        ]
        best = max(min(row) for row in means)
        assert 0 < value < 1  # an end where all are alike is no certainty
        if 0 < best < 1 and np.unique(steps[:, 1]).size > 1:
            assert value == pytest.approx(best)


@pytest.mark.parametrize("kind", ["temperature", "platt", "isotonic"])
def test_calibration_mends_overconfident_scores(kind: str) -> None:
    generator = np.random.default_rng(4)
    true_scores = generator.normal(size=(4000, 3)) * 1.5
    chances = np.exp(true_scores) / np.exp(true_scores).sum(axis=1, keepdims=True)
    labels = np.array([generator.choice(3, p=row) for row in chances])
    learned = calibrate(kind, 6 * true_scores[:2000], labels[:2000])
    found = learned.probabilities(6 * true_scores[2000:])
    overconfident = np.exp(6 * true_scores[2000:])
    overconfident /= overconfident.sum(axis=1, keepdims=True)
    assert found.sum(axis=1) == pytest.approx(np.ones(2000))
    rows = np.arange(2000)

    def log_loss(probabilities: np.ndarray) -> float:
        return float(-np.log(np.maximum(probabilities[rows, labels[2000:]], 1e-12)).mean())

    assert log_loss(found) < log_loss(chances[2000:]) + (0.02 if kind == "temperature" else 0.15)
    assert log_loss(found) < log_loss(overconfident) - 0.3
    if kind == "temperature":
        assert learned.slopes[0] == pytest.approx(1 / 6, rel=0.1)


def test_stopping_short_is_told(program: Program, few: Path) -> None:
    short = ("--set=classifier.most_iterations=1", "--set=classifier.tolerance=1e-9")
    found = program("train", few / "letters-2024.csv", "--text=message", "--label=topic", *short, "-o", "short.sorter")
    assert "training stopped after 1 step at" in found.err


@pytest.mark.parametrize("kind", ["logistic", "svm", "ridge"])
def test_separable_and_contradictory_documents_without_penalty_end_soundly(kind: str) -> None:
    chosen = Classifier(kind=kind, penalty=0.0)  # type: ignore[arg-type]
    matrix = csr_array(np.array([[1.0, 0, 0], [0, 1, 0], [0, 0, 1], [0, 0, 1]]))
    fitted = families.train(TrainingData(matrix, Targets(np.array([0, 0, 1, 1]), 2, np.ones(4)), ("a", "b")), chosen, 0.0)
    assert fitted.scores(matrix).argmax(axis=1).tolist() == [0, 0, 1, 1]
    contrary = families.train(TrainingData(matrix, Targets(np.array([0, 0, 0, 1]), 2, np.ones(4)), ("a", "b")), chosen, 0.0)
    assert np.isfinite(contrary.scores(matrix)).all()


@pytest.mark.parametrize("kind", some_always(KINDS, *list(KINDS)[::3]))
def test_every_kind_trains_saves_and_comes_back(program: Program, few: Path, tmp_path: Path, kind: str) -> None:
    table, columns = tmp_path / "letters.csv", ("--text=message", "--label=topic")
    write_rows(table, rows_of(few / "letters-2024.csv")[:600])
    said = program("train", table, *columns, *of_kind(kind), "--verbose", "-o", "one.sorter")
    program("train", table, *columns, *of_kind(kind), "--workers=2", "--quiet", "-o", "two.sorter")
    assert (tmp_path / "one.sorter").read_bytes() == (tmp_path / "two.sorter").read_bytes()
    assert ("Calibration" in said.out) == (kind not in {"majority", "chance"})
    accuracy = program("evaluate", "one.sorter", table, "--json").json["accuracy"]["value"]
    least = {"tree": 0.3, "majority": 0.15, "chance": 0.1}.get(kind, 0.88)
    assert accuracy > least


def test_labels_of_several_columns_are_trained_judged_and_scored_in_one_go(program: Program, few: Path, tmp_path: Path) -> None:
    table = few / "letters-2024.csv"
    program("train", table, "--text=message", "--label=topic,urgent", "-o", "two.sorter")
    topic, urgent = load_sorters(tmp_path / "two.sorter")
    assert (topic.answer, urgent.answer, urgent.labels) == ("topic", "urgent", ("no", "yes"))
    judged = program("evaluate", "two.sorter", table, "--json").json["answers"]
    assert judged["topic"]["accuracy"]["value"] > 0.9
    assert judged["urgent"]["accuracy"]["value"] > judged["urgent"]["baseline"]["value"]
    scored = program("score", "two.sorter", few / "letters-2026.csv", "--json").json[0]
    assert {"sorted_topic_label", "sorted_urgent_probability"} <= scored.keys()


def test_cells_with_several_labels_give_sets(program: Program, tmp_path: Path) -> None:
    texts = {"aphid": "pests", "rust": "diseases", "dry": "watering"}
    generator = np.random.default_rng(1)
    rows = []
    for _ in range(120):
        chosen = [word for word in texts if generator.random() < 0.5] or ["rust"]
        rows.append(f"{' '.join(chosen)} please help,{'; '.join(texts[word] for word in chosen)}\n")
    (tmp_path / "t.csv").write_text("text,benches\n" + "".join(rows))
    several = ("--text=text", "--label=benches", "--set=columns.label_separator=;", "--set=features.in_at_most=1")
    program("train", "t.csv", *several, "-o", "sets.sorter")
    (tmp_path / "new.csv").write_text("text\naphid and rust please\ndry\nhelp please\n")
    found = [row["sorted_label"] for row in program("score", "sets.sorter", "new.csv", "--json").json]
    assert found[:2] == ["diseases; pests", "watering"]
    judged = program("evaluate", "sets.sorter", "t.csv", "--json").json
    assert judged["accuracy"]["value"] > 0.9
    assert judged["confusion"] == {} and judged["label_sets"] is not None
    assert judged["labels"]["pests"]["documents"] == sum("pests" in row for row in rows)
    refused = program("train", "t.csv", *several, "--set=classifier.kind=tree", "-o", "x.sorter", code=2)
    assert "tree gives one label" in refused.err


@pytest.mark.parametrize("kind", [name for name, one in KINDS.items() if families.family(one).additive])
def test_extending_naive_bayes_equals_training_on_everything(program: Program, few: Path, tmp_path: Path, kind: str) -> None:
    program("split", few / "letters-2024.csv", "--label=topic", "--hold-out=0.4", "-o", "parts/")
    shared = ("--text=message", "--label=topic", *of_kind(kind), "--set=classifier.calibrate=none")
    program("train", "parts/train.csv", *shared, "-o", "part.sorter")
    told = program("extend", "part.sorter", "parts/held-out.csv", "-o", "extended.sorter", "--json").json
    program("train", "parts/train.csv", "parts/held-out.csv", *shared, "-o", "whole.sorter")
    assert (tmp_path / "extended.sorter").read_bytes() == (tmp_path / "whole.sorter").read_bytes()
    assert told["way"] == "counts" and told["new_terms"] > 0


def test_a_penalty_is_chosen_on_folds(program: Program, demo: Path) -> None:
    table, columns = demo / "letters-2024.csv", ("--text=message", "--label=topic", "--json")
    found = program("train", table, *columns, "--set=classifier.penalty=auto", "-o", "a.sorter").json
    assert found["penalty"] in families.PENALTIES
    assert found["held_out_accuracy"]["of"] > 200


def test_few_documents_and_rare_labels_are_warned_of(program: Program, tmp_path: Path) -> None:
    rows = "".join(f"fern moss w{n},wet\nsand dune d{n},dry\n" for n in range(600)) + "ice snow,cold\n" * 11
    (tmp_path / "t.csv").write_text("text,label\n" + rows + "fire,hot\nfire,hot\n")
    err = program("train", "t.csv", "--text=text", "--label=label", "-o", "t.sorter").err
    assert "fewer than 10 training documents, too few to learn reliably: hot (2)" in err
    assert "under 1% of the documents: cold" in err


def test_row_weights_are_read_and_checked(program: Program, tmp_path: Path) -> None:
    (tmp_path / "t.csv").write_text("text,label,w\n" + "fern wet,a,1\nsand dry,b,2\n" * 8 + "fern,a,0\nfern,a,x\n")
    found = program("train", "t.csv", "--text=text", "--label=label", "--row-weight=w", "-o", "t.sorter")
    assert "no weight above 0: 2" in found.err


@pytest.mark.parametrize("kind", ["logistic", "svm"])
def test_a_path_gives_what_each_penalty_gives_alone(kind: str) -> None:
    generator = np.random.default_rng(5)
    matrix = csr_array(random_array((60, 30), density=0.3, rng=generator, format="csr"))
    labels = generator.integers(0, 3, 60)
    data = TrainingData(matrix, Targets(labels, 3, np.ones(60)), ("a", "b", "c"))
    chosen = Classifier(kind=kind, tolerance=1e-8, most_iterations=200)  # type: ignore[arg-type]
    for penalty, fitted in zip(families.PENALTIES, families.path(data, chosen), strict=True):
        alone = families.train(data, chosen, penalty)
        assert isinstance(fitted, Linear)
        assert isinstance(alone, Linear)
        assert fitted.ended.reached
        assert fitted.rule.weights == pytest.approx(alone.rule.weights, abs=1e-5)
        apart = fitted.rule.intercept - alone.rule.intercept  # the same for all labels, where only differences count
        assert apart == pytest.approx(apart.mean() if kind == "logistic" else 0.0, abs=1e-5)


@given(st.integers(0, 10_000), st.integers(1, 9))
def test_neighbours_are_the_first_of_the_most_similar(seed: int, nearest: int) -> None:
    generator = np.random.default_rng(seed)
    documents = generator.integers(0, 2, (8, 4)).astype(float)  # many are equally similar
    asked = generator.integers(0, 2, (3, 4)).astype(float)
    labels = generator.integers(0, 3, 8)
    scores = nonlinear.train_neighbours(csr_array(documents), Targets(labels, 3, np.ones(8)), nearest).scores(csr_array(asked))

    def unit(rows: np.ndarray) -> np.ndarray:
        return rows / np.maximum(np.linalg.norm(rows, axis=1, keepdims=True), 1e-300)

    for similar, row in zip(unit(asked) @ unit(documents).T, scores, strict=True):
        order = sorted(range(8), key=lambda place: (-round(similar[place], 12), place))[:nearest]
        shares = np.zeros(3)
        for place in order:
            shares[labels[place]] += similar[place]
        commonest = np.bincount(labels, minlength=3) / 8
        assert row == pytest.approx(shares / shares.sum() if shares.sum() > 0 else commonest)


@given(st.lists(st.lists(st.floats(0.01, 1.0), min_size=4, max_size=4), min_size=1, max_size=20), st.integers(0, 99))
def test_probabilities_are_brought_into_the_order_of_the_scores(rows: list[list[float]], seed: int) -> None:
    chances = np.array(rows) / np.sum(rows, axis=1, keepdims=True)
    scores = np.random.default_rng(seed).normal(size=chances.shape)
    found = reordered_like(scores, chances)
    assert found.sum(axis=1) == pytest.approx(np.ones(len(rows)))
    for score, before, after in zip(scores, chances, found, strict=True):
        order = np.argsort(-score)
        assert (np.diff(after[order]) <= 1e-12).all()
        # the nearest falling values, by an independent method
        assert after[order] == pytest.approx(isotonic_regression(before[order], increasing=False).x)


def test_neighbours_count_by_their_weights() -> None:
    # Two documents alike to the new one, of one label each; that of label 1 counts three times.
    rows = csr_array(np.array([[1.0, 0.0], [1.0, 0.0]]))
    found = nonlinear.train_neighbours(rows, Targets(np.array([0, 1]), 2, np.array([0.5, 1.5])), nearest=2)
    assert found.scores(csr_array(np.array([[2.0, 0.0]])))[0] == pytest.approx([0.25, 0.75])
    assert found.scores(csr_array(np.array([[0.0, 3.0]])))[0] == pytest.approx([0.25, 0.75])  # like none of them
    chosen = Classifier(kind="neighbours", nearest=2)
    again = nonlinear.NEIGHBOURS.restore(StoredClassifier(settings=chosen, arrays=found.arrays(), terms=2, labels=2))
    assert again.scores(csr_array(np.array([[2.0, 0.0]])))[0] == pytest.approx([0.25, 0.75])


def test_ratios_of_terms_go_by_weights() -> None:
    rows = csr_array(np.array([[1.0, 0.0], [0.0, 1.0], [1.0, 1.0]]))
    labels, weights = np.array([0, 1, 1]), np.array([1.0, 2.0, 1.0])
    twice = csr_array(np.array([[1.0, 0.0], [0.0, 1.0], [0.0, 1.0], [1.0, 1.0]]))
    expected = linear_families.label_ratios(twice, Targets(np.array([0, 1, 1, 1]), 2, np.ones(4)))
    assert linear_families.label_ratios(rows, Targets(labels, 2, weights)) == pytest.approx(expected)


@pytest.mark.parametrize("kind", ["neighbours", "ratio-svm"])
def test_row_weights_change_the_sorter(program: Program, tmp_path: Path, kind: str) -> None:
    rows = [f"fern moss w{n % 7},{'ab'[n % 2]},{3 if n % 2 else 1}" for n in range(60)]
    (tmp_path / "t.csv").write_text("text,label,counts\n" + "\n".join(rows) + "\n")
    shared = ("train", "t.csv", "--text=text", "--label=label", f"--set=classifier.kind={kind}", "--no-check")
    program(*shared, "-o", "plain.sorter")
    program(*shared, "--row-weight=counts", "-o", "weighed.sorter")
    (tmp_path / "new.csv").write_text("text\nfern moss\n")
    plain, weighed = (
        program("score", name, "new.csv", "--json", "--quiet", "--all-probabilities").json[0]
        for name in ("plain.sorter", "weighed.sorter")
    )
    assert (
        weighed["sorted_probability_b"] > plain["sorted_probability_b"] if "sorted_probability_b" in plain else weighed != plain
    )


def test_folds_that_leave_no_term_do_not_stop_a_training(program: Program, tmp_path: Path) -> None:
    # All words that stand twice are one writer's: where that one is held out, the rest is left without a term.
    rows = [f"word{n // 2},{'ab'[n // 2 % 2]},one" for n in range(76)]
    rows += [f"lone{n},{'ab'[n % 2]},other{n}" for n in range(8)]
    (tmp_path / "t.csv").write_text("text,label,who\n" + "\n".join(rows) + "\n")
    grouped = ("--set=columns.group=who", "--set=judge.allow_copies=true")
    out = program("train", "t.csv", "--text=text", "--label=label", *grouped, "-o", "s.sorter").out
    assert "Trained logistic on 84 documents" in out


@pytest.mark.parametrize("kind", ["platt", "isotonic"])
def test_calibration_by_label_leaves_labels_alone(program: Program, few: Path, tmp_path: Path, kind: str) -> None:
    table = few / "letters-2024.csv"
    shared = ("train", table, "--text=message", "--label=topic", "--no-check")
    program(*shared, "--set=classifier.calibrate=none", "-o", "plain.sorter")
    program(*shared, f"--set=classifier.calibrate={kind}", "-o", "each.sorter")
    program(*shared, f"--set=classifier.calibrate={kind}", "--set=decide.rank_by=probabilities", "-o", "free.sorter")
    plain, each, free = (
        program("score", name, few / "letters-2026.csv", "--json", "--quiet").json
        for name in ("plain.sorter", "each.sorter", "free.sorter")
    )
    labels = [[row["sorted_label"] for row in rows] for rows in (plain, each, free)]
    assert labels[0] == labels[1] != labels[2]
    assert all(row["sorted_margin"] >= 0 and 0 < row["sorted_probability"] < 1 for row in each)


@pytest.mark.parametrize("kind", ["logistic", "svm", "naive-bayes"])
def test_probabilities_are_nearly_as_good_as_they_can_be(program: Program, few: Path, tmp_path: Path, kind: str) -> None:
    program("split", few / "letters-2024.csv", "--label=topic", "--hold-out=0.4", "--seed=5", "-o", "parts")
    program("train", "parts/train.csv", "--text=message", "--label=topic", f"--set=classifier.kind={kind}", "-o", "s.sorter")
    sorter = load_sorters(tmp_path / "s.sorter")[0]
    with (tmp_path / "parts" / "held-out.csv").open(newline="", encoding="utf-8") as stream:
        rows = [row for row in csv.DictReader(stream) if row["topic"]]
    own = np.array([sorter.labels.index(row["topic"]) for row in rows])
    matrix, _ = sorter.matrix(texts_alone(*(row["message"] for row in rows)))
    scores = sorter.classifier.scores(matrix)

    def loss(slope: float) -> float:
        scaled = scores * slope
        return float((logsumexp(scaled, axis=1) - scaled[np.arange(own.size), own]).mean())

    best = min(loss(slope) for slope in sorter.calibration.slopes[0] * np.geomspace(0.3, 3.0, 400))
    assert loss(sorter.calibration.slopes[0]) <= 1.01 * best
