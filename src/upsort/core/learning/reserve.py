"""What a naive Bayes sorter keeps so that more documents can be added exactly: the counts of terms outside the bounds."""

import numpy as np

from upsort.core.arrays import Floats, Ints
from upsort.core.classifiers.families import family
from upsort.core.classifiers.naive_bayes.sums import label_sums
from upsort.core.classifiers.targets import targets_of
from upsort.core.features.vocabulary import label_document_frequencies
from upsort.core.learning.apart import FeatureMatrix
from upsort.core.learning.labelled import LabelledDocuments
from upsort.core.plan import Classifier, Plan
from upsort.core.records import record
from upsort.core.sparse import column_sizes, only_columns


@record(frozen=True)
class PrunedCounts:
    """What is known of the terms that the bounds left out, for a sorter that can be extended exactly.

    terms: sorted. frequency: (t, k) int64 documents of each label with each. counts: (t, k) float64 how often in them.
    """

    terms: list[str]
    frequency: Ints
    counts: Floats


def can_be_extended(plan: Plan, documents: LabelledDocuments) -> bool:
    """Whether counts alone make the sorter: naive Bayes on counts or presence, nothing beside the text, all documents alike."""
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
    """Whether what is added up is documents with a term, not how often it stands in them."""
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
