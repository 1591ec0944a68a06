"""The terms that speak most for each label against the others.

A linear rule gives term t and label l the weight w(t, l). Adding the same amount to all labels' weights changes no
decision, so what t says for l is its weight against the mean of the others:

    leaning(t, l) = w(t, l) − mean over other labels m of w(t, m).

For naive Bayes the weights are ln P(term | label), so the leaning is a log odds: the logarithm of how many times as often
the term is expected under l as under the other labels (their geometric mean).
"""

import numpy as np

from upsort.core.arrays import AnyArray, Floats
from upsort.core.errors import DataProblem
from upsort.core.learning.sorter import TrainedSorter
from upsort.core.records import record


@record(frozen=True)
class LabelTerm:
    """One term for one label.

    leaning: see the module. in_label, in_others: training documents with the term, of this label and of all the others.
    """

    term: str
    leaning: float
    in_label: int
    other_documents: int


def label_margins(weights: Floats) -> Floats:
    """(n_terms, k) weights → (n_terms, k) leanings."""
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
    sorter: TrainedSorter, values: tuple[AnyArray, AnyArray], label: int, other: int | None
) -> tuple[str, ...]:
    """The terms of a document that speak for a label against another, or against the mean of all labels; the strongest first.

    values: (m,) columns and (m,) values of the document. Nothing for a sorter without weights.
    """
    rule = sorter.classifier.rule
    if rule is None:
        return ()
    terms, numbers = values
    against = rule.weights[terms, other] if other is not None else rule.weights[terms].mean(axis=1)
    pulls = numbers * (rule.weights[terms, label] - against)
    order = np.argsort(-pulls, kind="stable")
    return tuple(sorter.space.terms[int(terms[at])] for at in order.tolist() if pulls[at] > 0)
