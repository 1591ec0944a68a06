"""The arithmetic of naive Bayes written out: for every label the prior, each term's estimate and its logarithm, and the sum."""

from dataclasses import dataclass

import numpy as np

from upsort.core.classifiers.calibration import softmax
from upsort.core.classifiers.families import FAMILIES, family
from upsort.core.classifiers.family import Estimates
from upsort.core.errors import DataProblem
from upsort.core.insight.explanation import Explanation, Pulls
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
    record = family(sorter.plan.classifier.kind)
    estimates_of = record.estimates
    if estimates_of is None or record.estimates_need not in ("", sorter.plan.features.weighting):
        able = [kind for kind, other in FAMILIES.items() if other.estimates is not None]
        raise DataProblem(
            "The arithmetic can be written out for naive Bayes on counts or presence alone.",
            f"Train it with --set classifier.kind={' or '.join(able)}.",
        )
    present = sorted(explanation.terms, key=lambda one: one.term)
    columns = np.array([sorter.space.columns[one.term] for one in present], dtype=np.int64)
    arrays = sorter.classifier.arrays()
    sizes, log_prior = arrays["label_documents"], arrays["log_prior"]
    scores = explanation.scores
    plain = softmax(scores[None, :])[0]
    found = []
    for label in np.argsort(-scores, kind="stable").tolist():
        found_here = estimates_of(sorter.classifier, label, columns)
        found.append(
            Arithmetic(
                label=sorter.labels[label],
                documents=float(sizes[label]),
                of=float(sizes.sum()),
                log_prior=float(log_prior[label]),
                smoothing=sorter.plan.classifier.smoothing,
                terms=_estimates(present, found_here, record.on_presence),
                absent=found_here.absent,
                score=float(scores[label]),
                exponential=float(np.exp(scores[label] - scores.max())),
                plain=float(plain[label]),
                probability=float(explanation.probabilities[label]),
            )
        )
    return found


def _estimates(present: list[Pulls], found: Estimates, once: bool) -> list[Estimate]:
    """once: whether a term counts once, however often it stands there."""
    return [
        Estimate(
            term=one.term,
            times=1 if once else one.count,
            above=float(top),
            below=found.below,
            log=(1 if once else one.count) * float(np.log(top / found.below)),
        )
        for one, top in zip(present, found.above.tolist(), strict=True)
    ]
