"""Sorters trained on growing parts of each fold's training documents, judged on the fold's held-out ones."""

from dataclasses import replace

import numpy as np

from upsort.core.arrays import Floats
from upsort.core.judging.protocol import SplitParts, outcome_of
from upsort.core.learning.apart import Split
from upsort.core.learning.dealing import shuffled
from upsort.core.learning.method import PlanWithResources
from upsort.core.records import record
from upsort.core.spreading import ParallelMap, sequential

SHARES = (0.05, 0.1, 0.2, 0.35, 0.5, 0.7, 1.0)
"""Of the training documents of a fold."""


@record(frozen=True)
class LearningCurveData:
    """sizes: (p,) mean number of documents trained on. held_out, training: (f, p) accuracies of each fold on its held-out and on
    its training documents. judged: documents held out in all."""

    sizes: Floats
    held_out: Floats
    training: Floats
    judged: int


def measure_learning_curve(
    parts: SplitParts, method: PlanWithResources, parallel: ParallelMap = sequential
) -> LearningCurveData:
    """Parts are drawn at random, each containing the smaller ones. Those of one label are left out, in all folds.

    spread: does the folds.
    """
    documents, plan = parts.documents, method.plan

    def of_fold(number: int) -> dict[float, tuple[int, float, float]]:
        split, accuracies = parts.splits[number], {}
        keys = documents.keys[split.training] if documents.keys is not None else None
        drawn = split.training[shuffled(split.training.size, plan.judge.seed + number, keys)]
        for share in SHARES:
            members = np.sort(drawn[: max(round(share * drawn.size), 1)])
            if documents.few_labels(members):
                continue
            least = min(plan.features.in_at_least, max(1, members.size // 50))  # tiny parts would be left without terms
            tried = replace(method, plan=replace(plan, features=replace(plan.features, in_at_least=least)))
            made = outcome_of(documents, Split(members, split.held_out), tried.for_labels())
            right = made.right(documents) / split.held_out.size
            training = (made.learned.right or 0) / members.size
            accuracies[share] = (members.size, right, training)
        return accuracies

    folds = parallel(of_fold, len(parts.splits))
    points = {share: [fold[share] for fold in folds if share in fold] for share in SHARES}
    rows = [rows for rows in points.values() if len(rows) == len(parts.splits)]
    table = np.array(rows, dtype=np.float64).reshape(len(rows), len(parts.splits), 3)
    return LearningCurveData(
        table[:, :, 0].mean(axis=1),
        table[:, :, 1].T,
        table[:, :, 2].T,
        int(np.unique(np.concatenate([split.held_out for split in parts.splits])).size),
    )
