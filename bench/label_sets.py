"""Which thresholds of sets of labels are best for what: aims, and the least threshold of rare labels.

Made documents hold words of their labels, words of other labels and common words; the labels are as unequal as those of real
archives (Zipf). A sorter is trained on a part, and judged on new documents, several times. Also shown: how often a label with
fewer than 20 training documents is given, for each document that has it."""

import argparse

import numpy as np

from upsort.core import plan
from upsort.core.features.corpus_counts import of_counts
from upsort.core.features.counting import count
from upsort.core.features.documents import Documents
from upsort.core.text.cleaning import cleaner
from upsort.core.training import fit_decision
from upsort.core.training.decision import PlanWithResources
from upsort.core.training.labelled import LabelledDocuments
from upsort.core.training.train_sorter import train_sorter

LABELS, WORDS = 40, 8
AIMS = ("macro f1", "micro f1", "exact sets")


def made(documents: int, generator: np.random.Generator) -> tuple[list[str], "np.ndarray[tuple[int, int], np.dtype[np.bool_]]"]:
    """Texts and which of the labels each has; every document has one at least."""
    weights = 1.0 / np.arange(1, LABELS + 1)
    weights /= weights.sum()
    texts, sets = [], np.zeros((documents, LABELS), dtype=bool)
    for row in range(documents):
        own = generator.choice(LABELS, size=generator.choice([1, 1, 2, 2, 3]), p=weights, replace=False)
        sets[row, own] = True
        words = [f"common{number}" for number in generator.integers(0, 300, 12)]
        for label in [*own, *generator.choice(LABELS, size=generator.integers(0, 3))]:
            words += [f"label{label}word{number}" for number in generator.integers(0, WORDS, generator.integers(1, 3))]
        texts.append(" ".join(generator.permutation(words)))
    return texts, sets


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--smallest", action="store_true", help="once, with few documents: to see that it runs")
    options = parser.parse_args()
    training, new, times = (400, 400, 1) if options.smallest else (2000, 10000, 5)
    usual = fit_decision.FEW_FOR_A_THRESHOLD
    rows: dict[tuple[str, int], list[list[float]]] = {}
    for seed in range(times):
        generator = np.random.default_rng(seed)
        texts, sets = made(training, generator)
        new_texts, own = made(new, generator)
        labels = tuple(f"label {number:02}" for number in range(LABELS))
        new_documents = Documents(
            parts=(new_texts,), number_names=(), numbers=np.zeros((new, 0)), category_names=(), categories=()
        )
        measured = of_counts(count(texts, cleaner(plan.Clean(steps=()))))
        documents = LabelledDocuments(measured=measured, labels=sets.argmax(axis=1), names=labels, sets=sets).present()
        few = documents.sets.sum(axis=0) < usual if documents.sets is not None else np.zeros(0, dtype=bool)
        own = own[:, [labels.index(name) for name in documents.names]]
        for aim in AIMS:
            for floor in (0, usual):
                fit_decision.FEW_FOR_A_THRESHOLD = floor
                settings = plan.Plan(clean=plan.Clean(steps=()), decide=plan.Decide(aim=aim))  # type: ignore[arg-type]
                sorter, _ = train_sorter(documents, PlanWithResources(settings))
                given = sorter.decide(new_documents).sets
                assert given is not None
                right, total = (given & own).sum(axis=0), given.sum(axis=0) + own.sum(axis=0)
                measures = [
                    float(np.mean(2 * right / np.maximum(total, 1))),
                    float(2 * right.sum() / total.sum()),
                    float((given == own).all(axis=1).mean()),
                    float(given[:, few].sum() / max(own[:, few].sum(), 1)),
                ]
                rows.setdefault((aim, floor), []).append(measures)
    print("aim\tleast documents\tmacro F1\tmicro F1\texact sets\tgiven per document with a rare label")
    for (aim, floor), measures_of in rows.items():
        print(aim, floor, *(f"{value:.3f}" for value in np.mean(measures_of, axis=0)), sep="\t")


if __name__ == "__main__":
    main()
