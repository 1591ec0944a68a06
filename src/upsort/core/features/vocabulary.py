"""Which terms are kept, and the feature space they span. Both are learned from training documents alone."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.sparse import csr_array

from upsort.core import plan
from upsort.core.arrays import Floats, Ints, Places
from upsort.core.errors import DataProblem
from upsort.core.features import weighting


@dataclass(frozen=True)
class FeatureSpace:
    """The terms that a sorter knows, with what is needed to weigh them in any document.

    terms: sorted; the columns of every matrix in this space.
    document_frequency: (n_terms,) int64, in how many of the training documents each stands.
    documents: number of training documents.
    """

    terms: list[str]
    document_frequency: Ints
    documents: int
    weighting: plan.Weighting

    @cached_property
    def columns(self) -> dict[str, int]:
        """The column of each term."""
        return {term: column for column, term in enumerate(self.terms)}

    @cached_property
    def idf(self) -> Floats:
        """(n_terms,) inverse document frequencies, natural logarithm."""
        return weighting.inverse_document_frequency(self.document_frequency, self.documents)

    def weigh(self, counts: csr_array) -> csr_array:
        """Counts of this space's terms, (n, n_terms), to weights of the same shape, float64."""
        match self.weighting:
            case "count":
                return counts.astype(np.float64)
            case "presence":
                return weighting.presence(counts)
            case _:
                return weighting.tfidf(counts, self.idf)


def document_frequencies(counts: csr_array) -> Ints:
    """(n_terms,) in how many rows each column stands."""
    return np.bincount(counts.indices, minlength=counts.shape[1]).astype(np.int64)


def total_counts(counts: csr_array) -> Ints:
    """(n_terms,) how often each column stands in all rows together."""
    totals = np.bincount(counts.indices, weights=counts.data, minlength=counts.shape[1])
    return np.rint(totals).astype(np.int64)


def learn_space(counts: csr_array, terms: list[str], settings: plan.Features) -> tuple[FeatureSpace, Places]:
    """Choose the terms within the bounds of `settings`.

    counts: (n, n_all_terms) raw counts of the training documents; terms: the names of its columns.
    Returns the space and (n_kept,) the kept columns of `counts`, in order.
    Raises DataProblem when the bounds leave no term.
    """
    documents = counts.shape[0]
    frequency = document_frequencies(counts)
    seen = frequency > 0
    rare = frequency < settings.in_at_least
    common = frequency > _most_documents(settings, documents)
    kept = np.flatnonzero(seen & ~rare & ~common)
    if kept.size == 0:
        raise DataProblem(
            f"No term is left of the {int(seen.sum())} in {documents} documents: {int((seen & rare).sum())} are in fewer "
            f"than {settings.in_at_least} documents, {int((seen & common).sum())} in more than "
            f"{settings.in_at_most:.0%} of them.",
            "Lower features.in_at_least, raise features.in_at_most, or give more documents.",
        )
    if settings.most_terms and kept.size > settings.most_terms:
        order = np.argsort(-total_counts(counts)[kept], kind="stable")  # ties: the term that sorts first
        kept = np.sort(kept[order[: settings.most_terms]])
    chosen = [terms[column] for column in kept.tolist()]
    return FeatureSpace(chosen, frequency[kept], documents, settings.weighting), kept


def _most_documents(settings: plan.Features, documents: int) -> float:
    """The bound in whole documents; the small addition keeps 0.6 · 5 at 3 whatever the rounding of 0.6."""
    return float(np.floor(settings.in_at_most * documents + 1e-9))


def too_common(counts: csr_array, terms: list[str], settings: plan.Features) -> list[str]:
    """The terms that more than the bound's share of the documents hold, those in most documents first."""
    frequency = document_frequencies(counts)
    common = np.flatnonzero(frequency > _most_documents(settings, counts.shape[0]))
    return [terms[column] for column in common[np.argsort(-frequency[common], kind="stable")].tolist()]
