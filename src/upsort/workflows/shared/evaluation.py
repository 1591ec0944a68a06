"""Everything measured of the decisions for one label column: measures, probabilities, costs, subsets."""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from upsort.core.arrays import Bools, Floats, Ints
from upsort.core.classifiers.calibration import softmax
from upsort.core.evaluation import decision_costs, probability_measures
from upsort.core.evaluation.duplicates import Duplicates
from upsort.core.evaluation.intervals import UNKNOWN, Rate, Sample, of_known, share_of
from upsort.core.evaluation.measure_list import JudgedEvidence
from upsort.core.evaluation.measures import Decided, Judgement, judge
from upsort.core.evaluation.novelty import SimilarityRates, rates_by_similarity
from upsort.core.evaluation.set_measures import DecidedSets, judge_sets
from upsort.core.evaluation.splits import Groups, named_groups
from upsort.core.features.vocabulary import words_are_terms
from upsort.core.lazy import record
from upsort.core.text.characters import labels_in
from upsort.core.training.sorter import Decisions, TrainedSorter


@record(frozen=True, kw_only=True)
class Mistake:
    """One document that was given another label than its own. pulled_by: the terms that spoke most for the wrong label."""

    reference: str
    text: str
    true: str
    sorted_as: str
    probability: float
    own_probability: float
    pulled_by: tuple[str, ...]


@record(frozen=True, kw_only=True)
class Evaluation:
    """One answer.

    similar: whether documents that resemble each other count once in intervals. mistakes: the most confidently wrong documents,
    most confident first. unknown_labels: true labels that the sorter has never seen, with their documents; they count as wrong.
    by: for each value of a column, how many were right. known_words, new_words: documents all of whose words the sorter knows,
    and the others. by_similarity: to training documents, where that is known. before: log loss and Brier score without
    calibration, where there is one. costs: where a table of them was given. reliability_before: without calibration, where there
    is one. own: (n,) the number of each document's label among the sorter's, −1 for one that it does not know and where documents
    may have several; probabilities: (n, k) in the sorter's labels.
    """

    sorter: TrainedSorter
    judgement: Judgement
    probability: probability_measures.ProbabilityMeasures | None
    similar: bool
    training_accuracy: Rate
    mistakes: list[Mistake]
    unknown_labels: dict[str, int]
    by: dict[str, Rate]
    known_words: Rate
    new_words: Rate
    by_similarity: SimilarityRates | None
    before: tuple[float, float] | None
    costs: decision_costs.CostSummary | None
    undecided: decision_costs.Undecided | None
    coverage: decision_costs.Coverage
    own: Ints
    probabilities: Floats
    reliability_before: probability_measures.Reliability | None

    @property
    def evidence(self) -> JudgedEvidence:
        """What measures are made from."""
        return JudgedEvidence(self.judgement, self.probability, self.costs, self.undecided)


@record(frozen=True, kw_only=True)
class DecidedCorpus:
    """The n documents of one answer, or those made of passages: their own labels, the decisions, and what else is known of them.
    similarity: (n,) to the nearest training document, where that can be told. copies: among them, where that matters."""

    sorter: TrainedSorter
    names: Sequence[str]
    true: Sequence[str]
    decisions: Decisions
    values: Sequence[str]
    groups: Sequence[str]
    similarity: Floats | None
    mistakes: list[Mistake]
    times: Sequence[int]
    copies: Duplicates | None = None

    @property
    def sorted_as(self) -> Sequence[str]:
        """What each was given; the most probable label for one that is left undecided."""
        return self.sorter.sorted_as(replace(self.decisions, undecided=None))

    @property
    def undecided(self) -> Bools:
        """(n,) which are left undecided."""
        undecided = self.decisions.undecided
        return undecided if undecided is not None else np.zeros(len(self.true), dtype=bool)


@record(frozen=True, kw_only=True)
class _Measures:
    """What the decisions come to; see Judged."""

    judgement: Judgement
    own: Ints
    probability: probability_measures.ProbabilityMeasures | None = None
    before: tuple[float, float] | None = None
    reliability_before: probability_measures.Reliability | None = None
    costs: decision_costs.CostSummary | None = None
    undecided: decision_costs.Undecided | None = None


def evaluate_decisions(documents: DecidedCorpus, by_column: bool, of_passages: bool) -> Evaluation:
    """Judge one answer. by_column: for each value of a column too. of_passages: whether documents are made of passages."""
    sorter, decisions, true = documents.sorter, documents.decisions, documents.true
    named = named_groups(documents.groups) if any(documents.groups) else np.arange(len(documents.true))
    groups = named if documents.copies is None else Groups.of(named, documents.copies).groups
    assert groups is not None
    similar = np.unique(groups).size < np.unique(named).size
    sample = Sample.of(np.arange(len(documents.true)), 1, groups)
    sets = sorter.thresholds is not None
    measured = _of_sets(documents, sample) if sets else _of_single_labels(documents, sample, of_passages)
    right = np.array([a == b for a, b in zip(true, documents.sorted_as, strict=True)], dtype=bool)

    def rate(among: Bools) -> Rate:
        return share_of((right & among).astype(np.float64), among.astype(np.float64), sample)

    unknown, near_from = np.nan_to_num(decisions.unknown_share), sorter.plan.judge.similarity
    values = np.array(documents.values, dtype=object)
    times = {label.label: label.documents for label in measured.judgement.per_label}
    return Evaluation(
        sorter=sorter,
        judgement=measured.judgement,
        probability=measured.probability,
        similar=similar,
        training_accuracy=of_known(sorter.trained.right, sorter.trained.documents),
        mistakes=sorted(documents.mistakes, key=lambda mistake: -mistake.probability),
        unknown_labels={label: times[label] for label in sorted(times) if times[label] and label not in sorter.labels},
        by={value: rate(np.asarray(values == value)) for value in sorted(set(documents.values))} if by_column else {},
        known_words=rate(unknown == 0) if words_are_terms(sorter.plan.features) else UNKNOWN,
        new_words=rate(unknown > 0) if words_are_terms(sorter.plan.features) else UNKNOWN,
        by_similarity=rates_by_similarity(documents.similarity, right, sample, near_from)
        if documents.similarity is not None
        else None,
        before=measured.before,
        costs=measured.costs,
        undecided=measured.undecided,
        coverage=decision_costs.coverage(decisions.probabilities[np.arange(right.size), decisions.best], right),
        own=measured.own,
        probabilities=decisions.probabilities,
        reliability_before=measured.reliability_before,
    )


def _of_single_labels(documents: DecidedCorpus, sample: Sample, of_passages: bool) -> _Measures:
    sorter, decisions, true, sorted_as = documents.sorter, documents.decisions, documents.true, documents.sorted_as
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
    place = {label: number for number, label in enumerate(sorter.labels)}
    own = np.array([place.get(label, -1) for label in true], dtype=np.int64)
    probability = probability_measures.judge_probabilities(own, decisions.probabilities, decisions.best, sample)
    before, reliability_before = None, None
    if sorter.calibration.kind != "none" and not of_passages:
        plain = softmax(decisions.scores)
        before = _losses(own, plain)
        chosen = plain[np.arange(own.size), decisions.best]
        reliability_before = probability_measures.reliability(chosen, np.asarray(own == decisions.best), sample)
    return _Measures(
        judgement=judge(decided, sorter.plan.judge.beta),
        own=own,
        probability=probability,
        before=before,
        reliability_before=reliability_before,
        costs=_costs(sorter, decided, decisions.probabilities),
        undecided=decision_costs.undecided_of(decided, documents.undecided, sorter.plan.judge.beta),
    )


def _of_sets(documents: DecidedCorpus, sample: Sample) -> _Measures:
    """Where documents have sets of labels: a whole set is right or not, and having a label is judged for itself."""
    sorter = documents.sorter
    separator = sorter.plan.columns.label_separator
    own, given = ([labels_in(cell, separator) for cell in cells] for cells in (documents.true, documents.sorted_as))
    names = tuple(sorted({*sorter.labels, *(label for labels in own for label in labels)}))
    majority = sorter.labels[sorter.majority]
    decided = DecidedSets(
        own=np.array([[name in labels for name in names] for labels in own], dtype=bool),
        given=np.array([[name in labels for name in names] for labels in given], dtype=bool),
        labels=names,
        majority=majority,
        baseline=np.array([labels == {majority} for labels in own], dtype=bool),
        sample=sample,
    )
    return _Measures(judgement=judge_sets(decided, sorter.plan.judge.beta), own=np.full(len(own), -1, dtype=np.int64))


def _losses(own: Ints, probabilities: Floats) -> tuple[float, float] | None:
    """Mean log loss and Brier score over the documents whose label the sorter knows."""
    known = own >= 0
    if not known.any():
        return None
    return (
        float(probability_measures.log_losses(own[known], probabilities[known]).mean()),
        float(probability_measures.brier_terms(own[known], probabilities[known]).mean()),
    )


def _costs(sorter: TrainedSorter, decided: Decided, probabilities: Floats) -> decision_costs.CostSummary | None:
    """What the decisions cost, where costs are known for all labels that occur. probabilities: (n, k) in the sorter's labels."""
    costs, names = sorter.costs, decided.labels
    if costs is None or not {names[number] for number in np.unique(decided.true).tolist()} <= set(costs):
        return None
    number = np.array([names.index(label) for label in sorter.labels], dtype=np.int64)
    return decision_costs.summarise_costs(
        decision_costs.PricedDecisions(
            true=decided.true,
            sorted_as=decided.sorted_as,
            likeliest=number[probabilities.argmax(axis=1)],
            labels=names,
            table=np.array([[costs.get(a, {}).get(b, np.inf) for b in names] for a in names]),
            sample=decided.sample,
        )
    )
