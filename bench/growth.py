"""How often the prediction interval of `curve` holds what twice as many documents bring, by simulation.

Each time, documents are drawn from a corpus; the curve is fitted to folds of them, and then a sorter is trained on twice as many
others and judged on as many as the folds judged.

    python bench/growth.py [--counts FILE.npz] [--smallest]

FILE.npz holds a CSR matrix of counts (`counts`, `terms`, `starts`, `shape`) and `labels`; without one, a matrix is made."""

import sys

import numpy as np
from made_matrix import counts_of, made_counts

from upsort.core.evaluation.cross_validation import SplitParts, outcome_of
from upsort.core.evaluation.learning_curve import fit_learning_curve, measure_learning_curve
from upsort.core.features.corpus_counts import CorpusCounts
from upsort.core.features.documents import no_cells
from upsort.core.plan import Classifier, Features, Plan
from upsort.core.training.decision import PlanWithResources
from upsort.core.training.folds import Split, usable_splits
from upsort.core.training.labelled import LabelledDocuments


def main() -> None:
    """Print the coverage for several sizes."""
    arguments = sys.argv[1:]
    smallest = "--smallest" in arguments
    counts, labels = counts_of(arguments[arguments.index("--counts") + 1]) if "--counts" in arguments else made_counts(smallest)
    whole = LabelledDocuments(
        measured=CorpusCounts(
            counts=counts,
            terms=[f"t{number:06}" for number in range(counts.shape[1])],
            tokens=counts.sum(axis=1).astype(np.int64),
            cells=no_cells(counts.shape[0]),
        ),
        labels=labels,
        names=tuple(f"l{number:03}" for number in range(int(labels.max()) + 1)),
    )
    method = PlanWithResources(Plan(features=Features(weighting="tfidf"), classifier=Classifier(tolerance=1e-3))).for_labels()
    for documents, trials in ((120, 2),) if smallest else ((300, 100), (1000, 60)):
        print(f"{documents:,} documents: {_coverage(whole, method, documents, trials)}", flush=True)


def _coverage(whole: LabelledDocuments, method: PlanWithResources, documents: int, trials: int) -> str:
    generator = np.random.default_rng(documents)
    held, widths, misses = 0, [], []
    for trial in range(trials):
        drawn = generator.permutation(whole.documents)
        mine = whole.rows(np.sort(drawn[:documents])).present()
        found = measure_learning_curve(SplitParts(mine, usable_splits(mine, 5, trial)), method)
        growth = fit_learning_curve(found.sizes, found.held_out, found.judged)
        assert growth is not None
        twice = round(2 * float(found.sizes[-1]))
        low, high = growth.between(twice)
        train, test = np.split(drawn[documents : documents + twice + found.judged], [twice])
        later = outcome_of(whole, Split(np.sort(train), np.sort(test)), method).right(whole) / test.size
        held += low <= later <= high
        widths.append(high - low)
        misses.append(later - growth.at(twice))
    return (
        f"held {100 * held / trials:.0f}% of {trials}, mean width {100 * np.mean(widths):.1f} points, "
        f"mean error of the curve {100 * np.mean(misses):+.1f} points"
    )


if __name__ == "__main__":
    main()
