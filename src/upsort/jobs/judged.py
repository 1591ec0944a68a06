"""From what the documents of one answer were given to all that is said of it: measures, probabilities, costs, parts of the
whole."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from upsort.core.arrays import Bools, Floats, Ints
from upsort.core.classifiers.calibration import softmax
from upsort.core.judging.costs import Costing, Priced, costing
from upsort.core.judging.intervals import Rate, of_known, share_of
from upsort.core.judging.measure import Evidence
from upsort.core.judging.measures import Decided, Judgement, judge
from upsort.core.judging.probability_measures import ProbabilityMeasures, brier_terms, judge_probabilities, log_losses
from upsort.core.judging.reliability import Reliability, reliability
from upsort.core.judging.sample import Sample
from upsort.core.judging.together import named_groups
from upsort.core.judging.undecided import Coverage, Undecided, coverage, undecided_of
from upsort.core.learning.sorter import Decisions, Sorter
from upsort.jobs.corpus import set_of_labels


@dataclass(frozen=True, kw_only=True)
class Mistake:
    """One document that was given another label than its own. pulled_by: the terms that spoke most for the wrong label."""

    reference: str
    text: str
    true: str
    sorted_as: str
    probability: float
    own_probability: float
    pulled_by: tuple[str, ...]


@dataclass(frozen=True, kw_only=True)
class Judged:
    """One answer.

    mistakes: the most confidently wrong documents, most confident first. unknown_labels: true labels that the sorter has
    never seen, with their documents; they count as wrong. by: for each value of a column, how many were right. known_words,
    new_words: documents all of whose words the sorter knows, and the others. not_copies: without near-copies of training
    documents, where those were given. before: log loss and Brier score without calibration, where there is one. costs: where a
    table of them was given. reliability_before: without calibration, where there is one. true, sorted_as: (n,) label numbers in
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
    costs: Costing | None
    undecided: Undecided | None
    coverage: Coverage
    true: Ints
    sorted_as: Ints
    probabilities: Floats
    reliability_before: Reliability | None

    @property
    def evidence(self) -> Evidence:
        """What measures are made from."""
        return Evidence(self.judgement, self.probability, self.costs, self.undecided)


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
    def sorted_as(self) -> list[str]:
        """What each was given; the most probable label for one that is left undecided."""
        return self.sorter.sorted_as(replace(self.decisions, undecided=None))

    @property
    def undecided(self) -> Bools:
        """(n,) which are left undecided."""
        undecided = self.decisions.undecided
        return undecided if undecided is not None else np.zeros(len(self.true), dtype=bool)


def judged(one: Compared, by_column: bool, of_passages: bool) -> Judged:
    """Judge one answer. by_column: for each value of a column too. of_passages: whether documents are made of passages."""
    sorter, decisions, true, sorted_as = one.sorter, one.decisions, one.true, one.sorted_as
    sample = _sample(one)
    right = np.array([a == b for a, b in zip(true, sorted_as, strict=True)], dtype=bool)
    names = tuple(sorted({*sorter.labels, *true, *sorted_as}))
    number = {name: place for place, name in enumerate(names)}
    majority = sorter.labels[sorter.majority]
    decided = Decided(
        true=np.array([number[label] for label in true], dtype=np.int64),
        sorted_as=np.array([number[label] for label in sorted_as], dtype=np.int64),
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
        costs=_costs(sorter, decided, decisions.probabilities),
        undecided=undecided_of(decided, one.undecided, sorter.plan.judge.beta),
        coverage=coverage(decisions.probabilities[np.arange(right.size), decisions.best], right),
        true=decided.true,
        sorted_as=decided.sorted_as,
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


def _costs(sorter: Sorter, decided: Decided, probabilities: Floats) -> Costing | None:
    """What the decisions cost, where costs are known for all labels that occur. probabilities: (n, k) in the sorter's labels."""
    costs, names = sorter.costs, decided.labels
    if costs is None or not {names[number] for number in np.unique(decided.true).tolist()} <= set(costs):
        return None
    number = np.array([names.index(label) for label in sorter.labels], dtype=np.int64)
    return costing(
        Priced(
            true=decided.true,
            sorted_as=decided.sorted_as,
            likeliest=number[probabilities.argmax(axis=1)],
            labels=names,
            table=np.array([[costs.get(a, {}).get(b, np.inf) for b in names] for a in names]),
            sample=decided.sample,
        )
    )


def _judged_sets(judgement: Judgement, one: Compared, sample: Sample, right: Bools) -> Judgement:
    """The judgement where documents have sets of labels: right is a whole set; by label, having it is judged for itself."""
    sorter = one.sorter
    separator = sorter.plan.columns.label_separator
    trues = [set_of_labels(cell, separator) for cell in one.true]
    sorted_sets = [set_of_labels(cell, separator) for cell in one.sorted_as]
    names = tuple(sorted({*sorter.labels, *(label for labels in trues for label in labels)}))
    measures = []
    for name in names:
        has = np.array([name in labels for labels in trues], dtype=np.int64)
        got = np.array([name in labels for labels in sorted_sets], dtype=np.int64)
        alone = Decided(
            true=has, sorted_as=got, labels=("without", "with"), majority="without", baseline=has == 0, sample=sample
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
