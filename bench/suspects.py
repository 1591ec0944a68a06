"""How good lists of suspects are: precision at recall 0.7, of the first 50, and what was expected of the list.

Labels of a corpus are changed at random, and looked for.

    python bench/suspects.py [--counts FILE.npz] [--smallest]

FILE.npz: see bench/growth.py; without one, a corpus of 12 labels is made."""

import sys
from dataclasses import dataclass, replace

import numpy as np
from made_matrix import counts_of
from scipy.sparse import csr_array

from upsort.core.arrays import Bools, Floats, Ints
from upsort.core.evaluation.cross_validation import SplitParts, outcome
from upsort.core.evaluation.suspects import Suspects, find_suspects
from upsort.core.features.corpus_counts import CorpusCounts
from upsort.core.features.documents import no_cells
from upsort.core.plan import Classifier, Plan
from upsort.core.training.decision import PlanWithResources
from upsort.core.training.folds import usable_splits
from upsort.core.training.labelled import LabelledDocuments

CHANGED = 0.03  # of the labels
KINDS: tuple[str, ...] = ("logistic", "naive-bayes")


@dataclass(frozen=True)
class Quality:
    """at_recall: precision where 70% of the wrong labels are found. first: of the first 50. wrong: of the list; listed: its
    length; expected: how many of it were expected to be wrong, with the ends of the interval."""

    at_recall: float
    first: float
    wrong: int
    listed: int
    expected: tuple[float, float, float]


def quality(ranked: Suspects, listed: Suspects, wrong: Bools) -> Quality:
    """ranked: all documents. listed: the suspects. wrong: (n,) whose label was changed."""
    hits = wrong[ranked.places]
    found = np.cumsum(hits)
    at = int(np.searchsorted(found, np.ceil(0.7 * wrong.sum())))
    expected = (listed.expected.value or 0.0, listed.expected.low or 0.0, listed.expected.high or 0.0)
    among = int(wrong[listed.places].sum())
    return Quality(float(found[at] / (at + 1)), float(hits[:50].mean()), among, listed.places.size, expected)


def twelve_labels(documents: int, seed: int) -> tuple[csr_array, Ints]:
    """Counts and labels of a made corpus: most words are common to all labels, some are a label's own, some its neighbour's."""
    generator = np.random.default_rng(seed)
    shares = 1.0 / (np.arange(12) + 3.0)
    labels = generator.choice(12, documents, p=shares / shares.sum())
    counts = np.zeros((documents, 400 + 12 * 60), dtype=np.int32)
    for place, label in enumerate(labels.tolist()):
        for draw in generator.random(int(generator.integers(15, 45))).tolist():
            if draw < 0.75:
                term = min(int(generator.pareto(0.8)), 399)
            else:
                owner = label if draw < 0.93 else label ^ 1 if draw < 0.98 else int(generator.integers(12))
                term = 400 + owner * 60 + min(int(generator.pareto(0.7)), 59)
            counts[place, term] += 1
    return csr_array(counts), labels.astype(np.int64)


def corpus(counts: csr_array, labels: Ints) -> LabelledDocuments:
    """Documents of which there is nothing but counts and labels."""
    return LabelledDocuments(
        measured=CorpusCounts(
            counts=counts,
            terms=[f"t{number:06}" for number in range(counts.shape[1])],
            tokens=np.asarray(counts.sum(axis=1), dtype=np.int64),
            cells=no_cells(counts.shape[0]),
        ),
        labels=labels,
        names=tuple(f"l{number:03}" for number in range(int(labels.max()) + 1)),
    )


def with_changed_labels(documents: LabelledDocuments, seed: int) -> tuple[LabelledDocuments, Bools]:
    """Some labels become any other one."""
    generator = np.random.default_rng(seed)
    k = len(documents.names)
    wrong = generator.random(documents.documents) < CHANGED
    moved = (documents.labels + generator.integers(1, k, documents.documents)) % k
    return replace(documents, labels=np.where(wrong, moved, documents.labels)), np.asarray(wrong)


def out_of_fold(documents: LabelledDocuments, kind: str, seed: int) -> Floats:
    """(n, k) what sorters of a kind say of documents that they never saw."""
    parts = SplitParts(documents, usable_splits(documents, 5, seed))
    told = np.zeros((documents.documents, len(documents.names)))
    for number in range(len(parts.splits)):
        found = outcome(parts, number, PlanWithResources(Plan(classifier=Classifier(kind=kind, tolerance=1e-3))))
        told[found.held_out] = found.probabilities
    return told


def looked_for(documents: LabelledDocuments, seed: int) -> Quality:
    """Change labels and look for them."""
    changed, wrong = with_changed_labels(documents, seed)
    told = [out_of_fold(changed, kind, seed) for kind in KINDS]
    ranked = find_suspects(changed.labels, told, changed.documents)
    return quality(ranked, find_suspects(changed.labels, told), wrong)


def main() -> None:
    """Print the quality of lists on several draws."""
    arguments = sys.argv[1:]
    smallest = "--smallest" in arguments
    if "--counts" in arguments:
        counts, labels = counts_of(arguments[arguments.index("--counts") + 1])
    else:
        counts, labels = twelve_labels(400 if smallest else 2400, 1)
    for seed in range(1 if smallest else 3):
        rows = np.sort(np.random.default_rng(seed).permutation(labels.size)[:12_000])
        everything = corpus(csr_array(counts[rows]), labels[rows])
        common = np.isin(labels[rows], np.argsort(-np.bincount(labels))[:12])
        several = {"all labels": everything, "the 12 commonest": everything.rows(np.flatnonzero(common)).present()}
        for name, documents in several.items() if "--counts" in arguments else [("12 labels", everything)]:
            found = looked_for(documents, seed)
            value, low, high = found.expected
            print(
                f"{documents.documents:,} documents, {name}: precision {found.at_recall:.2f} at recall 0.7, first 50 "
                f"{found.first:.2f}; {found.wrong} of {found.listed} listed are wrong, expected {value:.0f} ({low:.0f} to "
                f"{high:.0f})",
                flush=True,
            )


if __name__ == "__main__":
    main()
