"""The documents that a sorter keeps to be extended with: counts of all their terms, never their text.

Of many documents a sample is kept, the same share of each label: those with the smallest keys, which are numbers drawn from the
documents themselves. The smallest of some kept and of all new ones are the smallest of all, so that a sample stays one however
often documents are added. Each kept document counts as much as those of its label that it represents.

What a naive Bayes sorter keeps so that more documents can be added exactly: the counts of terms outside the bounds."""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import AnyArray, Bools, Floats, Ints, Keys, distinct_sorted
from upsort.core.classifiers.families import family
from upsort.core.classifiers.naive_bayes import label_sums
from upsort.core.classifiers.problem_arrays import targets_of
from upsort.core.features.corpus_counts import CorpusCounts, all_cells
from upsort.core.features.fingerprints import Fingerprints
from upsort.core.features.fingerprints import joined as join_fingerprints
from upsort.core.features.vocabulary import label_document_frequencies
from upsort.core.lazy import record
from upsort.core.matrices.sparse import column_sizes, from_cells, only_columns, stacked
from upsort.core.plan import Classifier, Plan
from upsort.core.training.labelled import FeatureMatrix, LabelledDocuments

MOST_STORED = 20_000
"""Documents that a sorter keeps at most."""


@record(frozen=True, kw_only=True)
class StoredDocuments:
    """n documents.

    measured: the counts of all their terms, and the cells beside. labels: (n,) numbers into `names`. sets: (n, k), where
    documents may have several labels, of which `labels` has the first. weights: (n,) of the rows, None where all count the same.
    named: (n,) a number for the group that a column names, −1 without one; None without such a column. keys: (n,) see
    `stratified_split`.
    fingerprints: to find copies. represents: (k,) documents of each label that there were."""

    measured: CorpusCounts
    labels: Ints
    names: tuple[str, ...]
    sets: Bools | None
    weights: Floats | None
    named: Ints | None
    keys: Keys
    fingerprints: Fingerprints
    represents: Ints

    @property
    def documents(self) -> int:
        """How many are kept."""
        return int(self.labels.size)

    @property
    def is_complete(self) -> bool:
        """Whether none is missing."""
        return self.documents == int(self.represents.sum())

    def rows(self, chosen: Ints) -> "StoredDocuments":
        """Some of them; terms that none of those has are forgotten."""
        measured = self.measured.rows(chosen)
        present = np.flatnonzero(column_sizes(measured.counts))
        counts = measured.local_counts.tocsc()[:, present].tocsr()
        measured = replace(
            measured,
            counts=csr_array(counts),
            terms=[measured.terms[place] for place in present.tolist()],
            hashed=measured.hashed[present] if measured.hashed is not None else None,
            vectors=None,
        )
        return replace(
            self,
            measured=measured,
            labels=self.labels[chosen],
            sets=self.sets[chosen] if self.sets is not None else None,
            weights=self.weights[chosen] if self.weights is not None else None,
            named=self.named[chosen] if self.named is not None else None,
            keys=self.keys[chosen],
            fingerprints=self.fingerprints.rows(chosen),
        )

    def labelled(self, groups: Ints | None) -> LabelledDocuments:
        """As training takes them. groups: (n,) who belongs together. Where documents are missing, those that are there count for
        them."""
        weights = self.weights
        if not self.is_complete:
            there = np.maximum(np.bincount(self.labels, minlength=len(self.names)), 1)
            factor = (self.represents / there)[self.labels]
            weights = factor if weights is None else weights * factor
        return LabelledDocuments(
            measured=self.measured,
            labels=self.labels,
            names=self.names,
            weights=weights,
            groups=groups,
            keys=self.keys,
            sets=self.sets,
        )


def sampled(stored: StoredDocuments, most: int = 0) -> StoredDocuments:
    """At most about so many documents (0: `MOST_STORED`), the same share of each label, at least one."""
    most = most or MOST_STORED
    if stored.documents <= most:
        return stored
    chosen = []
    for label in range(len(stored.names)):
        mine = np.flatnonzero(stored.labels == label)
        many = min(max(round(most * stored.represents[label] / stored.represents.sum()), 1), mine.size)
        chosen.append(mine[np.argsort(stored.keys[mine], kind="stable")[:many]])
    return stored.rows(np.sort(np.concatenate(chosen)))


def joined(first: StoredDocuments, second: StoredDocuments) -> StoredDocuments:
    """Both, one after the other, over the terms and labels of either. Raises ValueError where their columns differ."""
    if (first.measured.hashed is None) != (second.measured.hashed is None):
        raise ValueError("documents with hashed terms and without")
    names = tuple(sorted({*first.names, *second.names}))
    measured = _joined_measured((first.measured, second.measured))
    return StoredDocuments(
        measured=measured,
        labels=np.concatenate([_renumbered(documents, names)[documents.labels] for documents in (first, second)]),
        names=names,
        sets=_joined_sets(first, second, names),
        weights=_joined_optional(first.weights, second.weights),
        named=_joined_optional(first.named, second.named),
        keys=np.concatenate((first.keys, second.keys)),
        fingerprints=join_fingerprints([first.fingerprints, second.fingerprints]),
        represents=np.sum(
            [np.bincount(_renumbered(documents, names), documents.represents, len(names)) for documents in (first, second)],
            axis=0,
        ).astype(np.int64),
    )


def _renumbered(documents: StoredDocuments, names: Sequence[str]) -> Ints:
    return np.array([names.index(name) for name in documents.names], dtype=np.int64)


def _joined_measured(parts: Sequence[CorpusCounts]) -> CorpusCounts:
    hashed = [part.hashed for part in parts if part.hashed is not None]
    if hashed:
        every = distinct_sorted(np.concatenate(hashed))
        columns = [np.searchsorted(every, columns_of_part) for columns_of_part in hashed]
        called = {
            number: name
            for part, columns_of_part in zip(parts, hashed, strict=True)
            for number, name in zip(columns_of_part.tolist(), part.terms, strict=True)
        }
        terms = [called[number] for number in every.tolist()]
    else:
        every = None
        terms = sorted({term for part in parts for term in part.terms})
        place = {term: number for number, term in enumerate(terms)}
        columns = [np.array([place[term] for term in part.terms], dtype=np.int64) for part in parts]
    return CorpusCounts(
        counts=stacked([_in_columns(part.local_counts, where, len(terms)) for part, where in zip(parts, columns, strict=True)]),
        terms=terms,
        tokens=np.concatenate([part.tokens for part in parts]),
        cells=all_cells([part.cells for part in parts]),
        hashed=every,
        distinct=len(terms),
    )


def _in_columns(counts: csr_array, columns: Ints, width: int) -> csr_array:
    rows = np.repeat(np.arange(counts.shape[0]), np.diff(counts.indptr))
    return from_cells(counts.data, rows, columns[counts.indices], (counts.shape[0], width))


def _joined_sets(first: StoredDocuments, second: StoredDocuments, names: Sequence[str]) -> Bools | None:
    if first.sets is None or second.sets is None:
        return None
    sets = np.zeros((first.documents + second.documents, len(names)), dtype=bool)
    sets[: first.documents, _renumbered(first, names)] = first.sets
    sets[first.documents :, _renumbered(second, names)] = second.sets
    return sets


def _joined_optional(first: AnyArray | None, second: AnyArray | None) -> AnyArray | None:
    return np.concatenate((first, second)) if first is not None and second is not None else None


@record(frozen=True)
class PrunedCounts:
    """The terms that the bounds left out, for a sorter that can be extended exactly.

    terms: sorted. frequency: (t, k) int64 documents of each label with each. counts: (t, k) float64 how often in them."""

    terms: list[str]
    frequency: Ints
    counts: Floats


def can_be_extended(plan: Plan, documents: LabelledDocuments) -> bool:
    """Whether counts alone make the sorter: naive Bayes on counts or presence, nothing next to the text, all documents alike."""
    features, classifier = plan.features, plan.classifier
    return (
        bool(family(classifier).additive)
        and features.weighting in {"count", "presence"}
        and not (features.hash_bits or features.vectors_file or features.measures or plan.columns.document_vectors)
        and not documents.measured.cells.width
        and documents.weights is None
        and documents.measured.left_out == 0
        and (classifier.sampling, classifier.label_weights) == ("none", "equal")
    )


def counts_presence(plan: Plan) -> bool:
    """Whether what is added up is documents with a term, not how often it is in them."""
    return plan.features.weighting == "presence" or family(plan.classifier).on_presence


def left_out_counts(documents: LabelledDocuments, seen: FeatureMatrix, plan: Plan) -> PrunedCounts:
    """The counts of the terms that the bounds left out, so that more documents can bring them in."""
    rest = np.ones(len(documents.measured.terms), dtype=bool)
    rest[seen.columns] = False
    places = np.flatnonzero(rest & (column_sizes(documents.measured.counts) > 0))
    counts = only_columns(documents.measured.counts, places)
    targets = targets_of(documents.labels, documents.names, Classifier())
    frequency = label_document_frequencies(counts, documents.labels, len(documents.names))
    sums = frequency.astype(np.float64) if counts_presence(plan) else label_sums(counts, targets)
    return PrunedCounts([documents.measured.terms[place] for place in places.tolist()], frequency, sums)
