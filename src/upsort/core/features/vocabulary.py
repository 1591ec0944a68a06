"""Which terms are kept, and the feature space they span. Both are learned from training documents alone."""

from collections.abc import Callable, Sequence
from dataclasses import field, fields, replace
from functools import cached_property, lru_cache
from threading import get_ident
from typing import Any

import numpy as np
from scipy.sparse import csr_array, hstack

from upsort.core import plan
from upsort.core.arrays import Bools, Floats, Ints, Places, WordKeys, word_key, word_keys
from upsort.core.errors import DataProblem
from upsort.core.features import weighting
from upsort.core.features.corpus_counts import CorpusCounts, WordVectors
from upsort.core.features.counting import IGNORED, NEVER_SEEN
from upsort.core.features.distributed_vocabulary import hashed_places
from upsort.core.features.documents import ExtraCells, ExtraColumns, learn_extra_columns
from upsort.core.lazy import record
from upsort.core.matrices.partitioned import PartitionedMatrix, added_up, partition_wise
from upsort.core.matrices.sparse import column_sizes, column_sums, columns_from, group_sums, only_columns, with_values

_MOST_KEYS = 1 << 20


@record(frozen=True)
class FittedWeighting:
    """term_frequency: a letter of `weighting`, or `bm25`. factors: (counted,) that it is multiplied by. length: a letter."""

    term_frequency: str
    factors: Floats
    length: str


@record(frozen=True, kw_only=True)
class FeatureSpace:
    """The terms that a sorter knows, with what is needed to weigh them in any document.

    terms: the columns of every matrix in this space: first the `counted` terms of the text, sorted, then the dimensions of word
    vectors, then the columns next to the text.
    document_frequency: (n_terms,) int64, in how many of the training documents each stands. label_document_frequency: (n_terms,
    k) int64, the same for each label; k is 0 without labels. documents: number of training documents. mean_length: mean sum of
    counts of their kept terms, where bm25 needs it. hashed: (counted,) the column number of each where terms are hashed. ignored:
    the keys of words that were seen in training and are no terms, too common or too rare."""

    terms: list[str]
    counted: int
    document_frequency: Ints
    label_document_frequency: Ints
    documents: int
    mean_length: float
    settings: plan.Features
    extra_columns: ExtraColumns = field(default_factory=ExtraColumns)
    vectors: WordVectors | None = None
    vector_scale: Floats | None = None
    hashed: Ints | None = None
    ignored: WordKeys = field(default_factory=lambda: word_keys(()))

    def __getstate__(self) -> dict[str, Any]:
        """Itself, without what it remembers of earlier documents."""
        return {definition.name: vars(self)[definition.name] for definition in fields(self)}

    @cached_property
    def columns(self) -> dict[str, int]:
        """The column of each term of the text."""
        return {term: column for column, term in enumerate(self.terms[: self.counted])}

    def places(self, terms: Sequence[str]) -> tuple[Ints, Ints]:
        """(n,) the column of each of some terms, NEVER_SEEN or IGNORED for one that is none, and (n,) its sign. Of a list that
        has grown since the last time only what is new is looked up."""
        before, places, signs = self._last_places.get(get_ident(), ((), (), ()))
        known = len(places) if before is terms else 0
        new_places, new_signs = self._looked_up(terms[known:])
        if known:
            new_places, new_signs = np.concatenate((places, new_places)), np.concatenate((signs, new_signs))
        self._last_places[get_ident()] = terms, new_places, new_signs
        return new_places, new_signs

    @cached_property
    def _last_places(self) -> dict[int, tuple[Any, Any, Any]]:
        """Of each thread."""
        return {}

    def _looked_up(self, terms: Sequence[str]) -> tuple[Ints, Ints]:
        if self.hashed is None:
            columns = self.columns
            found = np.array([columns.get(term, NEVER_SEEN) for term in terms], dtype=np.int64)
            if self.ignored.size:
                missing = np.flatnonzero(found < 0)
                keys = np.array([self._key(terms[place]) for place in missing.tolist()], dtype=np.uint32)
                at = np.minimum(np.searchsorted(self.ignored, keys), self.ignored.size - 1)
                found[missing[self.ignored[at] == keys]] = IGNORED
            return found, np.ones(len(terms), np.int64)
        where, signs = hashed_places(terms, self.settings.hash_bits)
        place = np.minimum(np.searchsorted(self.hashed, where), self.hashed.size - 1)
        return np.where(self.hashed[place] == where, place, -1), signs

    @cached_property
    def _key(self) -> Callable[[str], int]:
        """The key of a word, remembered for when it comes again."""
        return lru_cache(_MOST_KEYS)(word_key)

    @cached_property
    def idf(self) -> Floats:
        """(counted,) inverse document frequencies of the scheme."""
        kind = "bm25" if self.settings.weighting == "bm25" else self._scheme.idf
        return weighting.inverse_document_frequency(self.document_frequency[: self.counted], self.documents, kind)

    @cached_property
    def _scheme(self) -> weighting.Scheme:
        name = self.settings.weighting
        return weighting.scheme("presence" if name in {"bm25", "log-count-ratio"} else name)

    @cached_property
    def _log_count_ratios(self) -> Floats:
        return weighting.log_count_ratios(self.label_document_frequency[: self.counted], self.document_frequency[: self.counted])

    @property
    def weighting(self) -> "FittedWeighting":
        """How counts become weights, piece by piece."""
        name, chosen = self.settings.weighting, self._scheme
        match name:
            case "bm25":
                return FittedWeighting("bm25", self.idf, "n")
            case "log-count-ratio":
                return FittedWeighting(chosen.term_frequency, self._log_count_ratios, chosen.length)
            case _:
                return FittedWeighting(chosen.term_frequency, self.idf, chosen.length)

    def weigh(self, counts: csr_array) -> csr_array:
        """Counts of this space's terms of the text, (n, counted), to weights of the same shape, float64."""
        if self.hashed is not None:
            weights = self._weighed(with_values(counts, np.abs(counts.data)))
            return with_values(weights, weights.data * np.sign(counts.data))
        return self._weighed(counts)

    def _weighed(self, counts: csr_array) -> csr_array:
        match self.settings.weighting:
            case "bm25":
                return weighting.bm25(counts, self.idf, self.mean_length, self.settings.bm25_k, self.settings.bm25_b)
            case "log-count-ratio":
                present = weighting.weigh(counts, self.idf, self._scheme)
                data = present.data * self._log_count_ratios[present.indices]
                return with_values(present, data)
            case _:
                return weighting.weigh(counts, self.idf, self._scheme)

    def matrix(self, counts: csr_array | PartitionedMatrix, cells: ExtraCells) -> Any:
        """(n, n_terms) float64: everything that a classifier sees of documents.

        counts: (n, counted) of this space's terms of the text. cells: the documents' columns next to it."""
        return _in_space(counts, self, cells)

    def matrix_of_part(self, counts: csr_array, cells: ExtraCells) -> csr_array:
        """The same of one partition."""
        weights = self.weigh(counts)
        if self.counted == len(self.terms):
            return weights
        blocks = [weights]
        if self.vectors is not None and self.vector_scale is not None:
            if self.settings.vectors == "alone":
                blocks[0] = csr_array(weights.shape, dtype=np.float64)
            blocks.append(csr_array(self._means(counts) * self.vector_scale))
        if self.extra_columns.names:
            blocks.append(self.extra_columns.columns(cells))
        return csr_array(hstack(blocks, format="csr"))

    def _means(self, counts: csr_array) -> Floats:
        assert self.vectors is not None
        return self.vectors.means(counts, self.vector_idf)

    @property
    def vector_idf(self) -> Floats | None:
        """(counted,) what each word counts in a mean of word vectors; None where all count the same."""
        if self.settings.vector_weights != "idf":
            return None
        return weighting.inverse_document_frequency(self.document_frequency[: self.counted], self.documents, "r")


@partition_wise(lambda _, space, cells: len(space.terms), 1)
def _in_space(counts: csr_array, space: FeatureSpace, cells: ExtraCells) -> csr_array:
    return space.matrix_of_part(counts, cells)


def document_frequencies(counts: csr_array | PartitionedMatrix) -> Ints:
    """(n_terms,) in how many rows each column stands."""
    return column_sizes(counts)


def total_counts(counts: csr_array | PartitionedMatrix) -> Ints:
    """(n_terms,) how often each column is in all rows together."""
    totals: Ints = np.rint(column_sums(counts)).astype(np.int64)
    return totals


@record(frozen=True, kw_only=True)
class TermStatistics:
    """The statistics behind the choice of terms.

    frequency, totals: (n_terms,) documents with each term, and how often it is in all. by_label: (n_terms, k) documents of each
    label with it. label_documents: (k,). left_out: terms that were not even counted, being in too few documents."""

    terms: list[str]
    frequency: Ints
    totals: Ints
    by_label: Ints
    label_documents: Ints
    documents: int
    left_out: int = 0


def chosen_terms(
    statistics: TermStatistics, settings: plan.Features, vocabulary: frozenset[str] = frozenset(), ranked: bool = True
) -> Places:
    """(n_kept,) the terms within the bounds, ascending. ranked: whether there may be too many terms.

    Raises DataProblem when the bounds leave none."""
    documents, frequency = statistics.documents, statistics.frequency
    seen = frequency > 0
    rare = frequency < settings.in_at_least
    common = frequency > _most_documents(settings, documents)
    columns = np.flatnonzero(seen & ~rare & ~common)
    if vocabulary:
        columns = np.flatnonzero(seen & np.array([term in vocabulary for term in statistics.terms], dtype=bool))
        if columns.size == 0:
            raise DataProblem(
                f"The vocabulary file has {len(vocabulary):,} terms, none of which is in the {documents:,} documents.",
                "Write its terms as they are after cleaning; upsort features lists those.",
            )
    if columns.size == 0 and not seen.any() and not statistics.left_out:
        raise DataProblem(
            f"No term is in the {documents:,} documents after cleaning.", "Check --text, and the steps of the plan."
        )
    if columns.size == 0:
        raise DataProblem(
            f"No term is left of the {int(seen.sum()) + statistics.left_out:,} in {documents:,} documents: "
            f"{int((seen & rare).sum()) + statistics.left_out:,} are in fewer than {settings.in_at_least} documents, "
            f"{int((seen & common).sum())} in more than {100 * settings.in_at_most:.3g}% of them.",
            "Lower features.in_at_least, raise features.in_at_most, or give more documents.",
        )
    if settings.most_terms and columns.size > settings.most_terms and not vocabulary and ranked:
        order = np.argsort(-_merit(statistics, columns, settings), kind="stable")  # ties: the term that sorts first
        columns = np.sort(columns[order[: settings.most_terms]])
    return columns


def learn_space(
    measured: CorpusCounts,
    settings: plan.Features,
    labels: Ints | None = None,
    n_labels: int = 0,
    vocabulary: frozenset[str] = frozenset(),
    sets: Bools | None = None,
) -> tuple[FeatureSpace, Places]:
    """Choose the terms within the bounds of `settings`.

    measured: the training documents, with all their terms. labels: (n,) numbers below n_labels; needed to choose by association.
    vocabulary: the terms to keep, whatever the bounds, where there are any. sets: (n, n_labels) where documents may have several
    labels; `labels` then says nothing. Returns the space and (n_kept,) the kept columns of the counts, in order. Raises
    DataProblem when the bounds leave no term."""
    counts, terms = measured.counts, measured.terms
    documents = counts.shape[0]
    frequency = document_frequencies(counts)
    by_label = label_document_frequencies(counts, labels, n_labels, sets)
    totals = frequency if settings.weighting == "presence" else total_counts(counts)
    sizes = np.bincount(labels, minlength=n_labels) if labels is not None else np.zeros(0, dtype=np.int64)
    sizes = np.asarray(sets.sum(axis=0)) if sets is not None else sizes
    statistics = TermStatistics(
        terms=terms,
        frequency=frequency,
        totals=totals,
        by_label=by_label,
        label_documents=sizes,
        documents=documents,
        left_out=measured.left_out,
    )
    columns = chosen_terms(statistics, settings, vocabulary, ranked=measured.hashed is None)
    mean_length = float(np.abs(totals[columns]).sum()) / max(documents, 1) if settings.weighting == "bm25" else 0.0
    names = [terms[column] for column in columns.tolist()]
    hashed = measured.hashed[columns] if measured.hashed is not None else None
    space = FeatureSpace(
        terms=names,
        counted=len(names),
        document_frequency=frequency[columns],
        label_document_frequency=by_label[columns],
        documents=documents,
        mean_length=mean_length,
        settings=settings,
        hashed=hashed,
    )
    return _with_columns(
        space, measured, columns, lambda matrix: label_document_frequencies(matrix, labels, n_labels, sets)
    ), columns


def _with_columns(
    space: FeatureSpace, measured: CorpusCounts, columns: Places, by_label: Callable[[csr_array], Ints]
) -> FeatureSpace:
    """The same space with word vectors and the columns next to the text, where there are any. by_label: in how many documents of
    each label each column of a matrix stands."""
    vectors = measured.vectors.only(columns.astype(np.int64)) if measured.vectors is not None else None
    if vectors is None and not measured.cells.width:
        return space
    if vectors is not None and not vectors.columns.size:
        raise DataProblem(
            f"None of the {len(space.terms):,} terms has a word vector.",
            "Check features.vectors_file: its words must be as they are after cleaning.",
        )
    extra_columns = learn_extra_columns(measured.cells)
    names = list(space.terms)
    counts = only_columns(measured.counts, columns)
    scale = None
    if vectors is not None:
        space = replace(space, vectors=vectors)
        means = space._means(counts)
        deviation = float(np.sqrt((means**2).sum(axis=1).mean()))
        scale = np.full(means.shape[1], 1.0 / deviation if deviation > 0 else 1.0)  # mean squared length 1, as of tf-idf rows
        names += [f"vector:{dimension}" for dimension in range(1, means.shape[1] + 1)]
    names += extra_columns.names
    space = replace(space, terms=names, extra_columns=extra_columns, vector_scale=scale)
    added = columns_from(space.matrix(counts, measured.cells), space.counted)
    return replace(
        space,
        document_frequency=np.concatenate((space.document_frequency, document_frequencies(added))),
        label_document_frequency=np.concatenate((space.label_document_frequency, by_label(added))),
    )


@added_up(0, 2)
def label_document_frequencies(counts: csr_array, labels: Ints | None, n_labels: int, sets: Bools | None = None) -> Ints:
    """(n_terms, n_labels) in how many documents of each label each term stands. sets: as in `learn_space`."""
    if labels is None or n_labels == 0:
        return np.zeros((counts.shape[1], 0), dtype=np.int64)
    presence = csr_array((np.ones(counts.nnz, dtype=np.int8), counts.indices, counts.indptr), shape=counts.shape)
    if sets is not None:
        return np.rint(presence.T @ sets.astype(np.float64)).astype(np.int64)
    numbers: Ints = np.rint(group_sums(presence, labels, n_labels, np.ones(labels.size))).astype(np.int64)
    return numbers


def _merit(statistics: TermStatistics, columns: Places, settings: plan.Features) -> Floats:
    """(n_kept,) what terms are ranked by when there are too many: total count, or the strongest association with a label."""
    if settings.choose_by == "count" or statistics.label_documents.size == 0:
        return statistics.totals[columns].astype(np.float64)
    with_term = statistics.by_label[columns].astype(np.float64)
    label_sizes = statistics.label_documents.astype(np.float64)
    others_with = statistics.frequency[columns, None] - with_term
    without = label_sizes - with_term
    others_without = statistics.documents - label_sizes - others_with
    measure = weighting.chi_square if settings.choose_by == "chi-square" else weighting.mutual_information
    strongest: Floats = measure(with_term, others_with, without, others_without).max(axis=1)
    return strongest


def _most_documents(settings: plan.Features, documents: int) -> float:
    """The bound in whole documents; the small addition keeps 0.6 · 5 at 3 whatever the rounding of 0.6."""
    return float(np.floor(settings.in_at_most * documents + 1e-9))


def too_common(counts: csr_array | PartitionedMatrix, terms: list[str], settings: plan.Features) -> list[str]:
    """The terms that more than the bound's share of the documents hold, those in most documents first."""
    frequency = document_frequencies(counts)
    common = np.flatnonzero(frequency > _most_documents(settings, counts.shape[0]))
    return [terms[column] for column in common[np.argsort(-frequency[common], kind="stable")].tolist()]


def words_are_terms(settings: plan.Features) -> bool:
    """Whether single words are terms, so that a word can be told to be one or not."""
    return settings.units == "words" and min(settings.lengths) == 1 and not settings.hash_bits


def known_words(space: FeatureSpace, totals: Ints) -> int:
    """How many words of documents are terms; 0 where terms are not words. totals: (counted,) how often each is in them."""
    if not words_are_terms(space.settings) or "presence" in space.settings.weighting:
        return 0
    return int(totals[_single_words(space.terms[: space.counted])].sum())


def seen_words(settings: plan.Features, measured: CorpusCounts, outside: csr_array | PartitionedMatrix) -> int:
    """How many words of documents were seen in training; 0 where terms are not words. measured: the training documents. outside:
    the counts of the documents, in the same columns."""
    if not words_are_terms(settings) or "presence" in settings.weighting:
        return 0
    seen = document_frequencies(measured.counts) > 0
    return int(total_counts(outside)[seen & _single_words(measured.terms)].sum())


def _single_words(terms: Sequence[str]) -> Bools:
    return np.array([*map(is_single_word, terms)], dtype=bool)


def is_single_word(term: str) -> bool:
    """Whether a term is one word, `@` and the name of its column left aside."""
    return " " not in (term.rpartition("@")[0] or term)
