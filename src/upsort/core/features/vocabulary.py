"""Which terms are kept, and the feature space they span. Both are learned from training documents alone."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.sparse import csr_array

from upsort.core import plan
from upsort.core.arrays import Floats, Ints, Places
from upsort.core.errors import DataProblem
from upsort.core.features import weighting
from upsort.core.insight import association


@dataclass(frozen=True)
class FeatureSpace:
    """The terms that a sorter knows, with what is needed to weigh them in any document.

    terms: sorted; the columns of every matrix in this space.
    document_frequency: (n_terms,) int64, in how many of the training documents each stands.
    label_document_frequency: (n_terms, k) int64, the same for each label; k is 0 without labels.
    documents: number of training documents. mean_length: mean sum of counts of their kept terms.
    """

    terms: list[str]
    document_frequency: Ints
    label_document_frequency: Ints
    documents: int
    mean_length: float
    settings: plan.Features

    @cached_property
    def columns(self) -> dict[str, int]:
        """The column of each term."""
        return {term: column for column, term in enumerate(self.terms)}

    @cached_property
    def idf(self) -> Floats:
        """(n_terms,) inverse document frequencies of the scheme."""
        kind = "bm25" if self.settings.weighting == "bm25" else self._scheme.idf
        return weighting.inverse_document_frequency(self.document_frequency, self.documents, kind)

    @cached_property
    def _scheme(self) -> weighting.Scheme:
        name = self.settings.weighting
        return weighting.scheme("presence" if name in {"bm25", "log-count-ratio"} else name)

    @cached_property
    def _log_count_ratios(self) -> Floats:
        return weighting.log_count_ratios(self.label_document_frequency)

    def weigh(self, counts: csr_array) -> csr_array:
        """Counts of this space's terms, (n, n_terms), to weights of the same shape, float64."""
        match self.settings.weighting:
            case "bm25":
                return weighting.bm25(counts, self.idf, self.mean_length, self.settings.bm25_k, self.settings.bm25_b)
            case "log-count-ratio":
                present = weighting.weigh(counts, self.idf, self._scheme)
                data = present.data * self._log_count_ratios[present.indices]
                return csr_array((data, present.indices, present.indptr), shape=present.shape)
            case _:
                return weighting.weigh(counts, self.idf, self._scheme)


def document_frequencies(counts: csr_array) -> Ints:
    """(n_terms,) in how many rows each column stands."""
    return np.bincount(counts.indices, minlength=counts.shape[1]).astype(np.int64)


def total_counts(counts: csr_array) -> Ints:
    """(n_terms,) how often each column stands in all rows together."""
    totals = np.bincount(counts.indices, weights=counts.data, minlength=counts.shape[1])
    return np.rint(totals).astype(np.int64)


def learn_space(
    counts: csr_array,
    terms: list[str],
    settings: plan.Features,
    labels: Ints | None = None,
    n_labels: int = 0,
    vocabulary: frozenset[str] = frozenset(),
) -> tuple[FeatureSpace, Places]:
    """Choose the terms within the bounds of `settings`.

    counts: (n, n_all_terms) raw counts of the training documents; terms: the names of its columns. labels: (n,) numbers below
    n_labels; needed to choose by association. vocabulary: the terms to keep, whatever the bounds, where there are any.
    Returns the space and (n_kept,) the kept columns of `counts`, in order.
    Raises DataProblem when the bounds leave no term.
    """
    documents = counts.shape[0]
    frequency = document_frequencies(counts)
    seen = frequency > 0
    rare = frequency < settings.in_at_least
    common = frequency > _most_documents(settings, documents)
    kept = np.flatnonzero(seen & ~rare & ~common)
    if vocabulary:
        kept = np.flatnonzero(seen & np.array([term in vocabulary for term in terms], dtype=bool))
        if kept.size == 0:
            raise DataProblem(
                f"None of the {len(vocabulary):,} terms of the vocabulary file stands in the {documents:,} documents.",
                "Write its terms as they are after cleaning; upsort features lists those.",
            )
    if kept.size == 0:
        raise DataProblem(
            f"No term is left of the {int(seen.sum())} in {documents} documents: {int((seen & rare).sum())} are in fewer "
            f"than {settings.in_at_least} documents, {int((seen & common).sum())} in more than "
            f"{settings.in_at_most:.0%} of them.",
            "Lower features.in_at_least, raise features.in_at_most, or give more documents.",
        )
    if settings.most_terms and kept.size > settings.most_terms and not vocabulary:
        merit = _merit(counts, kept, settings, labels, n_labels)
        order = np.argsort(-merit, kind="stable")  # ties: the term that sorts first
        kept = np.sort(kept[order[: settings.most_terms]])
    by_label = label_document_frequencies(counts, labels, n_labels)[kept]
    mean_length = float(total_counts(counts)[kept].sum()) / max(documents, 1)
    names = [terms[column] for column in kept.tolist()]
    return FeatureSpace(names, frequency[kept], by_label, documents, mean_length, settings), kept


def label_document_frequencies(counts: csr_array, labels: Ints | None, n_labels: int) -> Ints:
    """(n_terms, n_labels) in how many documents of each label each term stands."""
    if labels is None or n_labels == 0:
        return np.zeros((counts.shape[1], 0), dtype=np.int64)
    row_labels = np.repeat(labels, np.diff(counts.indptr))
    cells = np.bincount(counts.indices.astype(np.int64) * n_labels + row_labels, minlength=counts.shape[1] * n_labels)
    return cells.reshape(counts.shape[1], n_labels).astype(np.int64)


def _merit(counts: csr_array, kept: Places, settings: plan.Features, labels: Ints | None, n_labels: int) -> Floats:
    """(n_kept,) what terms are ranked by when there are too many: total count, or the strongest association with a label."""
    if settings.choose_by == "count" or labels is None or n_labels == 0:
        return total_counts(counts)[kept].astype(np.float64)
    with_term = label_document_frequencies(counts, labels, n_labels)[kept].astype(np.float64)
    label_sizes = np.bincount(labels, minlength=n_labels).astype(np.float64)
    others_with = with_term.sum(axis=1, keepdims=True) - with_term
    without = label_sizes - with_term
    others_without = label_sizes.sum() - label_sizes - others_with
    measure = association.chi_square if settings.choose_by == "chi-square" else association.mutual_information
    strongest: Floats = measure(with_term, others_with, without, others_without).max(axis=1)
    return strongest


def only_columns(counts: csr_array, kept: Places) -> csr_array:
    """The columns `kept`, (n_kept,) in ascending order, of (n, v) counts with sorted indices."""
    if kept.size == counts.shape[1]:
        return counts
    place = np.full(counts.shape[1], -1, dtype=counts.indices.dtype)
    place[kept] = np.arange(kept.size, dtype=counts.indices.dtype)
    indices = place[counts.indices]
    inside = indices >= 0
    before = np.concatenate((np.zeros(1, dtype=counts.indptr.dtype), np.cumsum(inside, dtype=counts.indptr.dtype)))
    chosen = csr_array(
        (counts.data[inside], indices[inside], before[counts.indptr]), shape=(counts.shape[0], kept.size)
    )
    chosen.has_sorted_indices = True
    chosen.has_canonical_format = True
    return chosen


def _most_documents(settings: plan.Features, documents: int) -> float:
    """The bound in whole documents; the small addition keeps 0.6 · 5 at 3 whatever the rounding of 0.6."""
    return float(np.floor(settings.in_at_most * documents + 1e-9))


def too_common(counts: csr_array, terms: list[str], settings: plan.Features) -> list[str]:
    """The terms that more than the bound's share of the documents hold, those in most documents first."""
    frequency = document_frequencies(counts)
    common = np.flatnonzero(frequency > _most_documents(settings, counts.shape[0]))
    return [terms[column] for column in common[np.argsort(-frequency[common], kind="stable")].tolist()]
