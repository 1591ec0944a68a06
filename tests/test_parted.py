"""Matrices in parts: what is asked of them is what one piece gives, whoever keeps them; trainings end at the same optimum."""

import numpy as np
import pytest
from conftest import THOROUGH, crossed
from hypothesis import given, settings
from hypothesis import strategies as st
from remote_executor import RemoteExecutor
from scipy.sparse import csr_array

from upsort.core.classifiers import dual, families
from upsort.core.classifiers.family import TrainingData, scores_of
from upsort.core.classifiers.problem_arrays import Targets
from upsort.core.features.counting import Counts, TermCounting
from upsort.core.features.distributed_vocabulary import chosen, countable, in_terms, of_all, partitioned, vocabulary_of
from upsort.core.matrices import sparse
from upsort.core.matrices.partitioned import LOCAL, PartitionedMatrix, Sliced, as_partitioned, local_matrix, merge_boundaries
from upsort.core.plan import Classifier, Clean, Features
from upsort.core.text.cleaning import cleaner


def away(matrix: PartitionedMatrix) -> PartitionedMatrix:
    executor = RemoteExecutor()
    return PartitionedMatrix([executor.put(part) for part in matrix.parts], matrix.starts, matrix.shape[1], executor)


@given(st.lists(st.integers(0, 9), min_size=1, max_size=30), st.integers(1, 12))
def test_parts_are_joined_to_such_of_enough_rows(sizes: list[int], least: int) -> None:
    starts = np.cumsum([0, *sizes])
    cuts = starts[merge_boundaries(starts, least)]
    assert cuts[0] == 0 and cuts[-1] == starts[-1] and set(cuts.tolist()) <= set(starts.tolist())
    assert len(cuts) == 2 or (np.diff(cuts) >= least).all()
    # None could have been cut in two: but for the last, each is the shortest that has enough.
    shortest = [starts[starts >= begin + least].min() for begin in cuts[:-2]]
    assert cuts[1:-1].tolist() == [int(end) for end in shortest]


@given(st.integers(0, 500), st.lists(st.integers(0, 6), min_size=1, max_size=6), st.booleans())
def test_what_is_asked_of_parts_is_what_one_piece_gives(seed: int, sizes: list[int], sent: bool) -> None:
    draw = np.random.default_rng(seed)
    n = sum(sizes)
    dense = draw.integers(0, 3, (n, 7)).astype(float)
    whole = csr_array(dense)
    matrix = as_partitioned(whole).repartition(np.cumsum([0, *sizes], dtype=np.int64))
    matrix = away(matrix) if sent else matrix
    assert (local_matrix(matrix).toarray() == dense).all() and matrix.nnz == whole.nnz
    assert (sparse.column_sizes(matrix) == (dense != 0).sum(axis=0)).all()
    assert (sparse.column_sums(matrix) == dense.sum(axis=0)).all()
    groups, weights = draw.integers(0, 3, n), draw.integers(1, 4, n).astype(float)
    expected = np.stack([(dense * weights[:, None])[groups == group].sum(axis=0) for group in range(3)], axis=1)
    assert (sparse.group_sums(matrix, groups, 3, weights) == expected).all()
    kept = np.flatnonzero(draw.random(7) < 0.6)
    assert (local_matrix(sparse.only_columns(matrix, kept)).toarray() == dense[:, kept]).all()
    assert (local_matrix(sparse.columns_from(matrix, 4)).toarray() == dense[:, 4:]).all()
    rows = draw.random(n) < 0.5
    if rows.any():
        for some in (matrix[rows], matrix[np.flatnonzero(rows)]):
            assert (local_matrix(some).toarray() == dense[rows]).all() and some.shape == (rows.sum(), 7)
            assert (some.map_rows(_row_numbers, Sliced(np.arange(n)[rows])) == np.arange(n)[rows]).all()
        cuts = np.unique([0, n, *draw.integers(0, n + 1, 3).tolist()])
        again = matrix.repartition(cuts)
        assert (local_matrix(again).toarray() == dense).all()
        assert [part.shape[0] for part in again.executor.gather(again.parts)] == np.diff(cuts).tolist()
    if n > 1:
        with pytest.raises(ValueError, match="in their order"):
            matrix[np.array([1, 0])]


def _row_numbers(part: csr_array, numbers: np.ndarray) -> np.ndarray:
    assert part.shape[0] == numbers.size
    return numbers


KINDS = {
    "softmax": Classifier(kind="logistic"),
    "logistic": Classifier(kind="logistic", contrast="one-against-rest"),
    "lasso": Classifier(kind="logistic", sparsity=0.5),
    "hinge": Classifier(kind="svm"),
    "squares": Classifier(kind="ridge"),
    "scaled hinge": Classifier(kind="ratio-svm"),
    "naive Bayes": Classifier(kind="naive-bayes"),
    "presence": Classifier(kind="naive-bayes", event_model="presence"),
    "centroid": Classifier(kind="centroid"),
    "tree": Classifier(kind="tree"),
    "neighbours": Classifier(kind="neighbours"),
    "majority": Classifier(kind="majority"),
}


def made(seed: int, labels: int = 4, documents: int = 240, terms: int = 50) -> TrainingData:
    draw = np.random.default_rng(seed)
    values = draw.random((documents, terms)) * (draw.random((documents, terms)) < 0.2)
    truth = np.concatenate((np.arange(labels), draw.integers(0, labels, documents - labels)))
    values[np.arange(documents), truth] += 0.7
    return TrainingData(
        csr_array(values),
        Targets(truth, labels, draw.choice([0.5, 1.0, 3.0], documents)),
        tuple(f"label {n}" for n in range(labels)),
    )


@pytest.mark.parametrize(("kind", "passes"), crossed(KINDS, [False, True], every=3))
def test_a_training_on_parts_ends_where_one_on_the_whole_ends(kind: str, passes: bool, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(dual, "WORTH_COMPILING", 0 if passes else 10**9)
    data, chosen = made(7), Classifier(**{**vars(KINDS[kind]), "tolerance": 1e-7, "most_iterations": 300})
    whole = families.train(data, chosen, 0.3)
    parted = as_partitioned(local_matrix(data.matrix)).repartition(np.array([0, 50, 51, 160, 240]))
    found = [families.train(TrainingData(one, data.targets, data.names), chosen, 0.3) for one in (parted, away(parted))]
    here, there = (one.arrays() for one in found)
    assert all(here[name].tobytes() == there[name].tobytes() for name in here)
    assert found[0].ended.reached and bool(found[0].ended.passes) == bool(whole.ended.passes)
    scores, expected = found[0].scores(local_matrix(data.matrix)), whole.scores(local_matrix(data.matrix))
    if kind == "softmax":  # all scores of a document may rise together
        scores, expected = scores - scores.mean(axis=1, keepdims=True), expected - expected.mean(axis=1, keepdims=True)
    assert np.allclose(scores, expected, atol=2e-3)
    assert np.allclose(scores_of(found[0], away(parted)), found[0].scores(local_matrix(data.matrix)), atol=1e-12)


def test_a_path_over_penalties_on_parts(monkeypatch: pytest.MonkeyPatch) -> None:
    data = made(3, documents=120, terms=20)
    parted = as_partitioned(local_matrix(data.matrix)).repartition(np.array([0, 50, 120]))
    for worth, kinds in ((0, ("hinge",)), (10**9, ("softmax", "hinge") if THOROUGH else ("softmax",))):
        monkeypatch.setattr(dual, "WORTH_COMPILING", worth)
        for kind in kinds:
            ways = [families.path(TrainingData(one, data.targets, data.names), KINDS[kind]) for one in (parted, away(parted))]
            for here, there in zip(*ways, strict=True):
                assert here.ended.reached and here.rule is not None and there.rule is not None
                assert here.rule.weights.tobytes() == there.rule.weights.tobytes()


TEXTS = st.lists(st.text(alphabet="abc ", max_size=25), min_size=1, max_size=12)


@settings(max_examples=150 if THOROUGH else 15)
@given(
    st.lists(TEXTS, min_size=1, max_size=4),
    st.sampled_from(["words", "letters"]),
    st.sampled_from([(1, 1), (1, 2), (2, 2), (1, 3), (2, 3)]),
    st.integers(1, 3),
    st.sampled_from(["", "@subject"]),
)
def test_blocks_counted_by_themselves_come_to_what_the_whole_comes_to(
    blocks: list[list[str]], units: str, lengths: tuple[int, int], at_least: int, prefix: str
) -> None:
    features = Features(units=units, lengths=lengths)  # type: ignore[arg-type]

    def counted(some: list[list[str]], how: Features, least: int) -> Counts:
        steps = cleaner(Clean())
        memory = steps.memory()
        counting = TermCounting(how, prefix, steps.forms)
        for texts in some:
            counting.add(steps.words_of(texts, memory))
        return counting.counts(least)

    expected = counted(blocks, features, at_least)
    each = [counted([texts], countable(features, at_least), 1) for texts in blocks]
    stretches = [
        of_all(*part) for part in zip(*(partitioned(vocabulary_of(one.matrix, one.terms), 3) for one in each), strict=True)
    ]
    found = chosen(lambda work, *given: [work(one, *given) for one in stretches], features, at_least, (prefix,))
    assert found.terms == expected.terms
    assert (found.distinct, found.seen_once) == (expected.distinct, expected.seen_once)
    parts = [in_terms(one.matrix, one.terms, found.terms) for one in each]
    assert (np.vstack([part.toarray() for part in parts]) == expected.matrix.toarray()).all()
    assert all(part.data.dtype == expected.matrix.data.dtype for part in parts)
    assert LOCAL.gather([1]) == [1]
