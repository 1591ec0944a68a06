"""The one protocol of judging: train on a part, decide about the rest, in the labels of the whole corpus.

Every figure about documents that a sorter has not seen comes from `outcome`: the quick check, cross-validation, comparisons,
nested choices, growth, suspects. Each training starts from nothing and sees its part alone.

Cross-validation: each document judged by a sorter that never saw it.

The text is counted once for all folds. Everything that is learned (vocabulary, bounds, document frequencies, weights) is learned
by `protocol.outcome` from the rows of each fold's training side, from nothing."""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from upsort.core.arrays import Bools, Floats, Ints
from upsort.core.classifiers.families import resolved
from upsort.core.evaluation.decision_costs import CostSummary, PricedDecisions, Undecided, summarise_costs, undecided_of
from upsort.core.evaluation.intervals import Rate, Sample, of_known, share_of
from upsort.core.evaluation.measure_list import JudgedEvidence
from upsort.core.evaluation.measures import Decided, Judgement, judge
from upsort.core.evaluation.novelty import SimilarityRates, rates_by_similarity
from upsort.core.evaluation.probability_measures import ProbabilityMeasures, judge_probabilities
from upsort.core.evaluation.set_measures import DecidedSets, judge_sets
from upsort.core.executors import ParallelMap, sequential
from upsort.core.lazy import record
from upsort.core.plan import Features
from upsort.core.text.step import Resources
from upsort.core.training.decision import Costs, PlanWithResources, cost_table
from upsort.core.training.folds import FoldData, Split, learn_from_part
from upsort.core.training.labelled import LabelledDocuments
from upsort.core.training.sorter import TrainedSorter
from upsort.core.training.train_sorter import train_sorter


@record(frozen=True, kw_only=True)
class TrainingOutcome:
    """The report on a sorter that is not kept. right: of its documents; terms: how many; bytes: of its classifier."""

    right: int | None
    documents: int
    terms: int
    reached: bool
    bytes: int


@record(frozen=True, kw_only=True)
class FoldPrediction:
    """What a sorter that was trained on one side of a split says of the other; m documents held out, k labels in the corpus.

    held_out: (m,) places of documents. sorted_as: (m,) label numbers of the corpus. sets: (m, k) the labels given, where
    documents may have several. probabilities: (m, k), 0 for labels that the training side lacks. undecided: (m,) which are left
    so. majority: the number of the most common label of the training side."""

    learned: TrainingOutcome
    held_out: Ints
    sorted_as: Ints
    sets: Bools | None
    probabilities: Floats
    undecided: Bools
    majority: int

    def right(self, documents: LabelledDocuments) -> int:
        """How many of the held-out documents were given their own label, or their own labels and no other."""
        return int(documents.right(self.held_out, self.sorted_as, self.sets).sum())


class SplitParts:
    """The two sides of each split as numbers, learned once for all candidates that ask for the same features."""

    def __init__(self, documents: LabelledDocuments, splits: Sequence[Split]) -> None:
        self.documents = documents
        self.splits = splits
        self._known: dict[tuple[int, Features], FoldData] = {}

    def of(self, number: int, features: Features, resources: Resources) -> FoldData:
        """A split, as the features represent it. features: settled."""
        if (number, features) not in self._known:
            self._known[number, features] = learn_from_part(self.documents, self.splits[number], features, resources)
        return self._known[number, features]


def outcome(parts: SplitParts, number: int, method: PlanWithResources) -> FoldPrediction:
    """Train on one side of a split and decide about the other, as the sorter itself decides."""
    plan = resolved(method.plan)
    fold_data = parts.of(number, plan.features, method.resources)
    sorter, _ = train_sorter(fold_data.training, replace(method, plan=plan), fold_data.seen)
    decisions = sorter.decide_rows(fold_data.outside)
    return FoldPrediction(
        learned=_learned(sorter),
        held_out=fold_data.held_out,
        sorted_as=fold_data.in_corpus[decisions.best],
        sets=fold_data.spread_to_all_labels(decisions.sets) > 0 if decisions.sets is not None else None,
        probabilities=fold_data.spread_to_all_labels(decisions.probabilities),
        undecided=decisions.undecided if decisions.undecided is not None else np.zeros(fold_data.held_out.size, dtype=bool),
        majority=int(fold_data.in_corpus[sorter.majority]),
    )


def _learned(sorter: TrainedSorter) -> TrainingOutcome:
    size = sum(array.nbytes for array in sorter.classifier.arrays().values())
    seen = sorter.trained
    return TrainingOutcome(
        right=seen.right, documents=seen.documents, terms=len(sorter.space.terms), reached=seen.ended.reached, bytes=size
    )


def outcome_of(documents: LabelledDocuments, split: Split, method: PlanWithResources) -> FoldPrediction:
    """The same for a split of its own."""
    return outcome(SplitParts(documents, (split,)), 0, method)


@record(frozen=True, kw_only=True)
class FoldResult:
    """One fold: its accuracy on its held-out documents next to that on its training documents. bytes: of the classifier."""

    accuracy: Rate
    baseline: Rate
    training_accuracy: Rate
    terms: int
    reached: bool
    bytes: int


@record(frozen=True, kw_only=True)
class CrossValidation:
    """All folds.

    judged: (m,) the documents that were held out, fold by fold. fold: (m,) in which. sorted_as, sets, probabilities: (m,), (m, k)
    and (m, k) the label number each was given, the labels where it may have several, and the probabilities, by a sorter that
    never saw it. right: (m,) which were given their own. sample: which documents those are. probability: None where documents may
    have several labels. costs: of the decisions, where there is a table of them. undecided: where the plan leaves documents so.
    by_similarity: to the nearest training document, where that is known."""

    overall: Judgement
    probability: ProbabilityMeasures | None
    folds: tuple[FoldResult, ...]
    judged: Ints
    fold: Ints
    sorted_as: Ints
    sets: Bools | None
    probabilities: Floats
    right: Bools
    sample: Sample
    costs: CostSummary | None = None
    undecided: Undecided | None = None
    by_similarity: SimilarityRates | None = None

    @property
    def evidence(self) -> JudgedEvidence:
        """What measures are made from."""
        return JudgedEvidence(self.overall, self.probability, self.costs, self.undecided)

    def deviation(self) -> float | None:
        """The standard deviation of the folds' accuracies; None where they hold out one document each."""
        alone = all(fold.accuracy.of == 1 for fold in self.folds)
        return float(np.std(self.accuracies(), ddof=1)) if len(self.folds) > 1 and not alone else None

    def accuracies(self) -> list[float]:
        """The accuracy of each fold."""
        return [fold.accuracy.value or 0.0 for fold in self.folds]

    def times_right(self) -> Ints:
        """(n,) how often each of the judged documents was given its own label, in the order of their places."""
        mine = np.bincount(self.sample.document, weights=self.right.astype(np.float64), minlength=self.sample.documents)
        return np.rint(mine).astype(np.int64)


def judge_by_folds(
    parts: SplitParts,
    method: PlanWithResources,
    repeats: int = 1,
    similarity: Floats | None = None,
    parallel: ParallelMap = sequential,
) -> CrossValidation:
    """Judge a plan on the splits of `parts`. repeats: how often each document is held out. similarity: as in `validation_of`.
    parallel: does the folds."""
    outcomes = parallel(lambda number: outcome(parts, number, method), len(parts.splits))
    return validation_of(outcomes, parts.documents, method, repeats, similarity=similarity)


def validation_of(
    outcomes: Sequence[FoldPrediction],
    documents: LabelledDocuments,
    method: PlanWithResources,
    repeats: int = 1,
    costs: Costs | None = None,
    similarity: Floats | None = None,
) -> CrossValidation:
    """The outcomes of all splits of a plan together. As `judge_by_folds`. similarity: (m,) of the held-out documents, split by
    split, to the nearest training document."""
    plan = method.plan
    names = documents.names
    judged = np.concatenate([prediction.held_out for prediction in outcomes])
    sorted_as = np.concatenate([prediction.sorted_as for prediction in outcomes])
    probabilities = np.concatenate([prediction.probabilities for prediction in outcomes])
    majority = np.concatenate([np.full(prediction.held_out.size, prediction.majority) for prediction in outcomes])
    sample = Sample.of(judged, repeats, documents.groups)
    sets = _joined_sets([_joined_sets.sets for _joined_sets in outcomes])
    right = documents.right(judged, sorted_as, sets)
    alone = all(prediction.held_out.size == 1 for prediction in outcomes)
    if alone:  # without a document its own label is often no longer the most common, which would tell against the baseline
        majority = np.full(judged.size, documents.label_documents.argmax())
    most_common = names[majority[0]] if np.unique(majority).size == 1 else ""
    probability, undecided, spent = None, None, None
    if documents.sets is not None and sets is not None:
        decided_sets = DecidedSets(
            own=documents.sets[judged],
            given=sets,
            labels=names,
            majority=most_common,
            baseline=documents.right(judged, majority, documents.only_label(majority)),
            sample=sample,
            majority_in_training=not alone,
        )
        overall = judge_sets(decided_sets, plan.judge.beta)
    else:
        true = documents.labels[judged]
        decided = Decided(
            true=true,
            sorted_as=sorted_as,
            labels=names,
            majority=most_common,
            baseline=np.asarray(majority == true),
            sample=sample,
            majority_in_training=not alone,
        )
        overall = judge(decided, plan.judge.beta)
        probability = judge_probabilities(true, probabilities, sorted_as, sample)
        undecided = undecided_of(decided, np.concatenate([prediction.undecided for prediction in outcomes]), plan.judge.beta)
        spent = _costs(decided, probabilities, costs if costs is not None else method.costs)
    return CrossValidation(
        overall=overall,
        probability=probability,
        folds=tuple(_fold(prediction, documents) for prediction in outcomes),
        judged=judged,
        fold=np.concatenate([np.full(prediction.held_out.size, number) for number, prediction in enumerate(outcomes)]),
        sorted_as=sorted_as,
        sets=sets,
        probabilities=probabilities,
        right=right,
        sample=sample,
        undecided=undecided,
        costs=spent,
        by_similarity=rates_by_similarity(similarity, right, sample, plan.judge.similarity) if similarity is not None else None,
    )


def _joined_sets(sets: Sequence[Bools | None]) -> Bools | None:
    """The labels given on all splits, where documents may have several."""
    given = [labels for labels in sets if labels is not None]
    return np.concatenate(given) if given else None


def _costs(decided: Decided, probabilities: Floats, costs: Costs | None) -> CostSummary | None:
    table = cost_table(costs, decided.labels) if costs is not None else None
    if table is None:
        return None
    return summarise_costs(
        PricedDecisions(
            true=decided.true,
            sorted_as=decided.sorted_as,
            likeliest=probabilities.argmax(axis=1),
            labels=decided.labels,
            table=table,
            sample=decided.sample,
        )
    )


def _fold(prediction: FoldPrediction, documents: LabelledDocuments) -> FoldResult:
    learned, rows = prediction.learned, prediction.held_out
    sample, every = Sample.of(rows, 1, documents.groups), np.ones(rows.size)
    right = documents.right(rows, prediction.sorted_as, prediction.sets)
    majority = np.full(rows.size, prediction.majority)
    baseline = documents.right(rows, majority, documents.only_label(majority))
    return FoldResult(
        accuracy=share_of(right.astype(np.float64), every, sample),
        baseline=share_of(baseline.astype(np.float64), every, sample),
        training_accuracy=of_known(learned.right, learned.documents),
        terms=learned.terms,
        reached=learned.reached,
        bytes=learned.bytes,
    )
