"""A part of the documents to learn from, and others in the space that the part alone teaches: one way for folds of every kind."""

from typing import Any

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Bools, Floats, Ints, Places
from upsort.core.classifiers.family import FittedClassifier, scores_of
from upsort.core.features.corpus_counts import CorpusCounts
from upsort.core.features.vocabulary import FeatureSpace, learn_space, seen_words
from upsort.core.lazy import record
from upsort.core.matrices.partitioned import PartitionedMatrix
from upsort.core.matrices.sparse import only_columns
from upsort.core.plan import Features
from upsort.core.text.step import Resources
from upsort.core.training.labelled import LabelledDocuments


@record(frozen=True)
class Split:
    """training, held_out: places of documents; together they need not be all."""

    training: Ints
    held_out: Ints


@record(frozen=True)
class FeatureMatrix:
    """Training documents as numbers: the learned space, which columns of the counts it keeps, and the (n, n_terms) matrix."""

    space: FeatureSpace
    columns: Places
    matrix: csr_array | PartitionedMatrix

    def of(self, measured: CorpusCounts) -> Any:
        """(m, n_terms) any documents of the corpus in the space."""
        return self.space.matrix(only_columns(measured.counts, self.columns), measured.cells)


def build_features(documents: LabelledDocuments, features: Features, resources: Resources) -> FeatureMatrix:
    """Learn the feature space from training documents. features: settled."""
    measured = documents.measured
    space, columns = learn_space(measured, features, documents.labels, len(documents.names), resources.vocabulary, documents.sets)
    return FeatureMatrix(space, columns, space.matrix(only_columns(measured.counts, columns), measured.cells))


@record(frozen=True, kw_only=True)
class FoldData:
    """A part to learn from, and the rest to judge by.

    training: the part, labels that it lacks left out. seen: the same as numbers. held_out: (m,) places of the rest in the corpus;
    outside: (m, n_terms) as numbers; tokens: (m,) their words; seen_words: how many of those the part has too, 0 if terms are not
    words. in_corpus: (k′,) the corpus's number of each label of the part. labels: how many labels the corpus has."""

    training: LabelledDocuments
    seen: FeatureMatrix
    held_out: Ints
    outside: csr_array | PartitionedMatrix
    tokens: Ints
    seen_words: int
    in_corpus: Ints
    labels: int

    def spread_to_all_labels(self, values: Floats | Bools, missing: Floats | float = 0.0) -> Floats:
        """(m, k′) values of the part's labels as (m, k) of the corpus's. missing: of labels that the part lacks."""
        whole = np.empty((len(values), self.labels))
        whole[:] = np.reshape(missing, (-1, 1))
        whole[:, self.in_corpus] = values
        return whole

    def scores(self, fitted: FittedClassifier) -> Floats:
        """(m, k) the scores of the rest; a label that the part lacks has a lower one than all others."""
        scores = scores_of(fitted, self.outside)
        return self.spread_to_all_labels(scores, scores.min(axis=1) - np.ptp(scores) - 1.0)


def learn_from_part(documents: LabelledDocuments, split: Split, features: Features, resources: Resources) -> FoldData:
    """Learn from the training side alone how documents become numbers. features: settled.

    Raises DataProblem when that side has fewer than two labels, or no term within the bounds."""
    training = documents.rows(split.training).present()
    seen = build_features(training, features, resources)
    rest = documents.measured.rows(split.held_out)
    return FoldData(
        training=training,
        seen=seen,
        held_out=split.held_out,
        outside=seen.of(rest),
        tokens=rest.tokens,
        seen_words=seen_words(features, training.measured, rest.counts),
        in_corpus=np.array([documents.names.index(name) for name in training.names], dtype=np.int64),
        labels=len(documents.names),
    )
