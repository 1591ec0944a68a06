"""How often the 95% intervals hold the truth, by simulation: measures of tables, areas, losses.

In each case documents are drawn from a population whose labels and probabilities are known, judged as any command judges them,
and it is counted how often each interval holds the value in the population. Labels with too few documents have no interval and
are not counted. Then the accuracy of grouped documents, where a few groups hold most; and that of cross-validation, against the
mean accuracy of the folds' sorters and that of the sorter trained on all.

    python bench/intervals.py [--smallest]"""

import sys
from dataclasses import dataclass

import numpy as np
from made_matrix import made_matrix
from scipy.sparse import csr_array

from upsort.core.arrays import Floats, Ints
from upsort.core.evaluation.cross_validation import SplitParts, judge_by_folds, outcome_of
from upsort.core.evaluation.intervals import Rate, Sample, share_of
from upsort.core.evaluation.measures import Decided, Judgement, judge
from upsort.core.evaluation.probability_measures import ProbabilityMeasures, judge_probabilities
from upsort.core.evaluation.splits import splits
from upsort.core.features.corpus_counts import CorpusCounts
from upsort.core.features.documents import no_cells
from upsort.core.matrices.sparse import row_sums
from upsort.core.plan import Classifier, Plan
from upsort.core.training.decision import PlanWithResources
from upsort.core.training.folds import Split
from upsort.core.training.labelled import LabelledDocuments


@dataclass(frozen=True)
class Case:
    """documents: drawn each time. shares: of the labels. signal: how far an own label's score stands out."""

    name: str
    documents: int
    shares: tuple[float, ...]
    signal: float


_SKEWED = (0.40, 0.25, 0.15, 0.10, 0.06, 0.04)
_MANY = tuple(share / sum(1 / place for place in range(1, 44)) for share in (1 / place for place in range(1, 44)))
CASES = (
    Case("200 documents, 4 equal labels, 80%", 200, (0.25,) * 4, 1.90),
    Case("100 documents, 7 equal labels, 90%", 100, (1 / 7,) * 7, 2.80),
    Case("200 documents, 6 skewed labels, 85%", 200, _SKEWED, 2.40),
    Case("200 documents, 6 skewed labels, 97%", 200, _SKEWED, 3.50),
    Case("60 documents, 2 labels, 70%", 60, (0.6, 0.4), 0.75),
    Case("60 documents, 43 labels", 60, _MANY, 2.80),
    Case("200 documents, 43 labels", 200, _MANY, 2.80),
    Case("1,000 documents, 43 labels", 1000, _MANY, 2.80),
    Case("1,000 documents, 43 equal labels", 1000, (1 / 43,) * 43, 2.80),
)
"""The signals give about the accuracies that are named."""

_POPULATION = 300_000


def covered(case: Case, draws: int, seed: int, population: int = _POPULATION) -> dict[str, tuple[float, float]]:
    """For each measure, the share of draws whose interval holds the truth, and the mean width."""
    generator = np.random.default_rng(seed)
    truth = _rates(*_measured(*_drawn(case, population, generator)))
    held: dict[str, list[tuple[bool, float]]] = {}
    for _ in range(draws):
        for name, rate in _rates(*_measured(*_drawn(case, case.documents, generator))).items():
            target = truth[name].value
            if rate.low is not None and rate.high is not None and target is not None:
                held.setdefault(name.partition(":")[0], []).append((rate.low <= target <= rate.high, rate.high - rate.low))
    return {name: (float(np.mean([a for a, _ in all_])), float(np.mean([b for _, b in all_]))) for name, all_ in held.items()}


def _drawn(case: Case, documents: int, generator: np.random.Generator) -> tuple[Ints, Floats]:
    """(n,) labels and (n, k) probabilities that know them partly."""
    k = len(case.shares)
    labels = generator.choice(k, size=documents, p=case.shares)
    scores = generator.normal(size=(documents, k))
    scores[np.arange(documents), labels] += case.signal
    odds = np.exp(2.0 * scores)
    return labels, odds / odds.sum(axis=1, keepdims=True)


def _measured(labels: Ints, probabilities: Floats) -> tuple[Judgement, ProbabilityMeasures]:
    given = probabilities.argmax(axis=1)
    sample = Sample.of(np.arange(labels.size))
    names = tuple(f"l{number}" for number in range(probabilities.shape[1]))
    decided = Decided(true=labels, sorted_as=given, labels=names, majority="l0", baseline=labels == 0, sample=sample)
    return judge(decided, 2.0), judge_probabilities(labels, probabilities, given, sample)


def _rates(judgement: Judgement, probability: ProbabilityMeasures) -> dict[str, Rate]:
    found = {"accuracy": judgement.accuracy, "macro F1": judgement.macro_f1}
    found |= {name.replace("_", " "): rate for name, rate in judgement.other_rates.items()}
    found |= {"log loss": probability.log_loss, "Brier score": probability.brier}
    found |= {"mean ROC area": probability.areas.roc, "mean precision-recall area": probability.areas.precision_recall}
    for one, areas in zip(judgement.per_label, probability.areas.labels, strict=True):
        found |= {f"F1:{one.label}": one.f1, f"F2:{one.label}": one.f_beta}
        found |= {f"recall:{one.label}": one.recall, f"precision:{one.label}": one.precision}
        found |= {f"ROC area:{one.label}": areas.roc, f"precision-recall area:{one.label}": areas.precision_recall}
    return found


@dataclass(frozen=True)
class Grouped:
    """groups: drawn each time, of one to three documents, but for a share of giants of so many. accuracy: of all; that of each
    group is drawn from a beta distribution whose parameters add up to `alike`."""

    groups: int
    giants: float
    size: int
    accuracy: float
    alike: float


GROUPED = (
    Grouped(40, 0.1, 60, 0.8, 4.0),
    Grouped(40, 0.1, 60, 0.8, 1000.0),
    Grouped(100, 0.05, 100, 0.9, 2.0),
    Grouped(300, 0.02, 100, 0.85, 4.0),
    Grouped(60, 0.0, 1, 0.8, 4.0),
)


def covered_by_groups(case: Grouped, draws: int, seed: int) -> tuple[float, float]:
    """The share of draws whose interval holds the accuracy, and the mean width."""
    generator = np.random.default_rng(seed)
    held, widths = list[bool](), list[float]()
    for _ in range(draws):
        sizes = np.where(generator.random(case.groups) < case.giants, case.size, generator.integers(1, 4, case.groups))
        right = generator.beta(case.accuracy * case.alike, (1.0 - case.accuracy) * case.alike, case.groups)
        group = np.repeat(np.arange(case.groups), sizes)
        given = (generator.random(group.size) < right[group]).astype(np.float64)
        rate = share_of(given, np.ones(group.size), Sample.of(np.arange(group.size), 1, group))
        assert rate.low is not None and rate.high is not None
        held.append(rate.low <= case.accuracy <= rate.high)
        widths.append(rate.high - rate.low)
    return float(np.mean(held)), float(np.mean(widths))


FOLDED = (("naive-bayes", 200), ("logistic", 200), ("logistic", 1000))
_UNSEEN = 20_000


def covered_by_folds(kind: str, documents: int, draws: int, smallest: bool) -> tuple[float, float]:
    """The shares of draws whose interval of cross-validation holds the mean accuracy of the folds' sorters on 20,000 unseen
    documents, and that of the sorter trained on all of the draw."""
    generator = np.random.default_rng(1)
    unseen = 1_200 if smallest else _UNSEEN
    matrix, labels = made_matrix(2 * unseen, 3_000, 5, 7, 12)
    counts = csr_array((np.ceil(matrix.data).astype(np.int32), matrix.indices, matrix.indptr), shape=matrix.shape)
    n = labels.size
    measured = CorpusCounts(
        counts=counts, terms=[f"t{term:04}" for term in range(3_000)], tokens=row_sums(counts).astype(np.int64), cells=no_cells(n)
    )
    whole = LabelledDocuments(measured=measured, labels=labels, names=tuple("abcde"))
    method = PlanWithResources(Plan(classifier=Classifier(kind=kind, calibrate="none", tolerance=1e-3)))
    population = np.arange(unseen, n)

    def on_unseen(rows: Ints) -> float:
        judged = outcome_of(whole, Split(rows, population), method)
        return float((judged.sorted_as == labels[population]).mean())

    by_folds, by_all = list[bool](), list[bool]()
    for _ in range(draws):
        drawn = np.sort(generator.choice(unseen, documents, replace=False))
        some = whole.rows(drawn)
        made = splits(some, method.plan.judge)
        rate = judge_by_folds(SplitParts(some, made.each), method).overall.accuracy
        assert rate.low is not None and rate.high is not None
        truth = float(np.mean([on_unseen(drawn[split.training]) for split in made.each]))
        by_folds.append(rate.low <= truth <= rate.high)
        by_all.append(rate.low <= on_unseen(drawn) <= rate.high)
    return float(np.mean(by_folds)), float(np.mean(by_all))


def main() -> None:
    """Print tables of coverages."""
    smallest = "--smallest" in sys.argv[1:]
    draws, population = (2, 3_000) if smallest else (1500, _POPULATION)
    print("\ncoverage of the accuracy of grouped documents:")
    for grouped in GROUPED:
        share, width = covered_by_groups(grouped, draws, 1)
        print(f"  {grouped}: {100 * share:5.1f}%   mean width {width:.3f}")
    print("\ncoverage of the accuracy by cross-validation, of the folds' sorters and of the sorter trained on all:", flush=True)
    for kind, documents in FOLDED[:1] if smallest else FOLDED:
        of_folds, of_all = covered_by_folds(kind, documents, 1 if smallest else 300, smallest)
        print(f"  {kind}, {documents:,} documents: {100 * of_folds:5.1f}%, {100 * of_all:5.1f}%", flush=True)
    found = {case.name: covered(case, draws, 1, population) for case in (CASES[:1] if smallest else CASES)}
    print(f"coverage of 95% intervals, {draws} draws a case:")
    for case, rates in found.items():
        print(f"\n{case}")
        for name, (share, width) in rates.items():
            print(f"  {name:28} {100 * share:5.1f}%   mean width {width:.3f}")


if __name__ == "__main__":
    main()
