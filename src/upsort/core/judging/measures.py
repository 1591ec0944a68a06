"""What a table of true against given labels says: accuracy, precision, recall, F1, confusions.

For a label: precision = right / given, recall = right / true (van Rijsbergen 1979, chapter 7), and

    F1 = 2 · right / (given + true),

the harmonic mean of the two. A value is undefined where its denominator is zero, and stays undefined; macro F1 is the mean
over the labels that occur, as true or as given.
"""

from dataclasses import dataclass

import numpy as np

from upsort.core.arrays import Floats, Ints
from upsort.core.judging.intervals import Rate, bootstrap, wilson


@dataclass(frozen=True)
class LabelMeasures:
    """The measures of one label. support: documents that truly have it. given: documents that were given it."""

    label: str
    precision: Rate
    recall: Rate
    f1: Rate
    support: int
    given: int


@dataclass(frozen=True)
class Confusion:
    """Documents with label `true` that were given `given`, and that label's support."""

    true: str
    given: str
    documents: int
    of: int


@dataclass(frozen=True)
class Judgement:
    """All measures of one set of decisions.

    table: (k, k) counts, rows true labels, columns given labels, in the order of `labels`.
    baseline: the accuracy of always giving the label `majority`, on the same documents.
    """

    labels: tuple[str, ...]
    table: Ints
    accuracy: Rate
    baseline: Rate
    majority: str
    macro_f1: Rate
    per_label: tuple[LabelMeasures, ...]

    def largest_confusions(self, most: int = 3) -> list[Confusion]:
        """The most frequent pairs of true and wrongly given label, most documents first."""
        wrong = self.table.copy()
        np.fill_diagonal(wrong, 0)
        places = np.argsort(-wrong.reshape(-1), kind="stable")[:most].tolist()
        pairs = [divmod(place, len(self.labels)) for place in places]
        supports = self.table.sum(axis=1)
        return [
            Confusion(self.labels[true], self.labels[given], int(wrong[true, given]), int(supports[true]))
            for true, given in pairs
            if wrong[true, given]
        ]


def confusion_table(true: Ints, given: Ints, n_labels: int) -> Ints:
    """(k, k) counts of documents by true label (rows) and given label (columns)."""
    cells = np.bincount(true * n_labels + given, minlength=n_labels * n_labels)
    return cells.reshape(n_labels, n_labels).astype(np.int64)


def judge(
    true: Ints,
    given: Ints,
    labels: tuple[str, ...],
    baseline_right: int,
    majority: str,
    seed: int,
) -> Judgement:
    """Measure decisions against the true labels.

    true, given: (n,) label numbers. baseline_right: how many of these documents have the label that was commonest in
    training, `majority`. seed: of the bootstrap.
    """
    table = confusion_table(true, given, len(labels))
    right, supports, givens = np.diag(table), table.sum(axis=1), table.sum(axis=0)
    documents = int(table.sum())
    f1 = bootstrap(_f1_and_macro, table, seed=seed)
    per_label = tuple(
        LabelMeasures(
            label,
            precision=wilson(int(right[k]), int(givens[k])),
            recall=wilson(int(right[k]), int(supports[k])),
            f1=f1[k],
            support=int(supports[k]),
            given=int(givens[k]),
        )
        for k, label in enumerate(labels)
    )
    return Judgement(
        labels,
        table,
        accuracy=wilson(int(right.sum()), documents),
        baseline=wilson(baseline_right, documents),
        majority=majority,
        macro_f1=f1[-1],
        per_label=per_label,
    )


def _f1_and_macro(tables: Ints) -> Floats:
    """(m, k, k) tables → (m, k + 1): F1 of each label, then their mean over the labels that occur."""
    right = np.einsum("mkk->mk", tables)
    occurring = tables.sum(axis=1) + tables.sum(axis=2)
    f1 = np.full(right.shape, np.nan)
    np.divide(2.0 * right, occurring, out=f1, where=occurring > 0)
    defined = ~np.isnan(f1)
    total = np.where(defined, f1, 0.0).sum(axis=1)
    macro = np.full(len(f1), np.nan)
    np.divide(total, defined.sum(axis=1), out=macro, where=defined.any(axis=1))
    return np.column_stack((f1, macro))
