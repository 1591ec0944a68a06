"""What a table of true against given labels says: accuracy, precision, recall, F1, confusions.

For a label: precision = right / given, recall = right / true (van Rijsbergen 1979, chapter 7), and

    F1 = 2 · right / (given + true),

the harmonic mean of the two; F-beta = (1 + β²) · right / (given + β² · true). A value is undefined where its denominator is zero,
and stays undefined. Of the whole table, with N documents:

- balanced accuracy: the mean recall of the labels that occur; macro precision and macro F: means over the labels for which they
  are defined; weighted F1: the mean weighted by support. Micro precision, recall and F1 of one label a document are the accuracy.
- Matthews' coefficient for k labels: (N · right − Σ true · given) / √((N² − Σ given²)(N² − Σ true²)) (Gorodkin 2004)
- Cohen's kappa: (accuracy − chance) / (1 − chance) with chance = Σ true · given / N² (Cohen 1960)
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
    f_beta: Rate
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
    baseline: the accuracy of always giving the label `majority`, on the same documents. others: further measures by name.
    """

    labels: tuple[str, ...]
    table: Ints
    accuracy: Rate
    baseline: Rate
    majority: str
    macro_f1: Rate
    others: dict[str, Rate]
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


WHOLE = ("balanced_accuracy", "macro_precision", "macro_f1", "weighted_f1", "macro_f_beta", "matthews", "kappa")
"""The measures of a whole table, in the order of `_of_tables`."""


def judge(
    true: Ints,
    given: Ints,
    labels: tuple[str, ...],
    baseline_right: int,
    majority: str,
    seed: int,
    beta: float = 1.0,
) -> Judgement:
    """Measure decisions against the true labels.

    true, given: (n,) label numbers. baseline_right: how many of these documents have the label that was commonest in
    training, `majority`. seed: of the bootstrap.
    """
    table = confusion_table(true, given, len(labels))
    right, supports, givens = np.diag(table), table.sum(axis=1), table.sum(axis=0)
    documents, k = int(table.sum()), len(labels)
    drawn = bootstrap(lambda tables: _of_tables(tables, beta), table, seed=seed)
    per_label = tuple(
        LabelMeasures(
            label,
            precision=wilson(int(right[number]), int(givens[number])),
            recall=wilson(int(right[number]), int(supports[number])),
            f1=drawn[number],
            f_beta=drawn[k + number],
            support=int(supports[number]),
            given=int(givens[number]),
        )
        for number, label in enumerate(labels)
    )
    whole = dict(zip(WHOLE, drawn[2 * k :], strict=True))
    return Judgement(
        labels,
        table,
        accuracy=wilson(int(right.sum()), documents),
        baseline=wilson(baseline_right, documents),
        majority=majority,
        macro_f1=whole.pop("macro_f1"),
        others=whole,
        per_label=per_label,
    )


def _of_tables(tables: Ints, beta: float) -> Floats:
    """(m, k, k) tables → (m, 2k + 7): F1 and F-beta of each label, then the measures of WHOLE; NaN where undefined."""
    right = np.einsum("mkk->mk", tables).astype(np.float64)
    true, given = tables.sum(axis=2).astype(np.float64), tables.sum(axis=1).astype(np.float64)
    n = true.sum(axis=1)

    def ratio(above: Floats, below: Floats) -> Floats:
        found: Floats = np.divide(above, below, out=np.full(above.shape, np.nan), where=below > 0)
        return found

    def mean_of_defined(values: Floats) -> Floats:
        defined = ~np.isnan(values)
        return ratio(np.where(defined, values, 0.0).sum(axis=1), defined.sum(axis=1).astype(np.float64))

    f1 = ratio(2.0 * right, given + true)
    f_beta = ratio((1.0 + beta**2) * right, given + beta**2 * true)
    chance = (true * given).sum(axis=1)
    all_right = right.sum(axis=1)
    spread = np.sqrt((n**2 - (given**2).sum(axis=1)) * (n**2 - (true**2).sum(axis=1)))
    whole = np.column_stack(
        (
            mean_of_defined(ratio(right, true)),
            mean_of_defined(ratio(right, given)),
            mean_of_defined(f1),
            ratio(np.where(true > 0, np.nan_to_num(f1) * true, 0.0).sum(axis=1), n),
            mean_of_defined(f_beta),
            ratio(n * all_right - chance, spread),
            ratio(n * all_right - chance, n**2 - chance),
        )
    )
    return np.column_stack((f1, f_beta, whole))
