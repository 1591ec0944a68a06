"""Training a sorter and saving it."""

import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from upsort.core.features.vocabulary import too_common
from upsort.core.judging.folds import dealt_folds
from upsort.core.judging.intervals import Rate, of_known, wilson
from upsort.core.plan import Plan
from upsort.core.sorter import Sorter
from upsort.core.text.word_steps import Resources
from upsort.core.training import Labelled, fit, represented
from upsort.files.set_aside import SetAside
from upsort.files.sorter_file import save_sorters
from upsort.files.sources import Inputs
from upsort.files.writing import check_writable
from upsort.jobs.corpus import read_labelled_corpus
from upsort.jobs.progress import Advance, no_progress

_CHECK_FOLDS = 5  # the quick check holds out one document in so many


@dataclass(frozen=True)
class AnswerResult:
    """One answer of a sorter.

    training_accuracy: on the documents it was trained on. held_out: a quick check: on documents that a sorter of the same plan,
    trained on the others, never saw. too_common: terms left out because more than features.in_at_most of the documents hold
    them: the corpus's own stop words, commonest first. seconds: by stage.
    """

    sorter: Sorter
    training_accuracy: Rate
    held_out: Rate | None
    too_common: list[str]
    without_tokens: int
    seconds: dict[str, float]


@dataclass(frozen=True)
class TrainResult:
    """The answers, where they were saved, and how many bytes that took. read_seconds: reading, cleaning and counting."""

    answers: tuple[AnswerResult, ...]
    path: Path
    size: int
    read_seconds: float


def train(
    inputs: Inputs,
    plan: Plan,
    output: Path,
    aside: SetAside,
    advance: Advance = no_progress,
    workers: int = 1,
    check: bool = True,
) -> TrainResult:
    """Train on all usable labelled documents of `inputs` and write the sorter to `output`. check: make the quick check."""
    check_writable(output)
    began = time.perf_counter()
    corpus = read_labelled_corpus(inputs, plan, aside, advance, workers)
    read = time.perf_counter() - began
    several = len(corpus.answers) > 1
    answers = [
        _answer(answer.documents, plan, corpus.resources, answer.name if several else "", check)
        for answer in corpus.answers
    ]
    size = save_sorters([answer.sorter for answer in answers], output)
    return TrainResult(tuple(answers), output, size, read)


def _answer(documents: Labelled, plan: Plan, resources: Resources, name: str, check: bool) -> AnswerResult:
    seconds: dict[str, float] = {}

    def timed(stage: str, work: Callable[[], tuple[Sorter, object]]) -> Sorter:
        began = time.perf_counter()
        sorter, _ = work()
        seconds[stage] = time.perf_counter() - began
        return sorter

    sorter = timed("training", lambda: fit(documents, plan, resources))
    held_out = wilson(*sorter.trained.held_out) if sorter.trained.held_out[1] else None
    if check and held_out is None and documents.sets is None:
        began = time.perf_counter()
        held_out = _quick_check(documents, plan, sorter, resources)
        seconds["check"] = time.perf_counter() - began
    return AnswerResult(
        replace(sorter, answer=name),
        of_known(sorter.trained.right, sorter.trained.documents),
        held_out,
        too_common(documents.measured.counts, documents.measured.terms, plan.features),
        int((documents.measured.tokens == 0).sum()),
        seconds,
    )


def _quick_check(documents: Labelled, plan: Plan, sorter: Sorter, resources: Resources) -> Rate | None:
    """Train once more on four documents in five and count the right ones of the fifth. The penalty is that of the sorter."""
    fold = dealt_folds(documents.labels, _CHECK_FOLDS, plan.judge.seed, documents.groups)
    out = np.flatnonzero(fold == 0)
    rest = documents.rows(fold != 0)
    if out.size == 0 or np.unique(rest.labels).size < 2:
        return None
    settled = replace(plan, classifier=replace(plan.classifier, penalty=sorter.trained.penalty))
    tried, seen = fit(rest, settled, resources)
    scores = tried.classifier.scores(represented(seen.space, seen.kept, documents.measured.rows(out)))
    numbers = np.array([documents.names.index(label) for label in tried.labels])
    return wilson(int((numbers[scores.argmax(axis=1)] == documents.labels[out]).sum()), int(out.size))
