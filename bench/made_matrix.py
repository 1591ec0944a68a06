"""Makes a labelled document-term matrix for the benchmarks: Zipfian terms, skewed labels, unit rows of tf-idf weights."""

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Ints
from upsort.core.features import weighting
from upsort.core.matrices.sparse import from_cells


def made_matrix(documents: int, terms: int, labels: int, seed: int = 7, length: int = 60) -> tuple[csr_array, np.ndarray]:
    """(documents, terms) tf-idf rows and (documents,) label numbers.

    A document's words are drawn from a Zipfian distribution that all labels share, two in five of them from a part of it that its
    label prefers; one label in twenty is wrong."""
    generator = np.random.default_rng(seed)
    shares = 1 / (np.arange(labels) + 2.0)
    label = generator.choice(labels, documents, p=shares / shares.sum())
    label[:labels] = np.arange(labels)
    ranks = np.arange(terms) + 2.7
    common = np.cumsum(1 / ranks) / (1 / ranks).sum()
    preferred = generator.permutation(terms).reshape(-1)
    sizes = np.maximum(5, generator.poisson(length, documents))
    owner = np.repeat(np.arange(documents), sizes)
    drawn = np.searchsorted(common, generator.random(owner.size))
    own = generator.random(owner.size) < 0.4
    group = terms // labels
    within = np.minimum((generator.pareto(1.0, int(own.sum())) * 3).astype(np.int64), group - 1)
    drawn[own] = preferred[label[owner[own]] * group + within]
    counts = from_cells(np.ones(owner.size, dtype=np.int32), owner, np.minimum(drawn, terms - 1), (documents, terms))
    df = np.bincount(counts.indices, minlength=terms)
    matrix = weighting.weigh(counts, weighting.inverse_document_frequency(df, documents), weighting.scheme("tfidf"))
    wrong = generator.random(documents) < 0.05
    label[wrong] = generator.integers(0, labels, int(wrong.sum()))
    return matrix, label.astype(np.int64)


def made_counts(smallest: bool) -> tuple[csr_array, Ints]:
    """Whole counts and labels of a made corpus of 20,000 documents and 20 labels, for simulations."""
    matrix, labels = made_matrix(1_000 if smallest else 20_000, 500 if smallest else 8_000, 5 if smallest else 20, 7, 25)
    return csr_array((np.ceil(matrix.data), matrix.indices, matrix.indptr), shape=matrix.shape), labels


def counts_of(path: str) -> tuple[csr_array, Ints]:
    """The counts and labels of a file."""
    with np.load(path) as held:
        parts = (held["counts"].astype(np.float64), held["terms"], held["starts"])
        return csr_array(parts, shape=tuple(held["shape"].tolist())), held["labels"].astype(np.int64)
