"""A plan together with what is in the files it names: all that training needs next to the documents.

Deciding otherwise than for the most probable label: by costs, by weights that raise F-beta, or not at all.

A decision rule is a matrix D (k, k): the label g is given for which Σ over labels t of p[t] · D[t, g] is largest. With costs C
(given × true) D = −Cᵀ, which has the least expected cost (Bayes' rule; Elkan 2001, equation 1). For F-beta D is diagonal: each
label's probability is multiplied by a weight of its own. The weights are chosen on held-out documents, one label after the other,
from a grid, as long as macro F-beta rises.

The decisions about the passages of a document, added up to one about the document."""

from collections.abc import Mapping, Sequence
from dataclasses import field, replace

import numpy as np

from upsort.core.arrays import Floats, Ints
from upsort.core.errors import DataProblem, UsageProblem, listed
from upsort.core.lazy import record
from upsort.core.plan import Plan
from upsort.core.text.step import Resources

Costs = Mapping[str, Mapping[str, float]]
"""What it costs to give a label (first) to a document of another (second)."""


@record(frozen=True)
class PlanWithResources:
    """resources: what cleaning and the vocabulary need. costs: of deciding, where the plan has any."""

    plan: Plan
    resources: Resources = field(default_factory=Resources)
    costs: Costs | None = None

    def for_labels(self) -> "PlanWithResources":
        """The same where only labels are asked for: without calibration, unless it has a part in choosing them."""
        decide, sets = self.plan.decide, bool(self.plan.columns.label_separator)  # which are chosen by probabilities
        if self.costs is not None or decide.f_beta or decide.rank_by == "probabilities" or sets:
            return self
        return replace(self, plan=replace(self.plan, classifier=replace(self.plan.classifier, calibrate="none")))


_GRID = np.geomspace(0.2, 5.0, 21)
_MOST_ITERATIONS = 3


def cost_table(costs: Costs, labels: Sequence[str]) -> Floats | None:
    """(k given, k true) the costs of deciding among these labels; None where the costs are about none of them.

    Raises DataProblem where they are about some of the labels only."""
    missing = [label for label in labels if label not in costs]
    if len(missing) == len(labels):
        return None
    if missing:
        raise DataProblem(
            f"The table of costs has no label {missing[0]!r}; its labels are {listed(costs)}.",
            "Each label needs a row and a column.",
        )
    return np.array([[costs[given][true] for true in labels] for given in labels])


def cost_decision(costs: Floats) -> Floats:
    """(k, k) the decision rule of costs, (k given, k true)."""
    rule: Floats = -costs.T
    return rule


def values_of(probabilities: Floats, rule: Floats) -> Floats:
    """(n, k) the value of each label by a rule, rounded so that what should be equal is."""
    values: Floats = np.round(probabilities @ rule, 12)
    return values


def ranking(values: Floats, label_documents: Ints) -> Ints:
    """(n, k) the labels of each document, that of the highest value first; of equals the one that more training documents have,
    then the one that sorts first. label_documents: (k,)."""
    common = np.argsort(-label_documents, kind="stable")
    order: Ints = common[np.argsort(-values[:, common], axis=1, kind="stable")]
    return order


def macro_f_beta(true: Ints, sorted_as: Ints, k: int, beta: float) -> float:
    """The mean over the labels that occur of (1 + β²) right / (β² · true + sorted_as)."""
    right = np.bincount(true[true == sorted_as], minlength=k)
    trues, sorted_counts = np.bincount(true, minlength=k), np.bincount(sorted_as, minlength=k)
    whole = beta**2 * trues + sorted_counts
    occurs = whole > 0
    return float(((1 + beta**2) * right[occurs] / whole[occurs]).mean())


def weights_for_f_beta(true: Ints, probabilities: Floats, beta: float) -> Floats:
    """(k, k) the diagonal rule with the highest macro F-beta found on held-out documents; of equals the one nearest to 1."""
    k = probabilities.shape[1]
    weights = np.ones(k)
    best = macro_f_beta(true, probabilities.argmax(axis=1), k, beta)
    for _ in range(_MOST_ITERATIONS):
        before = best
        for label in range(k):
            tried = sorted(_GRID.tolist(), key=lambda weight: abs(np.log(weight)))
            for weight in tried:
                changed = weights.copy()
                changed[label] = weight
                value = macro_f_beta(true, (probabilities * changed).argmax(axis=1), k, beta)
                if value > best + 1e-12:
                    best, weights = value, changed
        if best <= before:
            break
    return np.diag(weights)


WAYS = ("mean", "median", "trimmed", "product")
_TRIMMED = 0.1  # share of the passages left out at either end


def aggregate_passages(
    probabilities: Floats, documents: Sequence[str], way: str, exclusive: bool = True
) -> tuple[list[str], Ints, Floats]:
    """The documents in the order of their first passages, (n,) which of them each passage is of, and (d, k) their probabilities.

    probabilities: (n, k) of passages. documents: (n,) whose passage each is. way: the mean, the median, the mean without the
    highest and lowest tenth, or the product of the passages' probabilities (which takes them for independent). exclusive: whether
    a document has one label, so that the probabilities are made to sum to 1."""
    if way not in WAYS:
        raise UsageProblem(f"Passages cannot be added up by {way!r}.", f"Use one of {', '.join(WAYS)}.")
    names = list(dict.fromkeys(documents))
    number = {name: place for place, name in enumerate(names)}
    owner = np.array([number[name] for name in documents], dtype=np.int64)
    order = np.argsort(owner, kind="stable")
    ends = np.cumsum(np.bincount(owner, minlength=len(names)))
    sums = np.array([_combined(part, way, exclusive) for part in np.split(probabilities[order], ends[:-1])])
    sums = sums.reshape(len(names), probabilities.shape[1])
    if not exclusive:
        return names, owner, sums
    totals = sums.sum(axis=1, keepdims=True)
    return names, owner, np.where(totals > 0, sums / np.where(totals > 0, totals, 1.0), 1.0 / probabilities.shape[1])


def _combined(passages: Floats, way: str, exclusive: bool) -> Floats:
    match way:
        case "median":
            return np.asarray(np.median(passages, axis=0))
        case "trimmed":
            cut = int(_TRIMMED * len(passages))
            return np.asarray(np.sort(passages, axis=0)[cut : len(passages) - cut].mean(axis=0))
        case "product":
            logs = np.log(np.maximum(passages, 1e-300)).sum(axis=0)
            if not exclusive:  # of each label for itself: having it against not having it
                against = np.log(np.maximum(1.0 - passages, 1e-300)).sum(axis=0)
                return np.asarray(1.0 / (1.0 + np.exp(np.clip(against - logs, -700, 700))))
            return np.asarray(np.exp(logs - logs.max()))
        case "mean":
            return np.asarray(passages.mean(axis=0))
        case _:
            raise ValueError(f"there is no way {way!r} of adding up")
