"""Counting, bounds and weights against straightforward counting and hand calculations."""

from collections import Counter
from math import log, sqrt

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from upsort.core.errors import DataProblem
from upsort.core.features import counting
from upsort.core.features.vocabulary import learn_space
from upsort.core.features.weighting import inverse_document_frequency, tfidf
from upsort.core.plan import Clean, Features
from upsort.core.text.cleaning import cleaner

TEXTS = st.lists(st.text("ab cD", max_size=12), min_size=1, max_size=12)


@given(TEXTS, st.integers(1, 30))
def test_counts_are_those_of_a_plain_count_whatever_the_blocks(texts: list[str], block: int) -> None:
    plain = [Counter(text.lower().split()) for text in texts]
    usual = counting.BLOCK_CHARACTERS
    counting.in_blocks.__defaults__ = (block,)
    try:
        counts = counting.count(texts, cleaner(Clean(steps=("lower",))))
    finally:
        counting.in_blocks.__defaults__ = (usual,)
    assert counts.terms == sorted(set().union(*plain))
    expected = [[row[term] for term in counts.terms] for row in plain]
    assert counts.matrix.toarray().tolist() == expected
    known = counting.count_known(texts, cleaner(Clean()), {"a": 0, "b": 1})
    assert known.matrix.toarray().tolist() == [[row["a"], row["b"]] for row in plain]
    assert known.tokens.tolist() == [row.total() for row in plain]


@given(TEXTS, st.integers(1, 4), st.floats(0.1, 1.0), st.integers(0, 3))
def test_bounds_keep_exactly_the_terms_they_should(texts: list[str], least: int, share: float, most: int) -> None:
    plain = [Counter(text.lower().split()) for text in texts]
    frequency = Counter(term for row in plain for term in row)
    total = sum(plain, Counter())
    kept = [term for term in sorted(frequency) if least <= frequency[term] <= share * len(texts) + 1e-9]
    if most:
        kept = sorted(sorted(kept, key=lambda term: -total[term])[:most])
    counts = counting.count(texts, cleaner(Clean(steps=("lower",))))
    settings = Features(weighting="count", in_at_least=least, in_at_most=share, most_terms=most)
    if not kept:
        with pytest.raises(DataProblem, match="No term is left"):
            learn_space(counts.matrix, counts.terms, settings)
        return
    space, columns = learn_space(counts.matrix, counts.terms, settings)
    assert space.terms == kept == [counts.terms[column] for column in columns]
    assert space.document_frequency.tolist() == [frequency[term] for term in kept]


def test_tfidf_by_hand() -> None:
    # Three documents; "fern" is in 2 of 3, "moss" in 1 of 3. Document 1: fern twice, moss once.
    counts = counting.count(["fern fern moss", "fern", "reed"], cleaner(Clean()))
    idf = inverse_document_frequency(np.array([2, 1, 1]), 3)
    row = tfidf(counts.matrix, idf).toarray()[0]
    fern, moss = (1 + log(2)) * log(3 / 2), 1 * log(3 / 1)
    length = sqrt(fern**2 + moss**2)
    assert row == pytest.approx([fern / length, moss / length, 0])


def test_a_term_in_every_document_weighs_nothing_and_breaks_nothing() -> None:
    counts = counting.count(["fern", "fern"], cleaner(Clean()))
    assert tfidf(counts.matrix, inverse_document_frequency(np.array([2]), 2)).toarray().tolist() == [[0], [0]]
