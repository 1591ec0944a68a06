"""Cross-validation: each document judged by a sorter that never saw it.

The text is counted once for all folds. Everything that is learned (vocabulary, bounds, document frequencies, weights) is
learned by `training.fit` from the rows of each fold's training part.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Bools, Floats, Ints
from upsort.core.classifiers.fitted import Fitted
from upsort.core.classifiers.linear import Linear, LinearRule
from upsort.core.judging.intervals import Rate, of_known, wilson
from upsort.core.judging.measures import Judgement, judge
from upsort.core.judging.probability_measures import ProbabilityMeasures, judge_probabilities
from upsort.core.judging.splits import Split
from upsort.core.plan import Features, Plan
from upsort.core.sorter import Sorter
from upsort.core.text.word_steps import Resources
from upsort.core.training import Labelled, Represented, fit, represent, represented


@dataclass(frozen=True)
class FoldResult:
    """One fold: its accuracy on its held-out documents beside that on its training documents. bytes: of the classifier."""

    accuracy: Rate
    baseline: Rate
    training_accuracy: Rate
    terms: int
    reached: bool
    bytes: int


@dataclass(frozen=True)
class CrossValidation:
    """All folds.

    judged: (m,) the documents that were held out, fold by fold. fold: (m,) in which. given, probabilities: (m,) and (m, k) the
    label number each was given and the probabilities, by a sorter that never saw it.
    """

    overall: Judgement
    probability: ProbabilityMeasures
    folds: tuple[FoldResult, ...]
    judged: Ints
    fold: Ints
    given: Ints
    probabilities: Floats

    def spread(self) -> float:
        """The standard deviation of the folds' accuracies."""
        return float(np.std(self.accuracies(), ddof=1)) if len(self.folds) > 1 else 0.0

    def accuracies(self) -> list[float]:
        """The accuracy of each fold."""
        return [fold.accuracy.value or 0.0 for fold in self.folds]

    def right(self, labels: Ints) -> Bools:
        """(m,) which of the judged documents were given their own label. labels: (n,) of all documents."""
        return np.asarray(self.given == labels[self.judged])


class FoldSpaces:
    """The training part of each fold as numbers, learned once for all candidates that ask for the same features."""

    def __init__(self, documents: Labelled, splits: Sequence[Split]) -> None:
        self.documents = documents
        self.splits = splits
        self.known: dict[tuple[int, Features], tuple[Labelled, Represented, csr_array]] = {}

    def of(
        self, number: int, features: Features, resources: Resources | None
    ) -> tuple[Labelled, Represented, csr_array]:
        """The training documents of a fold, as they are represented, and the held-out documents in the same space."""
        if (number, features) not in self.known:
            split = self.splits[number]
            training = self.documents.rows(split.training).present()
            seen = represent(training, features, resources)
            outside = represented(seen.space, seen.kept, self.documents.measured.rows(split.held_out))
            self.known[number, features] = (training, seen, outside)
        return self.known[number, features]


def cross_validate(
    documents: Labelled,
    plan: Plan,
    splits: Sequence[Split],
    resources: Resources | None = None,
    progress: Callable[[int], None] | None = None,
    spaces: FoldSpaces | None = None,
) -> CrossValidation:
    """Judge a plan. spaces: of the same splits, to share."""
    plan = plan.settled()
    spaces = spaces or FoldSpaces(documents, splits)
    results, judged, folds, given, probabilities = [], [], [], [], []
    baseline_right = 0
    first: tuple[Sorter, Represented] | None = None
    for number, split in enumerate(splits):
        out = split.held_out
        training, seen, outside = spaces.of(number, plan.features, resources)
        start = _carried(first, training, seen) if first is not None else None
        sorter, _ = fit(training, plan, resources, start, seen)
        first = first or (sorter, seen)
        unknown = np.zeros(out.size)
        decisions = sorter.decisions(sorter.classifier.scores(outside), documents.measured.tokens[out], unknown)
        in_names = np.array([documents.names.index(label) for label in sorter.labels], dtype=np.int64)
        mine = in_names[decisions.best]
        whole = np.zeros((out.size, len(documents.names)))
        whole[:, in_names] = decisions.probabilities
        in_baseline = int((documents.labels[out] == in_names[sorter.majority]).sum())
        baseline_right += in_baseline
        results.append(
            FoldResult(
                accuracy=wilson(int((mine == documents.labels[out]).sum()), out.size),
                baseline=wilson(in_baseline, out.size),
                training_accuracy=of_known(sorter.trained.right, sorter.trained.documents),
                terms=len(sorter.space.terms),
                reached=sorter.trained.ended.reached,
                bytes=sum(array.nbytes for array in sorter.classifier.arrays().values()),
            )
        )
        judged.append(out)
        folds.append(np.full(out.size, number))
        given.append(mine)
        probabilities.append(whole)
        if progress is not None:
            progress(number + 1)
    names = documents.names
    most = names[int(np.argmax(np.bincount(documents.labels, minlength=len(names))))]
    places, decided = np.concatenate(judged), np.concatenate(given)
    overall = judge(documents.labels[places], decided, names, baseline_right, most, plan.judge.seed, plan.judge.beta)
    likely = np.concatenate(probabilities)
    measured = judge_probabilities(documents.labels[places], likely, decided, plan.judge.seed)
    return CrossValidation(overall, measured, tuple(results), places, np.concatenate(folds), decided, likely)


def _carried(first: tuple[Sorter, Represented], training: Labelled, seen: Represented) -> Fitted | None:
    """The first fold's weights in another fold's space: where its training begins, so that it has less far to go."""
    sorter, before = first
    if not isinstance(sorter.classifier, Linear) or sorter.labels != training.names:
        return None
    if sorter.plan.classifier.kind == "weighted-svm" or before.space.counted != len(before.space.terms):
        return None
    weights = np.zeros((len(seen.space.terms), len(sorter.labels)))
    place = np.searchsorted(before.kept, seen.kept)
    shared = (place < before.kept.size) & (before.kept[np.minimum(place, before.kept.size - 1)] == seen.kept)
    weights[: seen.kept.size][shared] = sorter.classifier.rule.weights[place[shared]]
    return Linear(LinearRule(weights, sorter.classifier.rule.intercept))
