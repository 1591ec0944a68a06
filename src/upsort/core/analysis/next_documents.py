"""Which unlabelled documents to label next: other contents first, then more and more those that the sorter is unsure about.

Of the documents asked for, one in ten is drawn at random. Of the others a share n / (n + 5 k) are unsure ones, with n training
documents and k labels: where little is labelled, a sorter does not know what it does not know. Unsure are those whose two most
probable labels are nearest (the margin; Scheffer, Decomain & Wrobel 2001), taken from ten times as many, one of each content; the
rest are in the middle of a content of their own. Contents are clusters by the cosine of all words, those that the sorter does not
know too: spherical k-means (Dhillon & Modha 2001), begun with documents that are unlike each other (Arthur & Vassilvitskii 2007).
`bench/next.py` compares it with drawing at random."""

from typing import Literal

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Floats, Ints
from upsort.core.features.weighting import unit_length
from upsort.core.lazy import record
from upsort.core.matrices.sparse import column_sizes

Why = Literal["other content", "unsure", "at random"]

_AT_RANDOM = 0.1
_TRUSTED_FROM = 5  # training documents of each label, from which on as many are picked for being unsure as for their content
_POOL = 10  # times as many unsure ones are looked at as are picked
_MOST_CLUSTERED = 20_000
_MOST_ITERATIONS = 8


@record(frozen=True)
class Pick:
    """place: of the document. why: it was picked."""

    place: int
    why: Why


def entropies(probabilities: Floats) -> Floats:
    """(n,) in bits."""
    logs = np.log2(np.maximum(probabilities, 1e-300))
    entropy: Floats = -(probabilities * logs).sum(axis=1)
    return entropy


def margins(probabilities: Floats) -> Floats:
    """(n,) by how much the most probable label is more probable than the next."""
    ranked = np.sort(probabilities, axis=1)
    margin: Floats = ranked[:, -1] - ranked[:, -2] if ranked.shape[1] > 1 else ranked[:, -1]
    return margin


def contents(counts: csr_array) -> csr_array:
    """(n, n_terms) rows of unit length in which contents differ: √count · ln(n / documents with the term), terms of one document
    or of more than half of them left out. counts: of all terms."""
    n = counts.shape[0]
    documents = column_sizes(counts)
    informative = (documents >= min(2, n)) & (documents <= max(n / 2, 1))
    weight = np.where(informative, np.log(n / np.maximum(documents, 1)), 0.0)
    values = np.sqrt(np.abs(counts.data)) * np.sign(counts.data) * weight[counts.indices]
    normalised = csr_array((values, counts.indices, counts.indptr), shape=counts.shape)
    normalised.eliminate_zeros()
    return unit_length(normalised)


def choose(rows: csr_array, probabilities: Floats, trained_on: int, most: int, seed: int) -> list[Pick]:
    """The documents to label, each with the reason: the unsure ones first, least sure first. rows: (n, n_terms) as `contents`
    gives them. probabilities: (n, k), of one label each. trained_on: documents that the sorter was trained on."""
    n, k = probabilities.shape
    draws = np.random.default_rng(seed)
    most = min(most, n)
    at_random = draws.permutation(n)[: round(_AT_RANDOM * most)]
    left = np.setdiff1d(np.arange(n), at_random)
    sure = margins(probabilities)
    share = trained_on / (trained_on + _TRUSTED_FROM * k)
    unsure = _unsure(rows, sure, left, round(share * (most - at_random.size)), draws)
    left = np.setdiff1d(left, unsure)
    diverse = _central(rows, left, most - at_random.size - unsure.size, draws)
    picked: list[Pick] = []
    reasons: list[tuple[Ints, Why]] = [(unsure, "unsure"), (diverse, "other content"), (at_random, "at random")]
    for places, why in reasons:
        order = places[np.argsort(sure[places], kind="stable")]
        picked += [Pick(place, why) for place in order.tolist()]
    return picked


def _unsure(rows: csr_array, sure: Floats, left: Ints, many: int, draws: np.random.Generator) -> Ints:
    """The least sure of each content among ten times as many."""
    pool = left[np.argsort(sure[left], kind="stable")][: _POOL * many]
    cluster, _ = clusters(csr_array(rows[pool]), many, draws)
    return _per_cluster(pool, cluster, sure[pool], many)


def _central(rows: csr_array, left: Ints, many: int, draws: np.random.Generator) -> Ints:
    """The document in the middle of each content."""
    pool = left if left.size <= _MOST_CLUSTERED else np.sort(draws.choice(left, _MOST_CLUSTERED, replace=False))
    cluster, near = clusters(csr_array(rows[pool]), many, draws)
    return _per_cluster(pool, cluster, -near, many)


def _per_cluster(pool: Ints, cluster: Ints, merit: Floats, many: int) -> Ints:
    """The place with the least merit of each cluster; where clusters are fewer, more of those with the least."""
    order = np.argsort(merit, kind="stable")
    _, first = np.unique(cluster[order], return_index=True)
    chosen = np.sort(first)[:many]
    rest = np.setdiff1d(np.arange(order.size), chosen)[: many - chosen.size]
    return np.asarray(pool[order[np.concatenate((chosen, rest))]], dtype=np.int64)


def clusters(rows: csr_array, many: int, draws: np.random.Generator) -> tuple[Ints, Floats]:
    """(n,) the cluster of each row and (n,) its cosine to the middle of that. rows: of unit length, or empty."""
    n = rows.shape[0]
    if n <= many or many < 1:
        return np.arange(n, dtype=np.int64), np.ones(n)
    middles = rows[_most_distant(rows, many, draws)].toarray()
    for _ in range(_MOST_ITERATIONS):
        cluster = np.asarray(rows @ middles.T).argmax(axis=1)
        members = csr_array((np.ones(n), (cluster, np.arange(n))), shape=(many, n))
        middles = np.asarray((members @ rows).toarray())
        lengths = np.linalg.norm(middles, axis=1, keepdims=True)
        middles = middles / np.where(lengths > 0, lengths, 1.0)
    near = np.asarray(rows @ middles.T)
    cluster = near.argmax(axis=1)
    return cluster.astype(np.int64), near[np.arange(n), cluster]


def _most_distant(rows: csr_array, many: int, draws: np.random.Generator) -> list[int]:
    """Rows that are unlike each other: each drawn by how unlike it is to those before."""
    chosen = [int(draws.integers(rows.shape[0]))]
    closest = np.zeros(rows.shape[0])
    for _ in range(many - 1):
        similar = np.asarray((rows @ csr_array(rows[[chosen[-1]]]).T).toarray()).reshape(-1)
        closest = np.maximum(closest, similar)
        unlike = np.clip(1.0 - closest, 1e-12, None)
        unlike[chosen] = 0.0
        chosen.append(int(draws.choice(unlike.size, p=unlike / unlike.sum())))
    return chosen
