"""Sparse sums and matrices against dense ones."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays
from scipy.sparse import csr_array

from upsort.core.features import ngrams, weighting
from upsort.core.features.counting import count
from upsort.core.matrices import sparse
from upsort.core.plan import Clean, Features
from upsort.core.text.cleaning import cleaner

SMALL = arrays(np.int32, st.tuples(st.integers(1, 6), st.integers(1, 5)), elements=st.integers(0, 3))


@given(SMALL, SMALL, st.randoms(use_true_random=False))
def test_triplets_become_the_matrix_in_the_order_asked_for(left: np.ndarray, right: np.ndarray, random: object) -> None:
    rows = min(len(left), len(right))
    parts = [sparse.triplets_of(csr_array(part[:rows])) for part in (left, right)]
    whole = np.hstack((left[:rows], right[:rows]))
    order = np.argsort([random.random() for _ in range(whole.shape[1])])  # type: ignore[attr-defined]
    rank = np.empty(order.size, dtype=np.int64)
    rank[order] = np.arange(order.size)
    made = sparse.from_triplets(parts, rank, rows)
    assert made.toarray().tolist() == whole[:, order].tolist()
    assert made.has_sorted_indices


@given(SMALL, st.data())
def test_sums_of_columns_and_of_groups_are_the_dense_ones(dense: np.ndarray, data: st.DataObject) -> None:
    matrix = csr_array(dense)
    groups = np.array(data.draw(st.lists(st.integers(0, 2), min_size=len(dense), max_size=len(dense))))
    weights = np.array(data.draw(st.lists(st.sampled_from([0.5, 1.0, 2.0]), min_size=len(dense), max_size=len(dense))))
    own = groups[:, None] == np.arange(3)
    assert sparse.group_sums(matrix, groups, 3, weights).tolist() == (dense.T @ (own * weights[:, None])).tolist()
    usual, sparse._AT_ONCE = sparse._AT_ONCE, 2
    try:
        assert sparse.column_sums(matrix).tolist() == dense.sum(axis=0).tolist()
        assert sparse.column_sizes(matrix).tolist() == (dense > 0).sum(axis=0).tolist()
    finally:
        sparse._AT_ONCE = usual


@pytest.mark.parametrize("name", ["tfidf", "share", "presence", "anc", "lts"])
def test_weights_do_not_depend_on_how_rows_are_divided(name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    dense = np.random.default_rng(3).integers(0, 4, (40, 7))
    dense[[0, 11, 12, 39]] = 0
    counts = csr_array(dense.astype(np.int32))
    idf = np.linspace(0.2, 1.4, 7)
    whole = weighting.weigh(counts, idf, weighting.scheme(name))
    monkeypatch.setattr(sparse, "_CELLS_AT_ONCE", 5)
    divided = weighting.weigh(counts, idf, weighting.scheme(name))
    assert divided.toarray().tolist() == whole.toarray().tolist()
    nothing = weighting.weigh(csr_array((3, 7), dtype=np.int32), idf, weighting.scheme(name))
    assert nothing.nnz == 0


@given(SMALL, st.data())
def test_chosen_columns_are_the_dense_ones(dense: np.ndarray, data: st.DataObject) -> None:
    kept = np.flatnonzero(data.draw(st.lists(st.booleans(), min_size=dense.shape[1], max_size=dense.shape[1])))
    usual, sparse._CELLS_AT_ONCE = sparse._CELLS_AT_ONCE, data.draw(st.sampled_from([1, 3, 100]))
    try:
        chosen = sparse.only_columns(csr_array(dense), kept)
    finally:
        sparse._CELLS_AT_ONCE = usual
    assert chosen.toarray().tolist() == dense[:, kept].tolist()


@pytest.mark.parametrize("at_least", [1, 2])
def test_n_grams_are_the_same_by_compiled_passes(at_least: int, monkeypatch: pytest.MonkeyPatch) -> None:
    texts = ["fern moss fern moss", "moss fern moss", "", "reed fern moss reed fern", "dune"] * 3
    settings = Features(lengths=(1, 3), skip=True)
    cleaning = cleaner(Clean(steps=("lower",)))
    whole = count(texts, cleaning, settings, at_least)
    monkeypatch.setattr(ngrams, "_LARGE", 0)
    monkeypatch.setattr(ngrams, "_SLOTS", 4)
    compiled = count(texts, cleaning, settings, at_least)
    assert (compiled.terms, compiled.distinct, compiled.seen_once) == (whole.terms, whole.distinct, whole.seen_once)
    assert compiled.matrix.toarray().tolist() == whole.matrix.toarray().tolist()


def test_numbers_are_held_no_wider_than_needed() -> None:
    assert sparse.narrow(np.array([0, 255])).dtype == np.uint8
    assert sparse.narrow(np.array([0, 256])).dtype == np.uint16
    assert sparse.narrow(np.zeros(0, dtype=np.int64)).size == 0
