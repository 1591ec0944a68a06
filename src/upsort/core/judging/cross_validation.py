"""Cross-validation: each document judged by a sorter that never saw it.

The text is counted once for all folds. Everything that is learned (vocabulary, bounds, document frequencies, weights) is
learned by `training.fit` from the rows of each fold's training part.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from upsort.core.arrays import Ints
from upsort.core.features.measured import Measured
from upsort.core.judging.folds import stratified_folds
from upsort.core.judging.intervals import Rate, wilson
from upsort.core.judging.measures import Judgement, judge
from upsort.core.plan import Plan
from upsort.core.text.word_steps import Resources
from upsort.core.training import fit, represented


@dataclass(frozen=True)
class FoldResult:
    """One fold: its accuracy on its held-out documents beside that on its training documents."""

    accuracy: Rate
    baseline: Rate
    training_accuracy: Rate
    terms: int
    reached: bool


@dataclass(frozen=True)
class CrossValidation:
    """All folds. fold and given: (n,) each document's fold and the label number it was given out of fold."""

    overall: Judgement
    folds: tuple[FoldResult, ...]
    fold: Ints
    given: Ints

    def spread(self) -> float:
        """The standard deviation of the folds' accuracies."""
        return float(np.std([fold.accuracy.value or 0.0 for fold in self.folds], ddof=1))


def cross_validate(
    measured: Measured,
    labels: Ints,
    names: tuple[str, ...],
    plan: Plan,
    progress: Callable[[int], None] | None = None,
    resources: Resources | None = None,
) -> CrossValidation:
    """Judge a plan by `plan.judge.folds` stratified folds.

    measured: all documents. labels: (n,) numbers into `names`.
    """
    fold = stratified_folds(labels, names, plan.judge.folds, plan.judge.seed)
    given = np.empty_like(labels)
    results = []
    baseline_right = 0
    for number in range(plan.judge.folds):
        held = fold == number
        sorter, training = fit(measured.rows(~held), labels[~held], names, plan, resources)
        scores = sorter.classifier.rule.scores(represented(training.space, training.kept, measured.rows(held)))
        in_names = np.array([names.index(label) for label in sorter.labels], dtype=np.int64)
        given[held] = in_names[scores.argmax(axis=1)]
        majority = names.index(sorter.labels[sorter.majority])
        in_baseline = int((labels[held] == majority).sum())
        baseline_right += in_baseline
        size = int(held.sum())
        results.append(
            FoldResult(
                accuracy=wilson(int((given[held] == labels[held]).sum()), size),
                baseline=wilson(in_baseline, size),
                training_accuracy=wilson(sorter.trained.right, sorter.trained.documents),
                terms=len(sorter.space.terms),
                reached=sorter.trained.reached,
            )
        )
        if progress is not None:
            progress(number + 1)
    most = names[int(np.argmax(np.bincount(labels, minlength=len(names))))]
    return CrossValidation(
        judge(labels, given, names, baseline_right, most, plan.judge.seed), tuple(results), fold, given
    )
