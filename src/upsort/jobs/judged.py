"""From what the documents of one answer were given to all that is said of it: measures, probabilities, costs, parts of the
whole."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from upsort.core.arrays import Bools, Floats, Ints
from upsort.core.classifiers.calibration import softmax
from upsort.core.judging.coverage import Coverage, coverage, mean_cost
from upsort.core.judging.intervals import Rate, of_known, share_of
from upsort.core.judging.measure import Evidence
from upsort.core.judging.measures import Decided, Judgement, judge
from upsort.core.judging.probability_measures import ProbabilityMeasures, brier_terms, judge_probabilities, log_losses
from upsort.core.judging.reliability import Reliability, reliability
from upsort.core.judging.sample import Sample
from upsort.core.judging.together import named_groups
from upsort.core.learning.sorter import Decisions, Sorter
from upsort.jobs.corpus import set_of_labels


@dataclass(frozen=True, kw_only=True)
class Mistake:
    """One document that was given another label than its own. pulled_by: the terms that spoke most for the wrong label."""

    reference: str
    text: str
    true: str
    given: str
    probability: float
    own_probability: float
    pulled_by: tuple[str, ...]


@dataclass(frozen=True, kw_only=True)
class Judged:
    """One answer.

    mistakes: the most confidently wrong documents, most confident first. unknown_labels: true labels that the sorter has
    never seen, with their documents; they count as wrong. by: for each value of a column, how many were right. known_words,
    new_words: documents all of whose words the sorter knows, and the others. not_copies: without near-copies of training
    documents, where those were given. before: log loss and Brier score without calibration, where there is one. cost: mean
    cost, where costs were given. reliability_before: without calibration, where there is one. true, given: (n,) label numbers in
    `judgement.labels`; probabilities: (n, k) in the sorter's labels.
    """

    sorter: Sorter
    judgement: Judgement
    probability: ProbabilityMeasures | None
    training_accuracy: Rate
    mistakes: list[Mistake]
    unknown_labels: dict[str, int]
    by: dict[str, Rate]
    known_words: Rate
    new_words: Rate
    not_copies: Rate | None
    before: tuple[float, float] | None
    cost: float | None
    undecided: Rate | None
    coverage: Coverage
    true: Ints
    given: Ints
    probabilities: Floats
    reliability_before: Reliability | None

    @property
    def evidence(self) -> Evidence:
        """What measures are made from."""
        return Evidence(self.judgement, self.probability)


@dataclass(frozen=True, kw_only=True)
class Compared:
    """The documents of one answer, or those made of passages: their own labels, the decisions, and what else is known of them."""

    sorter: Sorter
    names: Sequence[str]
    true: Sequence[str]
    decisions: Decisions
    values: Sequence[str]
    groups: Sequence[str]
    copies: Bools | None
    mistakes: list[Mistake]
    times: Sequence[int]

    @property
    def given(self) -> list[str]:
        """What each was given; the most probable label for one that is left undecided."""
        return self.sorter.given(replace(self.decisions, undecided=None))

    @property
    def undecided(self) -> Bools:
        """(n,) which are left undecided."""
        undecided = self.decisions.undecided
        return undecided if undecided is not None else np.zeros(len(self.true), dtype=bool)


def judged(one: Compared, by_column: bool, of_passages: bool) -> Judged:
    """Judge one answer. by_column: for each value of a column too. of_passages: whether documents are made of passages."""
    sorter, decisions, true, given = one.sorter, one.decisions, one.true, one.given
    sample = _sample(one)
    right = np.array([a == b for a, b in zip(true, given, strict=True)], dtype=bool)
    names = tuple(sorted({*sorter.labels, *true, *given}))
    number = {name: place for place, name in enumerate(names)}
    majority = sorter.labels[sorter.majority]
    decided = Decided(
        true=np.array([number[label] for label in true], dtype=np.int64),
        given=np.array([number[label] for label in given], dtype=np.int64),
        labels=names,
        majority=majority,
        baseline=np.array([label == majority for label in true], dtype=bool),
        sample=sample,
    )
    judgement = judge(decided, sorter.plan.judge.beta)
    sets = sorter.thresholds is not None
    if sets:
        judgement = _judged_sets(judgement, one, sample, right)
    probability, before, reliability_before = None, None, None
    if not sets:
        own = np.array([sorter.labels.index(label) if label in sorter.labels else -1 for label in true])
        probability = judge_probabilities(own, decisions.probabilities, decisions.best, sample)
        if sorter.calibration.kind != "none" and not of_passages:
            plain = softmax(decisions.scores)
            before = _losses(own, plain)
            chosen = plain[np.arange(own.size), decisions.best]
            reliability_before = reliability(chosen, np.asarray(own == decisions.best), sample)

    def rate(among: Bools) -> Rate:
        return share_of((right & among).astype(np.float64), among.astype(np.float64), sample)

    unknown = np.nan_to_num(decisions.unknown_share)
    values = np.array(one.values, dtype=object)
    return Judged(
        sorter=sorter,
        judgement=judgement,
        probability=probability,
        training_accuracy=of_known(sorter.trained.right, sorter.trained.documents),
        mistakes=sorted(one.mistakes, key=lambda mistake: -mistake.probability),
        unknown_labels={} if sets else {label: true.count(label) for label in sorted(set(true) - set(sorter.labels))},
        by={value: rate(np.asarray(values == value)) for value in sorted(set(one.values))} if by_column else {},
        known_words=rate(unknown == 0),
        new_words=rate(unknown > 0),
        not_copies=rate(~one.copies) if one.copies is not None else None,
        before=before,
        cost=_cost(sorter, decided),
        undecided=rate(~one.undecided) if one.undecided.any() else None,
        coverage=coverage(decisions.probabilities.max(axis=1), right),
        true=decided.true,
        given=decided.given,
        probabilities=decisions.probabilities,
        reliability_before=reliability_before,
    )


def _sample(one: Compared) -> Sample:
    groups = named_groups(one.groups) if any(one.groups) else None
    return Sample.of(np.arange(len(one.true)), 1, groups)


def _losses(own: Ints, probabilities: Floats) -> tuple[float, float] | None:
    """Mean log loss and Brier score over the documents whose label the sorter knows."""
    known = own >= 0
    if not known.any():
        return None
    return (
        float(log_losses(own[known], probabilities[known]).mean()),
        float(brier_terms(own[known], probabilities[known]).mean()),
    )


def _cost(sorter: Sorter, decided: Decided) -> float | None:
    """The mean cost, where costs are known for all labels that occur."""
    costs, names = sorter.costs, decided.labels
    if costs is None or not {names[number] for number in np.unique(decided.true).tolist()} <= set(costs):
        return None
    matrix = np.array([[costs.get(a, {}).get(b, 0.0) for b in names] for a in names])
    return mean_cost(decided.true, decided.given, matrix)


def _judged_sets(judgement: Judgement, one: Compared, sample: Sample, right: Bools) -> Judgement:
    """The judgement where documents have sets of labels: right is a whole set; by label, having it is judged for itself."""
    sorter = one.sorter
    separator = sorter.plan.columns.label_separator
    trues = [set_of_labels(cell, separator) for cell in one.true]
    givens = [set_of_labels(cell, separator) for cell in one.given]
    names = tuple(sorted({*sorter.labels, *(label for labels in trues for label in labels)}))
    measures = []
    for name in names:
        has = np.array([name in labels for labels in trues], dtype=np.int64)
        got = np.array([name in labels for labels in givens], dtype=np.int64)
        alone = Decided(
            true=has, given=got, labels=("without", "with"), majority="without", baseline=has == 0, sample=sample
        )
        measures.append(replace(judge(alone).per_label[1], label=name))
    f1 = [found.f1.value for found in measures if found.f1.value is not None]
    return replace(
        judgement,
        accuracy=share_of(right.astype(np.float64), np.ones(right.size), sample),
        macro_f1=Rate(value=float(np.mean(f1)) if f1 else None, low=None, high=None),
        others={},
        per_label=tuple(measures),
    )
