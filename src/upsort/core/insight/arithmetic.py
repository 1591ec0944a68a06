"""The arithmetic of naive Bayes written out: for every label the prior, each term's estimate and its logarithm, and the sum."""

import numpy as np

from upsort.core.classifiers.calibration import softmax
from upsort.core.classifiers.families import FAMILIES, family
from upsort.core.classifiers.family import Estimates, Family
from upsort.core.errors import DataProblem
from upsort.core.insight.explanation import Additive, Explanation
from upsort.core.insight.pulls import Contribution
from upsort.core.learning.sorter import TrainedSorter
from upsort.core.records import record


@record(frozen=True, kw_only=True)
class Estimate:
    """One term for one label. times: that it counts. above, denominator: the fraction by which P(term | label) is estimated. log:
    what it adds, times included."""

    term: str
    times: int
    above: float
    denominator: float
    log: float

    @property
    def share(self) -> float:
        """P(term | label)."""
        return self.above / self.denominator


@record(frozen=True, kw_only=True)
class LabelArithmetic:
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


def arithmetic(sorter: TrainedSorter, explanation: Explanation) -> list[LabelArithmetic]:
    """The worked sums of all labels, the highest score first; exponentials are those of the score less the highest.

    Raises DataProblem for kinds that have no such sums.
    """
    record = family(sorter.plan.classifier)
    estimates_of = record.estimates
    how, space = explanation.how, sorter.space
    plain_counts = record.estimates_need in ("", sorter.plan.features.weighting) and space.counted == len(space.terms)
    if estimates_of is None or not isinstance(how, Additive) or not plain_counts:
        raise _not_written_out(sorter, record)
    present = sorted(how.pulls, key=lambda contribution: contribution.term)
    columns = np.array([sorter.space.columns[contribution.term] for contribution in present], dtype=np.int64)
    arrays = sorter.classifier.arrays()
    sizes, log_prior = arrays["label_documents"], arrays["log_prior"]
    scores = explanation.scores
    plain = softmax(scores[None, :])[0]
    estimates = []
    for label in np.argsort(-scores, kind="stable").tolist():
        label_estimates = estimates_of(sorter.classifier, label, columns)
        estimates.append(
            LabelArithmetic(
                label=sorter.labels[label],
                documents=float(sizes[label]),
                of=float(sizes.sum()),
                log_prior=float(log_prior[label]),
                smoothing=sorter.plan.classifier.smoothing,
                terms=_estimates(present, label_estimates, record.on_presence),
                absent=label_estimates.absent,
                score=float(scores[label]),
                exponential=float(np.exp(scores[label] - scores.max())),
                plain=float(plain[label]),
                probability=float(explanation.probabilities[label]),
            )
        )
    return estimates


def _not_written_out(sorter: TrainedSorter, record: Family) -> DataProblem:
    """Why a sorter has no arithmetic to write out, and which has."""
    settings, weighting = sorter.plan.classifier, sorter.plan.features.weighting
    if record.estimates is None:
        able = [kind for kind, other in FAMILIES.items() if other.estimates is not None]
        kind = f"{settings.kind} (event model {settings.event_model})" if record.kind in able else settings.kind
        return DataProblem(
            f"The arithmetic is that of naive Bayes on counts or presence; this sorter is of kind {kind}.",
            f"Train one with --set classifier.kind={' or '.join(able)}.",
        )
    if record.estimates_need not in ("", weighting):
        return DataProblem(
            f"The arithmetic is that of counts; this sorter weighs its terms by {weighting}.",
            f"Train one with --set features.weighting={record.estimates_need}.",
        )
    return DataProblem(
        "The arithmetic is that of the text's terms; this sorter reads columns beside the text too.",
        "Train one without them.",
    )


def _estimates(present: list[Contribution], estimates: Estimates, once: bool) -> list[Estimate]:
    """once: whether a term counts once, however often it stands there."""
    return [
        Estimate(
            term=contribution.term,
            times=1 if once else contribution.count,
            above=float(top),
            denominator=estimates.denominator,
            log=(1 if once else contribution.count) * float(np.log(top / estimates.denominator)),
        )
        for contribution, top in zip(present, estimates.above.tolist(), strict=True)
    ]
