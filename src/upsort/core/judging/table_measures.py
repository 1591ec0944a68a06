"""Measures of a table of true against given labels as a whole, each with what one more document in a cell would change.

With pᵢⱼ the share of documents of label i that were given j, rᵢ = pᵢᵢ, tᵢ and gⱼ the shares of true and of given labels, and
the influence of a cell its derivative less the mean derivative (Hampel 1974):

- balanced accuracy: the mean recall rᵢ / tᵢ of the labels that occur
- macro precision, macro F: the means of rⱼ / gⱼ and of (1 + β²) rᵢ / (gᵢ + β² tᵢ) over the labels for which they are defined
- weighted F1: Σ tᵢ F1ᵢ
- Matthews' coefficient for k labels: (Σ r − Σ t g) / √((1 − Σ g²)(1 − Σ t²)) (Gorodkin 2004)
- Cohen's kappa: (Σ r − Σ t g) / (1 − Σ t g) (Cohen 1960)
"""

import numpy as np

from upsort.core.arrays import Floats, Ints
from upsort.core.judging.intervals import UNKNOWN, Rate, design_effect, satterthwaite, score_interval, student
from upsort.core.judging.sample import Sample
from upsort.core.records import record

WHOLE = ("balanced_accuracy", "macro_precision", "macro_f1", "weighted_f1", "macro_f_beta", "matthews", "kappa")
"""The measures of a whole table."""

_COEFFICIENTS = ("matthews", "kappa")  # from −1 to 1, the others from 0
_SPARE = 2.0  # documents of mistakes, spread evenly, that a table is given before its variance is taken


@record(frozen=True)
class TableMeasure:
    """value: of the measure, None where it is not defined. influences: (k, k) of the cells."""

    value: float | None
    influences: Floats


def whole_rates(table: Floats, cells: Ints, sample: Sample, beta: float) -> dict[str, Rate]:
    """The measures of WHOLE with their intervals, by name.

    table: (k, k) counts, rows true. cells: (m,) true · k + given of each decision. Before a variance is taken the table gets
    two more documents of mistakes, so that one without mistakes does not pass for certain.
    """
    occur = (table.sum(axis=0) + table.sum(axis=1)) > 0
    wrong = np.outer(occur, occur) & ~np.eye(len(table), dtype=bool)
    spare = wrong * (_SPARE / max(int(wrong.sum()), 1))
    rates, variances = measured_of(table, table, beta), measured_of(table + spare, table, beta)
    return {name: _rate(name, rates[name].value, variances[name], table + spare, cells, sample) for name in WHOLE}


def _rate(name: str, value: float | None, smoothed: TableMeasure, table: Floats, cells: Ints, sample: Sample) -> Rate:
    if value is None or smoothed.value is None:
        return UNKNOWN
    least, span = (-1.0, 2.0) if name in _COEFFICIENTS else (0.0, 1.0)
    n = float(table.sum())
    parts = table * (smoothed.influences / span) ** 2
    variance = float(parts.sum()) / n**2
    middle = (smoothed.value - least) / span
    if variance <= 0:  # the same whatever is given, as with one label
        return Rate(value=value, low=None, high=None)
    of_decisions = sample.mean(smoothed.influences.reshape(-1)[cells])
    mistakes = n - float(np.trace(table))
    effect = design_effect(of_decisions - of_decisions.mean(), np.ones(sample.documents), sample, mistakes)
    degrees = min(
        satterthwaite(parts.sum(axis=1), table.sum(axis=1)), satterthwaite(parts.sum(axis=0), table.sum(axis=0))
    )
    effective = middle * (1.0 - middle) / variance / effect
    low, high = score_interval((value - least) / span, effective, student(degrees))
    return Rate(value=value, low=least + span * low, high=least + span * high)


def measured_of(table: Floats, occurring: Floats, beta: float) -> dict[str, TableMeasure]:
    """The measures of WHOLE. table: (k, k). occurring: the table that says which labels occur, truly and as given."""
    k, n = len(table), float(table.sum())
    p = table / max(n, 1e-300)
    r, t, g = np.diag(p), p.sum(axis=1), p.sum(axis=0)
    true, sorted_as = occurring.sum(axis=1) > 0, occurring.sum(axis=0) > 0
    own = np.eye(k)

    def ratio(above: Floats, denominator: Floats) -> Floats:
        ratios: Floats = np.divide(
            above, denominator, out=np.zeros(np.broadcast(above, denominator).shape), where=denominator > 0
        )
        return ratios

    def mean(values: Floats, defined: Floats) -> float | None:
        return float(values[defined].mean()) if defined.any() else None

    recall, precision = ratio(r, t), ratio(r, g)
    of_recall = (own - recall[:, None]) * ratio(true / max(int(true.sum()), 1), t)[:, None]
    of_precision = (own - precision[None, :]) * ratio(sorted_as / max(int(sorted_as.sum()), 1), g)[None, :]

    def of_f(b: float, weights: Floats) -> tuple[Floats, Floats]:
        """F of each label, and the derivative of Σ weights · F."""
        denominator = g + b**2 * t
        f = ratio((1.0 + b**2) * r, denominator)
        share = ratio(weights, denominator)
        return f, (1.0 + b**2) * own * share[:, None] - (f * share)[None, :] - b**2 * (f * share)[:, None]

    either = np.asarray(true | sorted_as)
    evenly = either / max(int(either.sum()), 1)
    f1, of_macro = of_f(1.0, evenly)
    f_beta, of_beta = of_f(beta, evenly)
    _, of_weighted = of_f(1.0, t)
    right, chance = float(r.sum()), float((t * g).sum())
    of_chance = g[:, None] + t[None, :]
    entropy_given, entropy_true = 1.0 - float((g**2).sum()), 1.0 - float((t**2).sum())
    scale = np.sqrt(max(entropy_given * entropy_true, 0.0))
    matthews = (right - chance) / scale if scale > 1e-12 else None
    kappa = (right - chance) / (1.0 - chance) if chance < 1.0 - 1e-12 else None
    of_matthews = (
        (own - of_chance) / scale + matthews * (g[None, :] / entropy_given + t[:, None] / entropy_true)
        if matthews is not None
        else np.zeros((k, k))
    )
    of_kappa = (own * (1.0 - chance) - of_chance * (1.0 - right)) / max(1.0 - chance, 1e-12) ** 2
    values: dict[str, tuple[float | None, Floats]] = {
        "balanced_accuracy": (mean(recall, true), of_recall),
        "macro_precision": (mean(precision, sorted_as), of_precision),
        "macro_f1": (mean(f1, either), of_macro),
        "weighted_f1": (float((t * f1).sum()), of_weighted + f1[:, None]),
        "macro_f_beta": (mean(f_beta, either), of_beta),
        "matthews": (matthews, of_matthews),
        "kappa": (kappa, of_kappa),
    }
    return {name: TableMeasure(value, change - float((p * change).sum())) for name, (value, change) in values.items()}
