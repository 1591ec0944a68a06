"""Training a sorter and saving it."""

import time
from collections import defaultdict
from dataclasses import replace
from pathlib import Path

import numpy as np
from msgspec import UNSET, Struct, UnsetType, structs

from upsort.core.classifiers.families import calibration_of, chooses_penalty
from upsort.core.errors import DataProblem
from upsort.core.evaluation.cross_validation import outcome_of
from upsort.core.evaluation.intervals import Rate, Sample, of_known, share_of, wilson
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
from upsort.workflows.shared.scored_rows import check_costs


class AnswerResult(Struct, frozen=True, kw_only=True):
    """One answer of a sorter. answer: its name, where there are several. labels: training documents of each. passes: over the
    documents, before the steps; only of large trainings. undecided_below: the bound, where there is one. too_common: terms left
    out because more than features.in_at_most of the documents hold them, most common first. copies: documents that copy another
    one. training_accuracy: on the documents it was trained on. held_out_accuracy: of the quick check: on documents that sorters
    of the same plan, trained on the others, never saw. held_out_groups: how many of those do not belong together."""

    answer: str | UnsetType = UNSET
    classifier: str
    documents: int
    terms: int
    labels: dict[str, int]
    penalty: float
    passes: int
    iterations: int
    optimality: float
    reached: bool
    calibration: str
    undecided_below: float | None
    too_common: list[str]
    without_tokens: int
    copies: int
    training_accuracy: Rate
    held_out_accuracy: Rate | None
    held_out_groups: int | None


class TrainResult(AnswerResult, frozen=True, kw_only=True):
    """upsort train. sorter, bytes: the file."""

    sorter: str
    bytes: int


class TrainSeveralResult(Struct, frozen=True, kw_only=True):
    """upsort train, with several answers"""

    sorter: str
    bytes: int
    answers: list[AnswerResult]


@record(frozen=True, kw_only=True)
class Training:
    """A result and what is not part of its JSON. answers: the result of each sorter. seconds: by stage. language: what is to be
    said where the texts are in another language than the plan says."""

    result: TrainResult | TrainSeveralResult
    answers: list[tuple[AnswerResult, TrainedSorter]]
    seconds: dict[str, float]
    language: str


def train(work: RunContext, output: Path, check: bool = True, extendable: bool = False) -> Training:
    """Train on all usable labelled documents and write the sorter to `output`. check: make the quick check. extendable: keep the
    counts of the documents, so that others can be added."""
    seconds: defaultdict[str, float] = defaultdict(float)
    began = time.perf_counter()
    corpus_options = CorpusOptions(
        copies=not work.plan.judge.allow_copies and (check or extendable or _has_inner_folds(work.plan)),
        fingerprints=extendable,
        at_least=1 if extendable else None,
        with_readers=not extendable,
    )
    corpus = read_labelled_corpus(work, corpus_options)
    seconds["reading and counting"] = time.perf_counter() - began
    method = corpus.method_of(work.plan)
    check_costs([answer.documents.names for answer in corpus.answers], method.costs, work.plan.decide.cost_file)
    several = len(corpus.answers) > 1
    answers = []
    for answer in corpus.answers:
        began = time.perf_counter()
        sorter, _ = train_sorter(answer.documents, method, parallel=work.parallel(answer.documents))
        sorter = replace(sorter, answer=answer.name if several else "")
        seconds["training"] += time.perf_counter() - began
        held_out = _on_inner_folds(sorter) if check else None
        if check and held_out is None:
            began = time.perf_counter()
            work.begin("quick check", 0)
            held_out = _quick_check(answer.documents, method)
            seconds["check"] += time.perf_counter() - began
        if extendable:
            sorter = replace(sorter, stored=sampled(stored_documents(corpus, answer)))
        answers.append((_answer_result(answer, sorter, held_out, work.plan), sorter))
    size = save_sorters([sorter for _, sorter in answers], output)
    results = [result for result, _ in answers]
    return Training(
        result=TrainSeveralResult(sorter=str(output), bytes=size, answers=results)
        if several
        else TrainResult(sorter=str(output), bytes=size, **structs.asdict(results[0])),
        answers=answers,
        seconds=dict(seconds),
        language=other_language(language_of(work.inputs, work.plan.columns), work.plan),
    )


def _has_inner_folds(plan: Plan) -> bool:
    """Whether training itself may hold documents out, so that it must know which belong together."""
    chosen = chooses_penalty(plan.classifier)
    return calibration_of(plan.classifier) != "none" or chosen or plan.decide.f_beta > 0 or bool(plan.columns.label_separator)


def _answer_result(answer: LabelColumn, sorter: TrainedSorter, held_out: tuple[Rate, int] | None, plan: Plan) -> AnswerResult:
    trained, measured = sorter.trained, answer.documents.measured
    return AnswerResult(
        answer=sorter.answer or UNSET,
        classifier=sorter.plan.classifier.kind,
        documents=trained.documents,
        terms=len(sorter.space.terms),
        labels=dict(zip(sorter.labels, trained.label_documents.tolist(), strict=True)),
        penalty=trained.penalty,
        passes=trained.ended.passes,
        iterations=trained.ended.iterations,
        optimality=trained.ended.optimality,
        reached=trained.ended.reached,
        calibration=sorter.calibration.kind,
        undecided_below=sorter.plan.decide.undecided_below or None,
        too_common=too_common(measured.counts, measured.terms, plan.features),
        without_tokens=int((measured.tokens == 0).sum()),
        copies=answer.groups.copies,
        training_accuracy=of_known(trained.right, trained.documents),
        held_out_accuracy=held_out[0] if held_out is not None else None,
        held_out_groups=held_out[1] if held_out is not None else None,
    )


def _on_inner_folds(sorter: TrainedSorter) -> tuple[Rate, int] | None:
    """The quick check by the folds of training: the rate, and how many of its documents do not belong together; no more documents
    than groups are counted."""
    held_out = sorter.trained.held_out
    if held_out.right is None:
        return None
    return wilson(held_out.right, held_out.documents, min(held_out.documents, held_out.groups)), held_out.groups


def _quick_check(documents: LabelledDocuments, method: PlanWithResources) -> tuple[Rate, int] | None:
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
    return share_of(right, np.ones(right.size), sample), sample.groups
