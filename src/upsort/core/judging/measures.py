"""What a table of true against given labels says: accuracy, precision, recall, F1, confusions.

For a label: precision = right / given, recall = right / true (van Rijsbergen 1979, chapter 7), and

F1 = 2 · right / (given + true),

the harmonic mean of the two; F-beta = (1 + β²) · right / (given + β² · true). A value is undefined where its denominator is
zero, and stays undefined. Of the whole table, with N documents:

- balanced accuracy: the mean recall of the labels that occur; macro precision and macro F: means over the labels for which they
  are defined; weighted F1: the mean weighted by support. Micro precision, recall and F1 of one label a document are the accuracy.
- Matthews' coefficient for k labels: (N · right − Σ true · given) / √((N² − Σ given²)(N² − Σ true²)) (Gorodkin 2004)
- Cohen's kappa: (accuracy − chance) / (1 − chance) with chance = Σ true · given / N² (Cohen 1960)
"""

from dataclasses import dataclass

import numpy as np

from upsort.core.arrays import Bools, Floats, Ints
from upsort.core.judging.intervals import Rate, bootstrap, resampled_groups, resampled_tables, share_of
from upsort.core.judging.sample import Sample


@dataclass(frozen=True, kw_only=True)
class LabelMeasures:
    """The measures of one label. support: documents that truly have it. given: documents that were given it."""

    label: str
    precision: Rate
    recall: Rate
    f1: Rate
    f_beta: Rate
    support: int
    given: float


@dataclass(frozen=True)
class Confusion:
    """Documents with label `true` that were given `given`, and that label's support."""

    true: str
    given: str
    documents: float
    of: int


@dataclass(frozen=True, kw_only=True)
class Judgement:
    """All measures of one set of decisions.

    table: (k, k) counts, rows true labels, columns given labels, in the order of `labels`. baseline: the accuracy of always
    giving the label `majority` (where it is empty, the commonest of each training), on the same documents. others: further
    measures by name. repeats: how often each document was judged; all counts are means over them. groups: how many groups of
    documents that belong together there are; None where all stand alone.
    """

    labels: tuple[str, ...]
    table: Ints | Floats
    accuracy: Rate
    baseline: Rate
    majority: str
    macro_f1: Rate
    others: dict[str, Rate]
    per_label: tuple[LabelMeasures, ...]
    repeats: int = 1
    groups: int | None = None

    def largest_confusions(self) -> list[Confusion]:
        """The most frequent pairs of true and wrongly given label, most documents first."""
        wrong = self.table.copy()
        np.fill_diagonal(wrong, 0)
        places = np.argsort(-wrong.reshape(-1), kind="stable")[:_MOST_CONFUSIONS].tolist()
        pairs = [divmod(place, len(self.labels)) for place in places]
        supports = self.table.sum(axis=1)
        return [
            Confusion(self.labels[true], self.labels[given], wrong[true, given].item(), round(float(supports[true])))
            for true, given in pairs
            if wrong[true, given]
        ]


@dataclass(frozen=True, kw_only=True)
class Decided:
    """m decisions to be judged.

    true, given: (m,) label numbers into `labels`. majority: the label that was commonest in training, empty where trainings
    differ in it; baseline: (m,) whether it is the document's own. sample: which documents the decisions are about.
    """

    true: Ints
    given: Ints
    labels: tuple[str, ...]
    majority: str
    baseline: Bools
    sample: Sample


WHOLE = ("balanced_accuracy", "macro_precision", "macro_f1", "weighted_f1", "macro_f_beta", "matthews", "kappa")
"""The measures of a whole table, in the order of `_of_tables`."""
_RESAMPLES = 1000
_MOST_CONFUSIONS = 3


def judge(decided: Decided, seed: int, beta: float = 1.0) -> Judgement:
    """Measure decisions against the true labels. seed: of the bootstrap."""
    true, given, k, sample = decided.true, decided.given, len(decided.labels), decided.sample
    cells = true * k + given
    counts = np.bincount(cells, minlength=k * k).reshape(k, k).astype(np.int64)
    table: Floats = counts / sample.repeats
    if sample.plain:
        drawn: Floats = resampled_tables(counts, _RESAMPLES, seed).astype(np.float64)
    else:
        drawn = resampled_groups(cells, k, sample, _RESAMPLES, seed)
    rates = bootstrap(lambda tables: _of_tables(tables, beta), table, drawn)
    right = (true == given).astype(np.float64)
    supports = np.bincount(true, minlength=k) / sample.repeats
    per_label = tuple(
        LabelMeasures(
            label=label,
            precision=share_of(right * (given == number), (given == number).astype(np.float64), sample),
            recall=share_of(right * (true == number), (true == number).astype(np.float64), sample),
            f1=rates[number],
            f_beta=rates[k + number],
            support=round(float(supports[number])),
            given=_tidy(float(table[:, number].sum())),
        )
        for number, label in enumerate(decided.labels)
    )
    whole = dict(zip(WHOLE, rates[2 * k :], strict=True))
    every = np.ones(true.size)
    return Judgement(
        labels=decided.labels,
        table=counts if sample.repeats == 1 else table,
        accuracy=share_of(right, every, sample),
        baseline=share_of(decided.baseline.astype(np.float64), every, sample),
        majority=decided.majority,
        macro_f1=whole.pop("macro_f1"),
        others=whole,
        per_label=per_label,
        repeats=sample.repeats,
        groups=sample.groups if sample.group is not None else None,
    )


def _tidy(count: float) -> float:
    return round(count) if abs(count - round(count)) < 1e-9 else count


def _of_tables(tables: Floats | Ints, beta: float) -> Floats:
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
