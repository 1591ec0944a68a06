"""How strongly terms go with labels, told from counts alone.

- log odds with an informative prior (Monroe, Colaresi & Quinn 2008, equations 15, 16 and 22): with y the count of the term in the
  label, n all counts there, and α the count in the whole corpus scaled to a prior of α₀ counts in all,
  δ = ln((y + α) / (n + α₀ − y − α)) − the same of all other labels; z = δ / √(1 / (y + α) + 1 / (y' + α))
- likelihood ratio: P(term in a document | label) / the mean of P(term in a document | other label), from documents + ½ over
  documents + 1
- chi-square and mutual information: see `association`
"""

from math import exp, sqrt

import numpy as np

from upsort.core.arrays import Floats, Ints
from upsort.core.features import association
from upsort.core.judging.intervals import Z_95
from upsort.core.records import record

PRIOR = 500.0


@record(frozen=True, kw_only=True)
class TermCounts:
    """by_label: (n_terms, k) counts of each term in each label. documents: (n_terms, k) documents of each label with it.

    label_documents: (k,). everywhere: the same of all documents, where they may have several labels.
    """

    terms: list[str]
    by_label: Floats
    documents: Ints
    label_documents: Ints
    everywhere: "CorpusTermCounts | None" = None

    @property
    def whole(self) -> "CorpusTermCounts":
        """What stands in all documents."""
        if self.everywhere is not None:
            return self.everywhere
        return CorpusTermCounts(self.by_label.sum(axis=1), self.documents.sum(axis=1), int(self.label_documents.sum()))


@record(frozen=True)
class CorpusTermCounts:
    """counts, holding: (n_terms,) how often each term stands in all documents, and in how many. documents: how many there are."""

    counts: Floats
    holding: Ints
    documents: int


def log_odds(counts: TermCounts, prior: float = PRIOR) -> tuple[Floats, Floats]:
    """(n_terms, k) δ and z of each term for each label against all others; 0 for a term that is all there is."""
    y = counts.by_label
    if len(counts.terms) == 1:  # its odds are endless everywhere
        return np.zeros_like(y), np.zeros_like(y)
    whole = counts.whole.counts[:, None]
    alpha = prior * whole / max(float(whole.sum()), 1.0)
    rest = whole - y
    n, n_rest = y.sum(axis=0), rest.sum(axis=0)
    own_odds = np.log(y + alpha) - np.log(n + prior - y - alpha)
    other_odds = np.log(rest + alpha) - np.log(n_rest + prior - rest - alpha)
    delta: Floats = own_odds - other_odds
    z: Floats = delta / np.sqrt(1.0 / (y + alpha) + 1.0 / (rest + alpha))
    return delta, z


def associations(counts: TermCounts, way: str) -> Floats:
    """(n_terms, k) chi-square or mutual information, negative where the term speaks against the label."""
    with_term = counts.documents.astype(np.float64)
    sizes = counts.label_documents.astype(np.float64)
    others_with = counts.whole.holding[:, None] - with_term
    without, others_without = sizes - with_term, counts.whole.documents - sizes - others_with
    measure = association.chi_square if way == "chi-square" else association.mutual_information
    values: Floats = measure(with_term, others_with, without, others_without)
    more = with_term * (counts.whole.documents - sizes) > others_with * sizes
    signed: Floats = np.where(more, values, -values)
    return signed


@record(frozen=True, kw_only=True)
class FrequencyRatio:
    """In how many documents of two labels a term stands. ratio: of the two shares, with its 95 % interval; None where it stands
    in none of the other's."""

    documents: int
    of: int
    other_documents: int
    other_of: int
    ratio: tuple[float, float, float] | None


def frequency_ratio(counts: TermCounts, term: int, label: int, other: int) -> FrequencyRatio:
    """A term in two labels. The interval is that of the logarithm (Katz, Baptista, Azen & Pike 1978)."""
    a, b = int(counts.documents[term, label]), int(counts.documents[term, other])
    n, m = int(counts.label_documents[label]), int(counts.label_documents[other])
    ratio = None
    if a and b:
        value = (a / n) / (b / m)
        factor = exp(Z_95 * sqrt(max(1 / a - 1 / n + 1 / b - 1 / m, 0.0)))
        ratio = (value, value / factor, value * factor)
    return FrequencyRatio(documents=a, of=n, other_documents=b, other_of=m, ratio=ratio)


def rarest_in(counts: TermCounts, term: int, label: int) -> int:
    """The other label in whose documents a term is rarest."""
    shares = counts.documents[term] / np.maximum(counts.label_documents, 1)
    return int(np.argmin(np.where(np.arange(shares.size) == label, np.inf, shares)))
