"""Training: from raw counts and labels to a sorter. The only place where anything is learned from documents."""

from collections.abc import Sequence

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Ints
from upsort.core.classifiers import families
from upsort.core.classifiers.logistic import Logistic
from upsort.core.errors import DataProblem
from upsort.core.features.vocabulary import learn_space, only_columns
from upsort.core.plan import Plan
from upsort.core.sorter import Sorter, Trained
from upsort.core.text.word_steps import Resources


def numbered(labels: Sequence[str]) -> tuple[tuple[str, ...], Ints]:
    """The distinct labels, sorted, and each document's label number (n,)."""
    names = tuple(sorted(set(labels)))
    number = {name: place for place, name in enumerate(names)}
    return names, np.array([number[label] for label in labels], dtype=np.int64)


def fit(
    counts: csr_array,
    terms: list[str],
    labels: Ints,
    names: tuple[str, ...],
    plan: Plan,
    resources: Resources | None = None,
) -> Sorter:
    """Train a sorter on these documents and no others.

    counts: (n, n_all_terms) raw counts, of which `terms` names the columns. labels: (n,) numbers into `names`.
    Labels that none of these documents has are left out of the sorter.
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
    space, kept = learn_space(counts, terms, plan.features, labels, len(names), resources.vocabulary)
    chosen = only_columns(counts, kept)
    classifier = families.train(space.weigh(chosen), labels, len(names), plan.classifier)
    minimum = classifier.minimum if isinstance(classifier, Logistic) else None
    scores = classifier.rule.scores(space.weigh(chosen))
    trained = Trained(
        label_documents=np.bincount(labels, minlength=len(names)).astype(np.int64),
        label_document_frequency=space.label_document_frequency,
        right=int((scores.argmax(axis=1) == labels).sum()),
        iterations=minimum.iterations if minimum else 0,
        optimality=minimum.optimality if minimum else 0.0,
        reached=minimum.reached if minimum else True,
    )
    return Sorter(plan, names, space, classifier, trained, resources)
