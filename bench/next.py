"""How many labels upsort next saves: sorters trained on what it picks, against as many documents drawn at random.

On the letters of the demo and on two made corpora, for each family: from 20 documents drawn at random, 20 more are picked in each
round, either way, and each sorter is judged on the same documents held out. Shown are mean accuracies over the seeds at half and
at all of the labels, the difference to random with its 95% interval, and how many labels picked are as good as all labels at
random.

    python bench/next.py [SEEDS] [--figure FILE] [--smallest]"""

import sys
import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from measuring import size_asked
from scipy.sparse import csr_array

from upsort.core.analysis.next_documents import choose, contents
from upsort.core.arrays import Floats, Ints, numbered
from upsort.core.classifiers.families import FAMILIES, choices, resolved
from upsort.core.classifiers.family import scores_of
from upsort.core.evaluation.intervals import student
from upsort.core.features.corpus_counts import CorpusCounts, of_counts
from upsort.core.features.counting import count
from upsort.core.plan import Classifier, Clean, Plan
from upsort.core.text.cleaning import cleaner
from upsort.core.training.decision import PlanWithResources
from upsort.core.training.folds import Split, learn_from_part
from upsort.core.training.labelled import LabelledDocuments
from upsort.core.training.train_sorter import train_sorter
from upsort.workflows.demo import write_demo_files

FIRST, EACH, LAST = 20, 20, 360
HELD_OUT = 400
BLIND = {"majority", "chance"}
Pick = Callable[[csr_array, Floats, int, int, int], Ints]


@dataclass(frozen=True)
class Corpus:
    """documents: with all their terms. rows: their contents."""

    name: str
    documents: LabelledDocuments
    rows: csr_array


def corpus_of(name: str, texts: list[str], labels: list[str]) -> Corpus:
    """A corpus counted once."""
    names, numbers = numbered(labels)
    measured: CorpusCounts = of_counts(count(texts, cleaner(Clean())))
    return Corpus(name, LabelledDocuments(measured=measured, labels=numbers, names=names), contents(measured.local_counts))


def letters() -> Corpus:
    """The labelled letters of one year."""
    import csv

    with tempfile.TemporaryDirectory() as folder:
        write_demo_files(Path(folder))
        with (Path(folder) / "letters-2024.csv").open(newline="", encoding="utf-8") as stream:
            rows = [row for row in csv.DictReader(stream) if row["topic"].strip() and row["message"].strip()]
    return corpus_of("letters", [row["message"] for row in rows], [row["topic"].strip().lower() for row in rows])


def made(name: str, labels: int, contents_each: int, steep: float, own: float) -> Corpus:
    """Documents of 30 words, a share `own` of them from the content they are about. Labels have several contents each, and are of
    different size: that of the l-th is (l + 1)^−steep of the first."""
    draws = np.random.default_rng(7)
    sizes = np.arange(1, labels + 1) ** -steep
    common = [f"c{number}" for number in range(400)]
    weights = 1.0 / np.arange(1, 401)
    texts, given = [], []
    for _ in range(1600):
        label = int(draws.choice(labels, p=sizes / sizes.sum()))
        content = int(draws.integers(contents_each))
        mine = int(draws.binomial(30, own))
        words = [f"l{label}x{content}w{int(draws.integers(30))}" for _ in range(mine)]
        words += draws.choice(common, 30 - mine, p=weights / weights.sum()).tolist()
        texts.append(" ".join(words))
        given.append(f"label {label:02}")
    return corpus_of(name, texts, given)


def by_next(rows: csr_array, probabilities: Floats, trained_on: int, most: int, seed: int) -> Ints:
    """What upsort next picks."""
    return np.array([one.place for one in choose(rows, probabilities, trained_on, most, seed)], dtype=np.int64)


def at_random(rows: csr_array, probabilities: Floats, trained_on: int, most: int, seed: int) -> Ints:
    """As many, drawn at random."""
    return np.random.default_rng(seed).permutation(rows.shape[0])[:most]


def accuracies(corpus: Corpus, settings: Classifier, pick: Pick, seed: int, last: int) -> list[float]:
    """On held-out documents after each round."""
    documents = corpus.documents
    plan = resolved(Plan(classifier=settings))
    order = np.random.default_rng(seed).permutation(documents.documents)
    held_out, pool = order[:HELD_OUT], order[HELD_OUT:]
    mine, rest = pool[:FIRST], np.sort(pool[FIRST:])
    found = []
    while True:
        apart = learn_from_part(
            documents, Split(mine, np.concatenate((held_out, rest))), plan.features, PlanWithResources(plan).resources
        )
        sorter, _ = train_sorter(apart.training, PlanWithResources(plan), apart.seen)
        decisions = sorter.decide_scores(scores_of(sorter.classifier, apart.outside))
        given = apart.in_corpus[decisions.best[:HELD_OUT]]
        found.append(float((given == documents.labels[held_out]).mean()))
        if mine.size >= last:
            return found
        picked = pick(csr_array(corpus.rows[rest]), decisions.probabilities[HELD_OUT:], mine.size, EACH, seed + mine.size)
        mine = np.concatenate((mine, rest[picked]))
        rest = np.delete(rest, picked)


def told(corpus: Corpus, settings: Classifier, seeds: int, last: int) -> tuple[Floats, Floats]:
    """(seeds, rounds) accuracies of what was picked, and of as many at random."""
    curves = [
        np.array([accuracies(corpus, settings, pick, seed, last) for seed in range(seeds)]) for pick in (by_next, at_random)
    ]
    return curves[0], curves[1]


def main() -> None:
    seeds = size_asked(10, smallest=2)
    small = "--smallest" in sys.argv
    last = 60 if small else LAST
    corpora = [letters()] if small else [
        letters(), made("contents", 6, 4, 0.0, 0.25), made("rare labels", 10, 2, 1.0, 0.2)
    ]  # fmt: skip
    kinds = [one for one in choices() if one.kind not in BLIND][: 1 if small else None]
    worse, drawn = 0, {}
    print(f"{'':<38}{'at half: picked':>15}  random   at all: picked  random   picked − random   as good from")
    for corpus in corpora:
        for settings in kinds:
            picked, random = told(corpus, settings, seeds, last)
            drawn[corpus.name, settings.kind, settings.event_model] = (picked.mean(axis=0), random.mean(axis=0))
            half = (last // 2 - FIRST) // EACH
            difference = (picked - random).mean(axis=1)
            half_width = student(seeds - 1) * float(difference.std(ddof=1)) / seeds**0.5
            means = picked.mean(axis=0)
            enough = np.flatnonzero(means >= random.mean(axis=0)[-1] - 1e-12)
            as_good = f"{FIRST + EACH * int(enough[0])}" if enough.size else "–"
            worse += difference.mean() < -half_width
            model = f" {settings.event_model}" if FAMILIES[settings.kind].event_models else ""
            print(
                f"{corpus.name:<12} {settings.kind + model:<24} {means[half]:14.3f} {random.mean(axis=0)[half]:8.3f} "
                f"{means[-1]:15.3f} {random.mean(axis=0)[-1]:8.3f} {difference.mean():+9.3f} ± {half_width:.3f} {as_good:>18}",
                flush=True,
            )
    print(f"Worse than random by more than the interval: {worse} of {len(drawn)}.")
    if "--figure" in sys.argv:
        draw({key: value for key, value in drawn.items() if key[0] == "letters"}, Path(sys.argv[sys.argv.index("--figure") + 1]))


def draw(curves: dict[tuple[str, str, str], tuple[Floats, Floats]], path: Path) -> None:
    """The curves of each family on one corpus: picked ones in ink, those at random in slate."""
    from upsort.plots.canvas import INK, SLATE, content_of, in_percent, panels

    chosen = [key for key in curves if key[1] in {"logistic", "svm", "centroid"} or key[1:] == ("naive-bayes", "counts")]
    figure, each = panels("Accuracy by labelled documents: picked by upsort next, and drawn at random (hollow)", len(chosen), 2)
    for axes, key in zip(each, chosen, strict=True):
        picked, random = curves[key]
        sizes = FIRST + EACH * np.arange(picked.size)
        axes.plot(sizes, random, color=SLATE, marker="s", markerfacecolor="none", markersize=5, linewidth=1.0)
        axes.plot(sizes, picked, color=INK, marker="o", markersize=5, linewidth=1.8)
        axes.set_title(key[1], loc="left", fontsize=13)
        in_percent(axes.yaxis)
    path.write_bytes(content_of(figure, "png"))


if __name__ == "__main__":
    main()
