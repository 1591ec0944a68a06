"""Which terms are in most documents, and which speak most for each label."""

from collections.abc import Sequence
from math import exp, sqrt

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import AnyArray, Floats, Ints, Places
from upsort.core.distributions import normal_quantile
from upsort.core.errors import DataProblem
from upsort.core.evaluation.intervals import Z_95
from upsort.core.features import weighting
from upsort.core.lazy import record
from upsort.core.text.tokeniser import Tokens
from upsort.core.training.sorter import TrainedSorter

_RISK = 0.001


@record(frozen=True, kw_only=True)
class CommonTerm:
    """A term, the documents it is in, and the label it leans to most: the one with the largest share of documents that hold it,
    with that share and the share among all documents. The label is empty where documents have none. leans: whether that share is
    higher than elsewhere beyond chance (two proportions, pooled; p < 0.001, Bonferroni over all terms)."""

    term: str
    documents: int
    label: str
    share_in_label: float
    share: float
    leans: bool = False


@record(frozen=True, kw_only=True)
class BlockTerms:
    """How many documents of a block hold each of w terms. labels: the k that its documents have. documents: (k + 1,) all of them,
    and those of each label. holding: (w, k + 1) of these those that hold each term."""

    words: Sequence[str]
    labels: list[str]
    documents: Ints
    holding: AnyArray


def terms_of_block(tokens: Tokens, sets: Sequence[Sequence[str]], own: Ints, once: Places) -> BlockTerms:
    """Count the documents of a block. sets: of labels; own: (n,) the place there of each document's. once: `first_in_document`
    of the tokens."""
    known: dict[str, int] = {}
    met = own[np.sort(np.unique(own, return_index=True)[1])].tolist()  # in the order of the documents
    columns = {place: [0, *(known.setdefault(label, len(known) + 1) for label in dict.fromkeys(sets[place]))] for place in met}
    column = np.array([number for place in range(len(sets)) for number in columns.get(place, ())], dtype=np.int64)
    width, k = len(tokens.words), len(known) + 1
    # Each token of a document counts in each of the document's columns.
    owner = own[np.repeat(np.arange(own.size), np.diff(tokens.starts))[once]]
    widths = np.array([len(columns.get(place, ())) for place in range(len(sets))], dtype=np.int64)
    start = np.cumsum(widths) - widths
    times = widths[owner]
    within = np.arange(int(times.sum())) - np.repeat(np.cumsum(times) - times, times)
    code = np.repeat(tokens.codes[once].astype(np.int64), times)
    cells = np.bincount(code * k + column[np.repeat(start[owner], times) + within], minlength=width * k)
    documents = np.repeat(np.bincount(own, minlength=len(sets)), widths)
    return BlockTerms(
        words=tokens.words,
        labels=list(known),
        documents=np.bincount(column, weights=documents, minlength=k).astype(np.int64),
        holding=cells.reshape(width, k).astype(np.int32),
    )


class TermTally:
    """Document frequencies of every term by label, as blocks come in."""

    def __init__(self) -> None:
        self._numbers: dict[str, int] = {}
        self._labels: dict[str, int] = {}
        self._documents: list[int] = []
        self._table = np.zeros((1024, 4), dtype=np.int32)  # the first column counts all documents, the others those of a label

    def add(self, block: BlockTerms) -> None:
        """The documents of one more block."""
        numbers = np.array([self._numbers.setdefault(word, len(self._numbers)) for word in block.words], dtype=np.int64)
        columns = [0, *(self._labels.setdefault(label, len(self._labels) + 1) for label in block.labels)]
        self._documents += [0] * (len(self._labels) + 1 - len(self._documents))
        for column, documents in zip(columns, block.documents.tolist(), strict=True):
            self._documents[column] += documents
        self._grow()
        if block.words:
            self._table[np.ix_(numbers, np.array(columns))] += block.holding

    def _grow(self) -> None:
        rows, columns = self._table.shape
        if len(self._numbers) > rows or len(self._documents) > columns:
            grown = np.zeros((max(rows, 2 * len(self._numbers)), max(columns, 2 * len(self._documents))), dtype=np.int32)
            grown[:rows, :columns] = self._table
            self._table = grown

    @property
    def distinct(self) -> int:
        """Number of distinct terms."""
        return len(self._numbers)

    def most_common(self, most: int, without: frozenset[str] = frozenset()) -> list[CommonTerm]:
        """The terms in most documents, all labels together; ties by term."""
        return self._ranked(self._frequencies()[:, 0], most, without)

    def most_common_by_label(self, most: int, without: frozenset[str] = frozenset()) -> dict[str, list[CommonTerm]]:
        """The same for each label."""
        table = self._frequencies()
        return {label: self._ranked(table[:, number], most, without) for label, number in sorted(self._labels.items())}

    def _frequencies(self) -> Ints:
        return self._table[: len(self._numbers), : len(self._documents)].astype(np.int64)

    def _ranked(self, frequency: Ints, most: int, without: frozenset[str]) -> list[CommonTerm]:
        words = list(self._numbers)
        # Enough of the largest to be left with `most` when the stop words among them are taken out.
        enough = min(frequency.size, most + len(without))
        candidates = np.argpartition(-frequency, enough - 1)[:enough].tolist() if enough else []
        least = min((frequency[place] for place in candidates), default=0)
        tied = np.flatnonzero(frequency == least).tolist() if least else []
        chosen = {place for place in (*candidates, *tied) if frequency[place] > 0 and words[place] not in without}
        ordered = sorted(chosen, key=lambda place: (-frequency[place], words[place]))[:most]
        return [self._described(words[place], place, int(frequency[place])) for place in ordered]

    def _described(self, term: str, place: int, documents: int) -> CommonTerm:
        counts = self._table[place, : len(self._documents)].astype(float)
        totals = np.array(self._documents, dtype=float)
        share = float(counts[0] / totals[0])
        if len(self._labels) < 2:
            return CommonTerm(term=term, documents=documents, label="", share_in_label=share, share=share)
        best = max(self._labels.values(), key=lambda number: (counts[number] / totals[number], -number))
        return CommonTerm(
            term=term,
            documents=documents,
            label=list(self._labels)[best - 1],
            share_in_label=float(counts[best] / totals[best]),
            share=share,
            leans=self._leans(counts, totals, best),
        )

    def _leans(self, counts: Floats, totals: Floats, label: int) -> bool:
        """Whether a term, in (k,) counts of (k,) documents, is in more of a label's than of all others' beyond chance."""
        n, m = float(totals[label]), float(totals[0] - totals[label])
        pooled = float(counts[0] / totals[0])
        deviation = sqrt(pooled * (1.0 - pooled) * (1.0 / n + 1.0 / m)) if n and m else 0.0
        if not deviation:
            return False
        z = (float(counts[label]) / n - float(counts[0] - counts[label]) / m) / deviation
        return z > -normal_quantile(_RISK / max(self.distinct, 1))


PRIOR = 500.0


@record(frozen=True, kw_only=True)
class TermCounts:
    """by_label: (n_terms, k) counts of each term in each label. documents: (n_terms, k) documents of each label with it.

    label_documents: (k,). everywhere: the same of all documents, where they may have several labels."""

    terms: list[str]
    by_label: Floats
    documents: Ints
    label_documents: Ints
    everywhere: "CorpusTermCounts | None" = None

    @property
    def whole(self) -> "CorpusTermCounts":
        """What is in all documents."""
        if self.everywhere is not None:
            return self.everywhere
        return CorpusTermCounts(self.by_label.sum(axis=1), self.documents.sum(axis=1), int(self.label_documents.sum()))


@record(frozen=True)
class CorpusTermCounts:
    """counts, holding: (n_terms,) how often each term is in all documents, and in how many. documents: how many there are."""

    counts: Floats
    holding: Ints
    documents: int


def log_odds(counts: TermCounts, prior: float = PRIOR) -> tuple[Floats, Floats]:
    """(n_terms, k) δ and z of each term for each label against all others; 0 for a term that is all there is.

    - log odds with an informative prior (Monroe, Colaresi & Quinn 2008, equations 15, 16 and 22): with y the count of the term in
      the
      label, n all counts there, and α the count in the whole corpus scaled to a prior of α₀ counts in all,
      δ = ln((y + α) / (n + α₀ − y − α)) − the same of all other labels; z = δ / √(1 / (y + α) + 1 / (y' + α))
    - likelihood ratio: P(term in a document | label) / the mean of P(term in a document | other label), from documents + ½ over
      documents + 1
    - chi-square and mutual information: see `association`"""
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
    measure = weighting.chi_square if way == "chi-square" else weighting.mutual_information
    values: Floats = measure(with_term, others_with, without, others_without)
    more = with_term * (counts.whole.documents - sizes) > others_with * sizes
    signed: Floats = np.where(more, values, -values)
    return signed


@record(frozen=True, kw_only=True)
class FrequencyRatio:
    """In how many documents of two labels a term is. ratio: of the shares, with its 95% interval; None where it is in none of
    the other's."""

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


def surely_times_as_often(counts: TermCounts) -> Floats:
    """(n_terms, k) the logarithm of the lower end of the 95% interval of how many times as often a term is in a label's documents
    as in all others, so that rare flukes do not come first; with half a document more on either side (Walter 1975, for the
    logarithm of a ratio of shares)."""
    own = counts.documents + 0.5
    other = counts.whole.holding[:, None] - counts.documents + 0.5
    of, others_of = counts.label_documents + 0.5, counts.whole.documents - counts.label_documents + 0.5
    spread = np.sqrt(np.maximum(1.0 / own - 1.0 / of + 1.0 / other - 1.0 / others_of, 0.0))
    lowest: Floats = np.log(own / of) - np.log(other / others_of) - Z_95 * spread
    return lowest


def rarest_in(counts: TermCounts, term: int, label: int) -> int:
    """The other label in whose documents a term is rarest."""
    shares = counts.documents[term] / np.maximum(counts.label_documents, 1)
    return int(np.argmin(np.where(np.arange(shares.size) == label, np.inf, shares)))


@record(frozen=True)
class LabelTerm:
    """One term for one label.

    leaning: see the module. in_label, other_documents: training documents with the term, of this label and of all the others."""

    term: str
    leaning: float
    in_label: int
    other_documents: int


def label_margins(weights: Floats) -> Floats:
    """(n_terms, k) weights → (n_terms, k) leanings.

    A linear rule gives term t and label l the weight w(t, l). Adding the same amount to all labels' weights changes no decision,
    so what t says for l is its weight against the mean of the others:

        leaning(t, l) = w(t, l) − mean over other labels m of w(t, m).

    For naive Bayes the weights are ln P(term | label), so the leaning is a log odds: the logarithm of how many times as often the
    term is expected under l as under the other labels (their geometric mean)."""
    k = weights.shape[1]
    rest = (weights.sum(axis=1, keepdims=True) - weights) / (k - 1)
    leaning: Floats = weights - rest
    return leaning


def weights_of(sorter: TrainedSorter) -> Floats:
    """(n_terms, k) the weights of a linear sorter. Raises DataProblem for a sorter that has none."""
    rule = sorter.classifier.rule
    if rule is None:
        raise DataProblem(
            f"A sorter of kind {sorter.plan.classifier.kind} has no weights of terms.",
            "Train a linear one, for example with --set classifier.kind=logistic.",
        )
    return rule.weights


def informative_terms(sorter: TrainedSorter, top: int) -> dict[str, list[LabelTerm]]:
    """For each label its `top` terms with the highest leaning, highest first; ties by term."""
    leaning = label_margins(weights_of(sorter))
    frequency = sorter.trained.label_document_frequency
    totals = sorter.space.document_frequency
    terms = {}
    for number, label in enumerate(sorter.labels):
        order = np.argsort(-leaning[:, number], kind="stable")[:top].tolist()
        terms[label] = [
            LabelTerm(
                sorter.space.terms[term],
                float(leaning[term, number]),
                int(frequency[term, number]),
                int(totals[term] - frequency[term, number]),
            )
            for term in order
        ]
    return terms


def strongest_terms(
    sorter: TrainedSorter, matrix: csr_array, pairs: Sequence[tuple[int | None, int | None]], most: int
) -> list[tuple[str, ...]]:
    """For each document the terms that speak for one label against another, the strongest first; ties in the order of columns.

    matrix: (n, p) of the documents. pairs: (n) the numbers of both labels; None for the second stands for the mean of all labels,
    for the first for no terms. most: how many terms. A sorter without weights has none."""
    rule = sorter.classifier.rule
    if rule is None or not pairs:
        return [()] * len(pairs)
    owner = np.repeat(np.arange(len(pairs)), np.diff(matrix.indptr))
    to, other = np.array([[-1 if label is None else label for label in pair] for pair in pairs], dtype=np.int64)[owner].T
    terms = matrix.indices
    against = np.where(other >= 0, rule.weights[terms, other], 0.0)
    against[other < 0] = rule.weights[terms[other < 0]].mean(axis=1)
    pulls = np.where(to >= 0, matrix.data * (rule.weights[terms, to] - against), 0.0)
    order = np.lexsort((-pulls, owner))
    first = (np.arange(order.size) - matrix.indptr[owner] < most) & (pulls[order] > 0)
    found: list[list[str]] = [[] for _ in pairs]
    for at in order[first].tolist():
        found[owner[at]].append(sorter.space.terms[int(terms[at])])
    return list(map(tuple, found))
