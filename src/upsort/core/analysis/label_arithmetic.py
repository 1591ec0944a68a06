"""Sums as they are written down: every number rounded by itself, and what the roundings leave over in a line of its own.

The arithmetic of naive Bayes written out: for every label the prior, each term's estimate and its logarithm, and the sum."""

from collections.abc import Sequence

import numpy as np
from msgspec import Struct

from upsort.core.analysis.contributions import Contribution
from upsort.core.analysis.explanation import Additive, Explanation
from upsort.core.arrays import Floats
from upsort.core.classifiers.calibration import softmax
from upsort.core.classifiers.families import FAMILIES, family
from upsort.core.classifiers.family import Estimates, Family
from upsort.core.errors import DataProblem
from upsort.core.lazy import record
from upsort.core.training.sorter import TrainedSorter


@record(frozen=True)
class RoundedSum:
    """rows: (r, c) addends, each rounded to so many digits. rounding: (c,) what has to be added so that the rows give the total.
    total: (c,) the sums, rounded."""

    rows: Floats
    rounding: Floats
    total: Floats

    @property
    def is_exact(self) -> bool:
        """Whether the rounded addends give the rounded sums."""
        return not self.rounding.any()


def written(addends: Sequence[Sequence[float]], totals: Sequence[float], digits: int) -> RoundedSum:
    """addends: rows of one number a column, which add up to the totals before they are rounded."""
    rows = np.asarray(np.round(np.array(addends, dtype=np.float64), digits), dtype=np.float64)
    total = np.asarray(np.round(np.array(totals, dtype=np.float64), digits), dtype=np.float64)
    return RoundedSum(rows, np.round(total - rows.sum(axis=0), digits) + 0.0, total)  # + 0.0: not −0


@record(frozen=True)
class ContributionSum:
    """What adds up to the scores of some labels: the strongest pulls one by one, the rest together, and what scores begin with.
    names: of the rows. pulls: those of a row, None where it is no single one. sums: (rows, labels)."""

    names: list[str]
    pulls: list[Contribution | None]
    sums: RoundedSum


def sum_of_pulls(sums: Additive, scores: Floats, labels: Sequence[int], top: int, digits: int) -> ContributionSum:
    """The sum for the label numbers `labels`: one, or two of which one stands against the other. scores: (k,). top: how many
    pulls have a row of their own, those that say most for or against the first label, strongest first."""

    def says(support: Contribution) -> float:
        return abs(float(support.pulls[labels[0]] - (support.pulls[labels[1]] if len(labels) > 1 else 0.0)))

    ordered = sorted(sums.pulls, key=says, reverse=True)
    shown, rest = ordered[:top], ordered[top:]
    names = [contribution.term for contribution in shown]
    addends = [[float(contribution.pulls[label]) for label in labels] for contribution in shown]
    pulls: list[Contribution | None] = [*shown]
    if rest:
        names.append("1 other" if len(rest) == 1 else f"{len(rest)} others")
        addends.append([sum(float(contribution.pulls[label]) for contribution in rest) for label in labels])
        pulls.append(None)
    names += [name for name, _ in sums.begins]
    addends += [[float(values[label]) for label in labels] for _, values in sums.begins]
    pulls += [None for _ in sums.begins]
    return ContributionSum(names, pulls, written(addends, [float(scores[label]) for label in labels], digits))


class Estimate(Struct, frozen=True, kw_only=True, rename={"denominator": "below"}):
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


class AbsentTerms(Struct, frozen=True):
    """How many terms are absent. log: Σ ln(1 − P) over them."""

    terms: int
    log: float


class LabelArithmetic(Struct, frozen=True, kw_only=True, rename={"plain": "plain_share"}):
    """The sum of one label. documents, of: of the label, and of all. absent: terms, where they count. plain: the label's share of
    the exponentials; probability: as the sorter says it."""

    label: str
    documents: float
    of: float
    log_prior: float
    smoothing: float
    terms: list[Estimate]
    absent: AbsentTerms | None
    score: float
    exponential: float
    plain: float
    probability: float


def arithmetic(sorter: TrainedSorter, explanation: Explanation) -> list[LabelArithmetic]:
    """The worked sums of all labels, the highest score first; exponentials are those of the score less the highest.

    Raises DataProblem for kinds that have no such sums."""
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
                absent=AbsentTerms(*label_estimates.absent) if label_estimates.absent is not None else None,
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
        "The arithmetic is that of the text's terms; this sorter reads other columns, too.", "Train one without them."
    )


def _estimates(present: list[Contribution], estimates: Estimates, once: bool) -> list[Estimate]:
    """once: whether a term counts once, however often it is there."""
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
