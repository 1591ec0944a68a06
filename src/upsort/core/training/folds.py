"""A part of the documents to learn from, and others in the space that the part alone teaches; and folds inside the training
documents: for each, everything is learned anew from the others, and its own documents are judged.

What a sorter needs beyond its classifier (a penalty, probabilities, thresholds, a rule of deciding) is learned from what these
folds tell. Groups stay on one side here as in every split."""

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import replace

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Bools, Floats, Ints
from upsort.core.classifiers import families
from upsort.core.classifiers.families import sampled
from upsort.core.classifiers.family import FittedClassifier, TrainingData, scores_of
from upsort.core.classifiers.problem_arrays import targets_of
from upsort.core.errors import DataProblem
from upsort.core.executors import ParallelMap, sequential
from upsort.core.features.vocabulary import seen_words
from upsort.core.lazy import record
from upsort.core.matrices.partitioned import PartitionedMatrix, as_partitioned, local_matrix, merge_boundaries
from upsort.core.plan import Features, Plan
from upsort.core.text.step import Resources
from upsort.core.training.decision import PlanWithResources
from upsort.core.training.labelled import FeatureMatrix, LabelledDocuments, build_features
from upsort.core.training.sorter import blank_rows, by_share
from upsort.core.training.stratified_split import folds_of


@record(frozen=True)
class Split:
    """training, held_out: places of documents; together they need not be all."""

    training: Ints
    held_out: Ints


@record(frozen=True, kw_only=True)
class FoldData:
    """A part to learn from, and the rest to judge by.

    training: the part, labels that it lacks left out. seen: the same as numbers. held_out: (m,) places of the rest in the corpus;
    outside: (m, n_terms) as numbers; tokens: (m,) their words; seen_words: how many of those the part has too, 0 if terms are not
    words. in_corpus: (k′,) the corpus's number of each label of the part. labels: how many labels the corpus has."""

    training: LabelledDocuments
    seen: FeatureMatrix
    held_out: Ints
    outside: csr_array | PartitionedMatrix
    tokens: Ints
    seen_words: int
    in_corpus: Ints
    labels: int

    def spread_to_all_labels(self, values: Floats | Bools, missing: Floats | float = 0.0) -> Floats:
        """(m, k′) values of the part's labels as (m, k) of the corpus's. missing: of labels that the part lacks."""
        whole = np.empty((len(values), self.labels))
        whole[:] = np.reshape(missing, (-1, 1))
        whole[:, self.in_corpus] = values
        return whole

    def scores(self, fitted: FittedClassifier) -> Floats:
        """(m, k) the scores of the rest; a label that the part lacks has a lower one than all others."""
        scores = scores_of(fitted, self.outside)
        return self.spread_to_all_labels(scores, scores.min(axis=1) - np.ptp(scores) - 1.0)


def learn_from_part(documents: LabelledDocuments, split: Split, features: Features, resources: Resources) -> FoldData:
    """Learn from the training side alone how documents become numbers. features: settled.

    Raises DataProblem when that side has fewer than two labels, or no term within the bounds."""
    training = documents.rows(split.training).present()
    seen = build_features(training, features, resources)
    rest = documents.measured.rows(split.held_out)
    return FoldData(
        training=training,
        seen=seen,
        held_out=split.held_out,
        outside=seen.of(rest),
        tokens=rest.tokens,
        seen_words=seen_words(features, training.measured, rest.counts),
        in_corpus=np.array([documents.names.index(name) for name in training.names], dtype=np.int64),
        labels=len(documents.names),
    )


INNER_FOLDS = 3
"""How often a penalty or a plan is tried inside training documents."""

CALIBRATION_FOLDS = 5
"""Into how many folds documents are dealt to learn how scores become probabilities. Training on four fifths is near enough to
training on all that the scores are spread alike; of two thirds they are less extreme."""

ENOUGH = 1500
"""Held-out documents that are enough to learn one slope from, and to say how good a sorter is."""

ENOUGH_TO_CHOOSE = 10_000
"""Held-out documents that are enough to choose a penalty by. Where two of them disagree about two documents in a hundred, a
difference of 0.3% is two standard errors."""


WORK_OF_A_PART = 1 << 27
"""Words and, for each document, `_OVERHEAD` more, at least, over which the sums of a training are taken in one piece: a gigabyte
or two. Passes over several parts come together the more slowly the more parts there are."""

_OVERHEAD = 64  # numbers that a training keeps of a document beside those of its words, about

_FALLING = 3
_LOOSE = 1e-3
"""The tolerance that is enough to choose a penalty: on real counts (docs/scaling.md) the documents right were within 0.1% of
those to 1e-4, but for the smallest penalty of svm, and the penalty chosen was the same."""


@record(frozen=True)
class FoldPlan:
    """How training documents are dealt. enough: held-out documents, after which no further fold is made; None for all folds."""

    folds: int = INNER_FOLDS
    enough: int | None = None


def usable_splits(documents: LabelledDocuments, folds: int, seed: int) -> list[Split]:
    """As many splits as folds, those left out whose training side or held-out side could not be used."""
    fold = folds_of(documents.split_keys, folds, seed)
    splits = []
    for number in range(folds):
        split = Split(np.flatnonzero(fold != number), np.flatnonzero(fold == number))
        if split.held_out.size and not (documents.few_labels(split.training) and len(documents.names) > 1):
            splits.append(split)
    return splits


@record(frozen=True)
class InnerCV:
    """The folds, each learned from once, whatever is asked of them. documents: all of them."""

    documents: LabelledDocuments
    folds: Sequence[FoldData]

    @staticmethod
    def of(documents: LabelledDocuments, method: PlanWithResources, fold_plan: FoldPlan) -> "InnerCV":
        """Deal the documents and learn each fold's space; folds that leave nothing to learn from are left out. method: its plan
        settled."""
        made = usable_splits(documents, fold_plan.folds, method.plan.judge.seed)
        if fold_plan.enough is not None:
            held_out = np.cumsum([split.held_out.size for split in made])
            made = made[: int(np.searchsorted(held_out, fold_plan.enough)) + 1]
        folds = []
        for split in made:
            with suppress(DataProblem):  # a part may be left without terms where the whole is not
                folds.append(learn_from_part(documents, split, method.plan.features, method.resources))
        return InnerCV(documents, folds)

    def classifiers(self, number: int, plan: Plan, penalty: float) -> FittedClassifier:
        """The classifier of a fold."""
        fold_data = self.folds[number]
        return trained_on(fold_data.training, fold_data.seen.matrix, plan, penalty)

    def scores(self, plan: Plan, fitted: Sequence[FittedClassifier]) -> tuple[Bools, Floats]:
        """(n,) which documents a fold could judge, and (m, k) the scores of those, in their order, by a classifier that never saw
        them. fitted: the classifiers of all folds."""
        judged, parts = np.zeros(self.documents.documents, dtype=bool), [np.zeros((0, len(self.documents.names)))]
        for fold_data, classifier in zip(self.folds, fitted, strict=True):
            scores = fold_data.scores(classifier)
            if by_share(plan, int(blank_rows(fold_data.seen.matrix).sum())) and self.documents.sets is None:
                shares = np.log(np.bincount(fold_data.training.labels) / fold_data.training.documents)
                scores[blank_rows(fold_data.outside)] = fold_data.spread_to_all_labels(shares[None, :], shares.min() - 1.0)
            judged[fold_data.held_out] = True
            parts.append(scores)
        if len(parts) == 2:
            return judged, parts[1]
        places = np.concatenate([np.zeros(0, dtype=np.int64), *(fold_data.held_out for fold_data in self.folds)])
        return judged, np.concatenate(parts)[np.argsort(places)]

    def labels_were_learned(self) -> Bools:
        """(n,) which documents have a label that the training side of their fold has too."""
        learned = np.zeros(self.documents.documents, dtype=bool)
        for fold_data in self.folds:
            learned[fold_data.held_out] = np.isin(self.documents.labels[fold_data.held_out], fold_data.in_corpus)
        return learned

    def unknown_words(self) -> tuple[int, int]:
        """How many words the held-out documents have, and how many their folds' training sides do not know; 0 where terms are not
        words."""
        words = unknown = 0
        for fold_data in self.folds:
            mine = int(fold_data.tokens.sum())
            if fold_data.seen_words:
                words, unknown = words + mine, unknown + mine - fold_data.seen_words
        return words, unknown

    def best_penalty(self, plan: Plan, parallel: ParallelMap = sequential) -> float:
        """The penalty of the grid that gets most held-out documents right; of equals the largest.

        Down the grid a fold goes on until three penalties in succession get fewer right than one before; what not all folds have
        tried is out of the question. parallel: does the folds."""
        loose = replace(plan, classifier=replace(plan.classifier, tolerance=max(plan.classifier.tolerance, _LOOSE)))
        right = parallel(lambda number: self._right_along(number, loose), len(self.folds))
        tried = min(map(len, right), default=1)
        return families.PENALTIES[int(np.argmax(np.sum([counts[:tried] for counts in right], axis=0)))]

    def _right_along(self, number: int, plan: Plan) -> list[int]:
        """How many held-out documents of a fold each penalty gets right."""
        fold_data, right = self.folds[number], list[int]()
        own = self.documents.rows(fold_data.held_out)
        for fitted in families.path(training_data(fold_data.training, fold_data.seen.matrix, plan), plan.classifier):
            scores = fold_data.scores(fitted)
            if own.sets is not None:
                right.append(int(((scores > 0) == own.sets)[:, fold_data.in_corpus].sum()))
            else:
                right.append(int((scores.argmax(axis=1) == own.labels).sum()))
            if len(right) > _FALLING and max(right[-_FALLING:]) < max(right[:-_FALLING]):
                break
        return right


def trained_on(
    documents: LabelledDocuments, matrix: csr_array | PartitionedMatrix, plan: Plan, penalty: float
) -> FittedClassifier:
    """The classifier of a plan, trained from nothing on documents as numbers."""
    return families.train(training_data(documents, matrix, plan), plan.classifier, penalty)


def training_data(documents: LabelledDocuments, matrix: csr_array | PartitionedMatrix, plan: Plan) -> TrainingData:
    """What a classifier is trained on: the documents, sampled and weighted as the plan says.

    Many are in parts, which are joined of the blocks that they were read in, so that the same sums are taken whoever keeps them.
    """
    targets = targets_of(documents.labels, documents.names, plan.classifier, documents.weights, documents.sets)
    if plan.classifier.sampling != "none" and documents.sets is None:
        rows = sampled(documents.labels, len(documents.names), plan.classifier.sampling, plan.judge.seed)
        return TrainingData(csr_array(local_matrix(matrix)[rows]), targets.rows(rows), documents.names)
    return TrainingData(as_partitioned(matrix).repartition(_training_partitions(documents)), targets, documents.names)


def _training_partitions(documents: LabelledDocuments) -> Ints:
    """Where the parts begin, and the end: between blocks that were read."""
    measured = documents.measured
    if measured.blocks is None:
        return np.array([0, documents.documents], dtype=np.int64)
    work = np.concatenate(([0], np.cumsum(measured.tokens + _OVERHEAD)))[measured.blocks]
    return measured.blocks[merge_boundaries(work, WORK_OF_A_PART)]
