"""Training a sorter and saving it."""

import time
from dataclasses import replace
from pathlib import Path
from typing import Annotated, NotRequired, TypedDict

import numpy as np

from upsort.core.classifiers.families import calibration_of, chooses_penalty
from upsort.core.errors import DataProblem
from upsort.core.evaluation.cross_validation import outcome_of
from upsort.core.evaluation.intervals import Rate, Sample, of_known, share_of, wilson
from upsort.core.executors import ParallelMap
from upsort.core.features.vocabulary import too_common
from upsort.core.lazy import record
from upsort.core.plan import Plan
from upsort.core.training.decision import PlanWithResources
from upsort.core.training.inner_cv import CALIBRATION_FOLDS, usable_splits
from upsort.core.training.labelled import LabelledDocuments
from upsort.core.training.sorter import TrainedSorter
from upsort.core.training.stored_documents import sampled
from upsort.core.training.train_sorter import train_sorter
from upsort.io.sorter.saving import save_sorters
from upsort.workflows.extend import stored_documents
from upsort.workflows.shared.context import RunContext, language_of, other_language
from upsort.workflows.shared.corpus import CorpusOptions, LabelColumn, read_labelled_corpus
from upsort.workflows.shared.results import described
from upsort.workflows.shared.scored_rows import check_costs


@record(frozen=True, kw_only=True)
class AnswerResult:
    """One answer of a sorter.

    training_accuracy: on the documents it was trained on. held_out: a quick check: on documents that sorters of the same plan,
    trained on the others, never saw. copies: documents that copy another one. too_common: terms left out because more than
    features.in_at_most of the documents hold them: the corpus's own stop words, most common first. seconds: by stage."""

    sorter: TrainedSorter
    training_accuracy: Rate
    held_out: "QuickCheck | None"
    copies: int
    too_common: list[str]
    without_tokens: int
    seconds: dict[str, float]


@record(frozen=True)
class QuickCheck:
    """A quick check: the rate, and how many of its documents do not belong together."""

    rate: Rate
    groups: int


@record(frozen=True, kw_only=True)
class TrainResult:
    """The answers, where they were saved, and how many bytes that took. read_seconds: reading, cleaning and counting. language:
    what is to be said where the texts are in another language than the plan says."""

    answers: tuple[AnswerResult, ...]
    path: Path
    size: int
    read_seconds: float
    language: str


def train(work: RunContext, output: Path, check: bool = True, extendable: bool = False) -> TrainResult:
    """Train on all usable labelled documents and write the sorter to `output`. check: make the quick check. extendable: keep the
    counts of the documents, so that others can be added."""
    began = time.perf_counter()
    corpus_options = CorpusOptions(
        copies=not work.plan.judge.allow_copies and (check or extendable or _has_inner_folds(work.plan)),
        fingerprints=extendable,
        at_least=1 if extendable else None,
        with_readers=not extendable,
    )
    corpus = read_labelled_corpus(work, corpus_options)
    read = time.perf_counter() - began
    method = corpus.method_of(work.plan)
    check_costs([answer.documents.names for answer in corpus.answers], method.costs, work.plan.decide.cost_file)
    several = len(corpus.answers) > 1
    answers = []
    for answer in corpus.answers:
        parallel = work.parallel(answer.documents)
        answers.append(_answer(answer, method, answer.name if several else "", check, parallel))
    if extendable:
        answers = [
            replace(result, sorter=replace(result.sorter, stored=sampled(stored_documents(corpus, answer))))
            for result, answer in zip(answers, corpus.answers, strict=True)
        ]
    size = save_sorters([answer.sorter for answer in answers], output)
    language = other_language(language_of(work.inputs, work.plan.columns), work.plan)
    return TrainResult(answers=tuple(answers), path=output, size=size, read_seconds=read, language=language)


def _has_inner_folds(plan: Plan) -> bool:
    """Whether training itself may hold documents out, so that it must know which belong together."""
    chosen = chooses_penalty(plan.classifier)
    return calibration_of(plan.classifier) != "none" or chosen or plan.decide.f_beta > 0 or bool(plan.columns.label_separator)


def _answer(answer: LabelColumn, method: PlanWithResources, name: str, check: bool, parallel: ParallelMap) -> AnswerResult:
    documents, plan = answer.documents, method.plan
    seconds: dict[str, float] = {}
    began = time.perf_counter()
    sorter, _ = train_sorter(documents, method, parallel=parallel)
    seconds["training"] = time.perf_counter() - began
    held_out = _on_inner_folds(sorter) if check else None
    if check and held_out is None:
        began = time.perf_counter()
        held_out = _quick_check(documents, method)
        seconds["check"] = time.perf_counter() - began
    return AnswerResult(
        sorter=replace(sorter, answer=name),
        training_accuracy=of_known(sorter.trained.right, sorter.trained.documents),
        held_out=held_out,
        copies=answer.groups.copies,
        too_common=too_common(documents.measured.counts, documents.measured.terms, plan.features),
        without_tokens=int((documents.measured.tokens == 0).sum()),
        seconds=seconds,
    )


def _on_inner_folds(sorter: TrainedSorter) -> QuickCheck | None:
    """What the folds of training told already; their documents are as few as their groups, at worst."""
    held_out = sorter.trained.held_out
    if held_out.right is None:
        return None
    return QuickCheck(wilson(held_out.right, held_out.documents, min(held_out.documents, held_out.groups)), held_out.groups)


def _quick_check(documents: LabelledDocuments, method: PlanWithResources) -> QuickCheck | None:
    """Train once more on four documents in five and judge the fifth; what belongs together stays together."""
    split = next(iter(usable_splits(documents, CALIBRATION_FOLDS, method.plan.judge.seed)), None)
    if split is None:
        return None
    try:
        prediction = outcome_of(documents, split, method.for_labels())
    except DataProblem:  # four in five may be too few to learn from, where all are enough
        return None
    right = documents.right(prediction.held_out, prediction.sorted_as, prediction.sets).astype(np.float64)
    sample = Sample.of(prediction.held_out, 1, documents.groups)
    return QuickCheck(share_of(right, np.ones(right.size), sample), sample.groups)


class TrainedJson(TypedDict):
    """What came of a training, of each answer."""

    answer: NotRequired[str]
    classifier: str
    documents: int
    terms: int
    labels: dict[str, int]
    penalty: float
    passes: Annotated[int, described("over the documents, before the steps; only of large trainings")]
    iterations: int
    optimality: float
    reached: bool
    calibration: str
    undecided_below: Annotated[float | None, described("the bound, where there is one")]
    too_common: Annotated[list[str], described("terms left out for being in too many documents")]
    without_tokens: int
    copies: int
    training_accuracy: Rate
    held_out_accuracy: Annotated[Rate | None, described("of the quick check")]


class Train(TrainedJson):
    """upsort train"""

    sorter: str
    bytes: int


class TrainSeveral(TypedDict):
    """upsort train, with several answers"""

    sorter: str
    bytes: int
    answers: list[TrainedJson]
