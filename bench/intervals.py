"""How often the 95% intervals hold the truth, by simulation: measures of tables, areas, losses.

In each case documents are drawn from a population whose labels and probabilities are known, judged as any command judges them,
and it is counted how often each interval holds the value in the population. Labels with too few documents have no interval and
are not counted.

    python bench/intervals.py [--smallest]"""

import sys
from dataclasses import dataclass

import numpy as np

from upsort.core.arrays import Floats, Ints
from upsort.core.evaluation.intervals import Rate, Sample
from upsort.core.evaluation.measures import Decided, Judgement, judge
from upsort.core.evaluation.probability_measures import ProbabilityMeasures, judge_probabilities


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


def covered(case: Case, draws: int, seed: int) -> dict[str, tuple[float, float]]:
    """For each measure, the share of draws whose interval holds the truth, and the mean width."""
    generator = np.random.default_rng(seed)
    truth = _rates(*_measured(*_drawn(case, _POPULATION, generator)))
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


def main() -> None:
    """Print a table of coverages."""
    draws = 20 if "--smallest" in sys.argv[1:] else 400
    found = {case.name: covered(case, draws, 1) for case in CASES}
    print(f"coverage of 95% intervals, {draws} draws a case:")
    for case, rates in found.items():
        print(f"\n{case}")
        for name, (share, width) in rates.items():
            print(f"  {name:28} {100 * share:5.1f}%   mean width {width:.3f}")


if __name__ == "__main__":
    main()
