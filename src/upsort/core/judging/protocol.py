"""The one protocol of judging: train on a part, decide about the rest, in the labels of the whole corpus.

Every figure about documents that a sorter has not seen comes from `outcome`: the quick check, cross-validation, comparisons,
nested choices, growth, suspects. Each training starts from nothing and sees its part alone.
"""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from upsort.core.arrays import Bools, Floats, Ints
from upsort.core.classifiers.families import resolved
from upsort.core.learning.apart import FoldData, Split, learn_from_part
from upsort.core.learning.labelled import LabelledDocuments
from upsort.core.learning.method import PlanWithResources
from upsort.core.learning.sorter import TrainedSorter
from upsort.core.learning.training import train_sorter
from upsort.core.plan import Features
from upsort.core.records import record
from upsort.core.text.resources import Resources


@record(frozen=True, kw_only=True)
class TrainingOutcome:
    """What is told of a sorter that is not kept. right: of its documents; terms: how many; bytes: of its classifier."""

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
    so. majority: the number of the commonest label of the training side.
    """

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
        undecided=decisions.undecided
        if decisions.undecided is not None
        else np.zeros(fold_data.held_out.size, dtype=bool),
        majority=int(fold_data.in_corpus[sorter.majority]),
    )


def _learned(sorter: TrainedSorter) -> TrainingOutcome:
    size = sum(array.nbytes for array in sorter.classifier.arrays().values())
    seen = sorter.trained
    return TrainingOutcome(
        right=seen.right,
        documents=seen.documents,
        terms=len(sorter.space.terms),
        reached=seen.ended.reached,
        bytes=size,
    )


def outcome_of(documents: LabelledDocuments, split: Split, method: PlanWithResources) -> FoldPrediction:
    """The same for a split of its own."""
    return outcome(SplitParts(documents, (split,)), 0, method)
