"""The arithmetic of naive Bayes written out: for every label the prior, each term's estimate and its logarithm, and the sum."""

from dataclasses import dataclass

import numpy as np

from upsort.core.arrays import Floats
from upsort.core.classifiers.bernoulli_nb import BernoulliNaiveBayes
from upsort.core.classifiers.calibration import softmax
from upsort.core.classifiers.multinomial_nb import MultinomialNaiveBayes
from upsort.core.errors import DataProblem
from upsort.core.insight.explanation import Explanation
from upsort.core.learning.sorter import Sorter


@dataclass(frozen=True, kw_only=True)
class Estimate:
    """One term for one label. times: that it counts. above, below: of the fraction that P(term | label) is estimated by. log:
    what it adds, times included."""

    term: str
    times: int
    above: float
    below: float
    log: float

    @property
    def share(self) -> float:
        """P(term | label)."""
        return self.above / self.below


@dataclass(frozen=True, kw_only=True)
class Arithmetic:
    """The sum of one label. documents, of: of the label, and of all. absent: how many terms are absent, and Σ ln(1 − P) over
    them, where they count. plain: the label's share of the exponentials; probability: as the sorter tells it."""

    label: str
    documents: float
    of: float
    log_prior: float
    smoothing: float
    terms: list[Estimate]
    absent: tuple[int, float] | None
    score: float
    exponential: float
    plain: float
    probability: float


def arithmetic(sorter: Sorter, explanation: Explanation) -> list[Arithmetic]:
    """The worked sums of all labels, the highest score first; exponentials are those of the score less the highest.

    Raises DataProblem for kinds that have no such sums.
    """
    fitted, weighting = sorter.classifier, sorter.plan.features.weighting
    counted = isinstance(fitted, MultinomialNaiveBayes) and weighting == "count"
    if not counted and not isinstance(fitted, BernoulliNaiveBayes):
        raise DataProblem(
            "The arithmetic can be written out for naive Bayes on counts or presence alone.",
            "Train it with --set classifier.kind=multinomial-nb or bernoulli-nb.",
        )
    assert isinstance(fitted, MultinomialNaiveBayes | BernoulliNaiveBayes)
    scores = explanation.scores
    plain = softmax(scores[None, :])[0]
    found = []
    for label in np.argsort(-scores, kind="stable").tolist():
        terms, absent = _terms(fitted, sorter, explanation, label)
        found.append(
            Arithmetic(
                label=sorter.labels[label],
                documents=float(fitted.label_documents[label]),
                of=float(fitted.label_documents.sum()),
                log_prior=float(fitted.log_prior[label]),
                smoothing=fitted.smoothing,
                terms=terms,
                absent=absent,
                score=float(scores[label]),
                exponential=float(np.exp(scores[label] - scores.max())),
                plain=float(plain[label]),
                probability=float(explanation.probabilities[label]),
            )
        )
    return found


def _terms(
    fitted: MultinomialNaiveBayes | BernoulliNaiveBayes, sorter: Sorter, explanation: Explanation, label: int
) -> tuple[list[Estimate], tuple[int, float] | None]:
    present = sorted(explanation.terms, key=lambda one: one.term)
    columns = [sorter.space.columns[one.term] for one in present]
    s = fitted.smoothing
    if isinstance(fitted, MultinomialNaiveBayes):
        counts = fitted.term_counts[:, label]
        times = [one.count for one in present]
        above, below = counts[columns] + s, float(counts.sum()) + s * counts.size
        return _estimates([one.term for one in present], times, above, below), None
    with_term = fitted.term_documents[:, label]
    below = float(fitted.label_documents[label]) + 2.0 * s
    others = np.ones(with_term.size, dtype=bool)
    others[columns] = False
    absent = float(np.log1p(-(with_term[others] + s) / below).sum())
    estimates = _estimates([one.term for one in present], [1] * len(present), with_term[columns] + s, below)
    return estimates, (int(others.sum()), absent)


def _estimates(terms: list[str], times: list[int], above: Floats, below: float) -> list[Estimate]:
    return [
        Estimate(term=term, times=many, above=float(top), below=below, log=many * float(np.log(top / below)))
        for term, many, top in zip(terms, times, above.tolist(), strict=True)
    ]
