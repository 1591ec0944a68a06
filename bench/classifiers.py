"""Training against the products it is made of, and against a plain L-BFGS.

    python bench/classifiers.py [DOCUMENTS TERMS LABELS | --counts FILE]

--counts: counts of real documents, as NumPy's arrays `counts`, `terms`, `starts` (of a CSR matrix), `shape` and `labels`.

The unit is one pair of sparse products, X @ W and X.T @ R, over all labels in float64, as SciPy does them. The thing to beat is
SciPy's L-BFGS on the same softmax objective with the same products, to the same relative norm of the gradient, 1e-3."""

import subprocess
import sys
import time
from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from made_matrix import made_matrix
from measuring import high_water_mark, median_seconds, medians_in_turn
from scipy.optimize import minimize
from scipy.sparse import csr_array

from upsort.core.classifiers import families
from upsort.core.classifiers.family import Penalised, TrainingData
from upsort.core.classifiers.problem_arrays import Targets
from upsort.core.plan import Classifier

TOLERANCE = 1e-3


class _Reached(Exception):
    pass


def plain_lbfgs(matrix: csr_array, labels: np.ndarray, k: int, penalty: float) -> int:
    """What one would write first; returns how often value and gradient were asked for."""
    terms, asked = matrix.shape[1], 0
    transposed = matrix.T.tocsr()
    own = np.eye(k)[labels]

    def value(packed: np.ndarray) -> tuple[float, np.ndarray]:
        nonlocal asked
        asked += 1
        weights, intercept = packed[: terms * k].reshape(terms, k), packed[terms * k :]
        scores = matrix @ weights + intercept
        scores -= scores.max(axis=1, keepdims=True)
        logs = scores - np.log(np.exp(scores).sum(axis=1, keepdims=True))
        residuals = np.exp(logs) - own
        slopes = transposed @ residuals + penalty * weights
        gradient = np.concatenate((slopes.ravel(), residuals.sum(axis=0)))
        if asked > 1 and np.linalg.norm(gradient) <= TOLERANCE * first:
            raise _Reached
        return -float((logs * own).sum()) + penalty / 2 * float((weights**2).sum()), gradient

    start = np.zeros((terms + 1) * k)
    first = float(np.linalg.norm(value(start)[1]))
    with suppress(_Reached):
        minimize(value, start, jac=True, method="L-BFGS-B", options={"maxiter": 2000, "maxfun": 4000, "ftol": 0, "gtol": 0})
    return asked


LINEAR: tuple[str, ...] = ("logistic", "svm", "ridge", "ratio-svm")
COUNTED: tuple[str, ...] = ("naive-bayes", "centroid")


def from_counts(file: Path) -> None:
    """Training on real counts, four of five documents, against L-BFGS; the fifth are judged."""
    held = np.load(file)
    counts = csr_array((held["counts"].astype(float), held["terms"], held["starts"]), shape=tuple(held["shape"]))
    labels, k = held["labels"].astype(np.int64), int(held["labels"].max()) + 1
    in_documents = np.bincount(counts.indices, minlength=counts.shape[1])
    weights = csr_array(counts.multiply(np.log(counts.shape[0] / np.maximum(in_documents, 1))[None, :]))
    lengths = np.sqrt(np.asarray(weights.multiply(weights).sum(axis=1)).ravel())
    matrix = csr_array(weights.multiply(1 / np.maximum(lengths, 1e-12)[:, None]))
    judged = np.arange(labels.size) % 5 == 0
    train, truth = csr_array(matrix[~judged]), labels[~judged]
    print(f"{train.shape[0]:,} of {labels.size:,} documents, {train.shape[1]:,} terms, {k} labels, {train.nnz:,} numbers")
    data = TrainingData(train, Targets(truth, k, np.ones(truth.size)), tuple(f"{number:03}" for number in range(k)))
    began = time.perf_counter()
    families.train(data, Classifier(kind="svm", tolerance=0.1)), families.train(data, Classifier(tolerance=0.1))
    print(f"compiled or loaded, in {time.perf_counter() - began:.1f} s")
    began = time.perf_counter()
    asked = plain_lbfgs(train, truth, k, penalised_of(Classifier()).usual)
    plain = time.perf_counter() - began
    print(f"plain L-BFGS, softmax, to {TOLERANCE:g}: {plain:.1f} s, {asked} values and gradients")
    for kind in ("logistic", "svm"):
        penalty = penalised_of(Classifier(kind=kind)).usual
        optimum = families.train(data, Classifier(kind=kind, tolerance=1e-7), penalty)
        for tolerance in (TOLERANCE, Classifier().tolerance):
            chosen = Classifier(kind=kind, tolerance=tolerance)
            seconds = median_seconds(partial(families.train, data, chosen, penalty))
            fitted = families.train(data, chosen, penalty)
            above = objective(fitted, data, kind) / objective(optimum, data, kind) - 1
            print(
                f"{kind} to {tolerance:g}: {seconds:.2f} s (median of three), {plain / seconds:.0f} times as fast as "
                f"L-BFGS; {fitted.ended.passes} passes, {fitted.ended.iterations} steps; objective {above:.1e} above the "
                "optimum; held out: "
                + ", at the optimum ".join(judgement(one, matrix, labels, judged) for one in (fitted, optimum))
            )


def penalised_of(chosen: Classifier) -> Penalised:
    """The penalty of a kind that has one."""
    record = families.family(chosen).penalised
    assert record is not None
    return record


def objective(fitted: Any, data: TrainingData, kind: str) -> float:
    """What training minimises."""
    scores, targets = fitted.scores(data.matrix), data.targets
    chosen = Classifier(kind=kind)
    record = penalised_of(chosen)
    assert record.loss is not None
    loss = float(record.loss(targets, chosen).values(scores, slice(None)).sum())
    return loss + record.usual / 2 * float((fitted.rule.weights**2).sum())


def judgement(fitted: Any, matrix: csr_array, labels: np.ndarray, judged: np.ndarray) -> str:
    """Accuracy and log loss on the documents that are judged."""
    scores = fitted.scores(csr_array(matrix[judged]))
    scores -= scores.max(axis=1, keepdims=True)
    logs = scores - np.log(np.exp(scores).sum(axis=1, keepdims=True))
    loss = -logs[np.arange(len(logs)), labels[judged]].mean()
    return f"accuracy {(logs.argmax(axis=1) == labels[judged]).mean():.4f}, log loss {loss:.4f}"


def main() -> None:
    """Measure and print."""
    if "--counts" in sys.argv:
        from_counts(Path(sys.argv[sys.argv.index("--counts") + 1]))
        return
    usual = (600, 900, 4) if "--smallest" in sys.argv else (60_000, 35_000, 40)
    documents, terms, k = (int(text) for text in sys.argv[1:4]) if len(sys.argv) > 3 else usual
    matrix, labels = made_matrix(documents, terms, k)
    data = TrainingData(matrix, Targets(labels, k, np.ones(documents)), tuple(f"{n:03}" for n in range(k)))
    if len(sys.argv) > 4:
        before = high_water_mark()
        if sys.argv[4] != "nothing":
            families.train(data, Classifier(kind=sys.argv[4], tolerance=TOLERANCE))
        print(before, high_water_mark())
        return
    size = matrix.data.nbytes + matrix.indices.nbytes + matrix.indptr.nbytes
    print(f"{documents:,} documents, {matrix.shape[1]:,} terms, {k} labels, {matrix.nnz:,} numbers, {size / 1e6:.0f} MB")
    generator = np.random.default_rng(1)
    weights, transposed = generator.normal(size=(matrix.shape[1], k)), matrix.T.tocsr()
    residuals = matrix @ weights
    pair = median_seconds(lambda: (matrix @ weights, transposed @ residuals))
    print(f"one pair of products {pair:.2f} s (the unit)")
    began = time.perf_counter()
    asked = plain_lbfgs(matrix, labels, k, 1.0)
    plain = time.perf_counter() - began
    print(f"plain L-BFGS: {plain:.1f} s, {asked} values and gradients")
    for kind in LINEAR:
        chosen = Classifier(kind=kind, tolerance=TOLERANCE)
        began = time.perf_counter()
        fitted = families.train(data, chosen)
        seconds = time.perf_counter() - began
        ended = fitted.ended
        print(
            f"{kind:<13} {seconds:5.1f} s = {seconds / pair:4.0f} units, {plain / seconds:4.1f} times as fast as L-BFGS; "
            f"{ended.iterations} steps, {ended.products} pairs of products, which alone would take {ended.products * pair:.1f} s "
            f"as in the unit; optimality {ended.optimality:.1e}"
        )
    ones = np.ones(matrix.shape[1])
    kinds = COUNTED
    passes = {kind: partial(families.train, data, Classifier(kind=kind)) for kind in kinds}
    seconds_of = medians_in_turn({"pass": lambda: matrix @ ones, **passes}, 9)
    print(f"one pass over the matrix {seconds_of['pass'] * 1000:.1f} ms")
    for kind in kinds:
        print(f"{kind:<14} {seconds_of[kind] * 1000:6.0f} ms = {seconds_of[kind] / seconds_of['pass']:.1f} passes")
    chosen = Classifier(kind="logistic", tolerance=TOLERANCE)
    seconds_of = medians_in_turn(
        {"one": lambda: families.train(data, chosen), "path": lambda: list(families.path(data, chosen))}, 3
    )
    one, path = seconds_of["one"], seconds_of["path"]
    print(f"a path of {len(families.PENALTIES)} penalties {path:.1f} s = {path / one:.1f} single trainings, in turn")
    arguments = [sys.executable, __file__, str(documents), str(terms), str(k)]
    for kind in ("logistic", "svm"):
        done = subprocess.run([*arguments, kind], capture_output=True, text=True, check=True)
        before, after = map(int, done.stdout.split())
        extra = after - before
        whole = size + weights.nbytes
        print(f"{kind}: {extra / 1e6:,.0f} MB more than before training; weights {weights.nbytes / 1e6:.0f} MB")
        print(f"  (matrix + extra) / (matrix + weights) = {(size + extra) / whole:.1f}")


if __name__ == "__main__":
    main()
