"""Training: from raw counts and labels to a sorter. The only place where anything is learned from documents."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Ints, Places
from upsort.core.classifiers import families
from upsort.core.classifiers.logistic import Logistic
from upsort.core.errors import DataProblem
from upsort.core.features.measured import Measured
from upsort.core.features.vocabulary import FeatureSpace, learn_space
from upsort.core.plan import Features, Plan
from upsort.core.sorter import Sorter, Trained
from upsort.core.sparse import only_columns
from upsort.core.text.word_steps import Resources


def numbered(labels: Sequence[str]) -> tuple[tuple[str, ...], Ints]:
    """The distinct labels, sorted, and each document's label number (n,)."""
    names = tuple(sorted(set(labels)))
    number = {name: place for place, name in enumerate(names)}
    return names, np.array([number[label] for label in labels], dtype=np.int64)


@dataclass(frozen=True)
class Represented:
    """Training documents as numbers: the learned space, which columns of the counts it keeps, and the (n, n_terms) matrix."""

    space: FeatureSpace
    kept: Places
    matrix: csr_array


def represent(
    measured: Measured, labels: Ints, n_labels: int, features: Features, resources: Resources | None = None
) -> Represented:
    """Learn the feature space from training documents. features: settled."""
    vocabulary = resources.vocabulary if resources is not None else frozenset()
    space, kept = learn_space(measured, features, labels, n_labels, vocabulary)
    return Represented(space, kept, represented(space, kept, measured))


def represented(space: FeatureSpace, kept: Places, measured: Measured) -> csr_array:
    """(n, n_terms) any documents of the corpus in a space. kept: which columns of their counts it keeps."""
    return space.matrix(only_columns(measured.counts, kept), measured.cells)


def fit(
    measured: Measured,
    labels: Ints,
    names: tuple[str, ...],
    plan: Plan,
    resources: Resources | None = None,
) -> tuple[Sorter, Represented]:
    """Train a sorter on these documents and no others.

    measured: n documents with all their terms. labels: (n,) numbers into `names`.
    Labels that none of these documents has are left out of the sorter.
    Returns the sorter and the documents as it saw them.
    Raises DataProblem for fewer than two labels and when no term is within the bounds.
    """
    present = np.unique(labels)
    if present.size < 2:
        found = f"only {names[int(present[0])]!r}" if present.size else "none"
        raise DataProblem(
            f"A sorter needs at least two labels; the documents have {found}.",
            "Check the label column, or give documents of other labels too.",
        )
    names = tuple(names[number] for number in present.tolist())
    labels = np.searchsorted(present, labels).astype(np.int64)
    plan = plan.settled()
    resources = resources or Resources()
    documents = represent(measured, labels, len(names), plan.features, resources)
    classifier = families.train(documents.matrix, labels, len(names), plan.classifier)
    minimum = classifier.minimum if isinstance(classifier, Logistic) else None
    scores = classifier.rule.scores(documents.matrix)
    trained = Trained(
        label_documents=np.bincount(labels, minlength=len(names)).astype(np.int64),
        label_document_frequency=documents.space.label_document_frequency,
        right=int((scores.argmax(axis=1) == labels).sum()),
        iterations=minimum.iterations if minimum else 0,
        optimality=minimum.optimality if minimum else 0.0,
        reached=minimum.reached if minimum else True,
    )
    return Sorter(plan, names, documents.space, classifier, trained, resources), documents
