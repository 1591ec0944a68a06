"""Training a sorter and saving it."""

import time
from collections import defaultdict
from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from msgspec import UNSET, Struct, UnsetType, structs

from upsort.core.arrays import Bools, Ints
from upsort.core.classifiers.families import calibration_of, chooses_penalty
from upsort.core.errors import DataProblem
from upsort.core.evaluation.cross_validation import outcome_of
from upsort.core.evaluation.intervals import Rate, Sample, of_known, share_of
from upsort.core.evaluation.leaks import Leak
from upsort.core.evaluation.novelty import SimilarityRates, rates_by_similarity, similarities_on_splits
from upsort.core.features.fingerprints import TO_JUDGE, TO_KEEP, Sketches, bounded
from upsort.core.features.vocabulary import too_common
from upsort.core.lazy import record
from upsort.core.plan import Plan
from upsort.core.training.decision import PlanWithResources
from upsort.core.training.folds import CALIBRATION_FOLDS, Split, usable_splits
from upsort.core.training.labelled import LabelledDocuments
from upsort.core.training.sorter import TrainedSorter
from upsort.core.training.stored_documents import sampled
from upsort.core.training.train_sorter import train_sorter
from upsort.io.sorter.saving import save_sorters
from upsort.workflows.extend import stored_documents
from upsort.workflows.shared.context import RunContext, in_its_language, language_of, other_language
from upsort.workflows.shared.corpus import CorpusOptions, LabelColumn, read_labelled_corpus
from upsort.workflows.shared.scored_rows import check_costs


class AnswerResult(Struct, frozen=True, kw_only=True):
    """One answer of a sorter. answer: its name, where there are several. labels: training documents of each. passes: over the
    documents, before the steps; only of large trainings. undecided_below: the bound, where there is one. too_common: terms left
    out because more than features.in_at_most of the documents hold them, most common first. copies: documents that resemble an
    earlier one. training_accuracy: on the documents it was trained on. held_out_accuracy: of the quick check: on documents that
    sorters of the same plan, trained on the others, never saw. held_out_groups: how many of those do not belong together.
    by_similarity: to the nearest training document; null where documents are too many to compare. decided: the share above
    the bound that was chosen on folds of these documents; null where none was chosen. decided_accuracy: the share of them that is
    right. leaks: what gives away labels by itself; empty without the quick check."""

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
    by_similarity: SimilarityRates | None
    decided: Rate | None
    decided_accuracy: Rate | None
    leaks: list[Leak]


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


def train(work: RunContext, output: Path, check: bool = True, extendable: bool = False, fingerprints: bool = True) -> Training:
    """Train on all usable labelled documents and write the sorter to `output`. check: make the quick check. extendable: keep the
    counts of the documents, so that others can be added. fingerprints: keep what tells how new another document is."""
    seconds: defaultdict[str, float] = defaultdict(float)
    began = time.perf_counter()
    work = replace(work, plan=in_its_language(work.plan, work.inputs)[0])
    corpus_options = CorpusOptions(
        copies=not work.plan.judge.allow_copies and (check or extendable or _has_inner_folds(work.plan)),
        fingerprints=extendable,
        sketches=TO_JUDGE if check else TO_KEEP if fingerprints else 0,
        numbers=check,
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
        sketches = corpus.sketches_of(answer)
        whole = sketches if sketches is not None and sketches.kept == answer.documents.documents else None
        sorter, held_out = _trained_and_checked(answer.documents, method, whole, work, check)
        kept = bounded(sketches) if fingerprints and sketches is not None else None
        sorter = replace(sorter, answer=answer.name if several else "", sketches=kept)
        seconds["training"] += time.perf_counter() - began
        if extendable:
            sorter = replace(sorter, stored=sampled(stored_documents(corpus, answer)))
        leaks = corpus.leaks(answer) if check else []
        answers.append((_answer_result(answer, sorter, held_out, leaks), sorter))
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


def _trained_and_checked(
    documents: LabelledDocuments, method: PlanWithResources, sketches: Sketches | None, work: RunContext, check: bool
) -> "tuple[TrainedSorter, _QuickCheck | None]":
    """The sorter and its quick check, by the folds of its training where they can tell, else by another training."""
    parallel = work.parallel(documents)
    if check and chooses_penalty(method.plan.classifier):  # both trainings choose one, which takes long: they share the threads
        both: list[Callable[[], Any]] = [
            partial(train_sorter, documents, method),
            partial(_quick_check, documents, method, sketches),
        ]
        (sorter, _), held_out = parallel(lambda number: both[number](), 2)
        return sorter, held_out
    sorter, _ = train_sorter(documents, method, parallel=parallel)
    held_out = _on_inner_folds(sorter, documents, sketches) if check else None
    if check and held_out is None:
        work.begin("quick check", 0)
        held_out = _quick_check(documents, method, sketches)
    return sorter, held_out


def _has_inner_folds(plan: Plan) -> bool:
    """Whether training itself may hold documents out, so that it must know which belong together."""
    chosen = chooses_penalty(plan.classifier)
    return calibration_of(plan.classifier) != "none" or chosen or plan.decide.f_beta > 0 or bool(plan.columns.label_separator)


def _answer_result(answer: LabelColumn, sorter: TrainedSorter, held_out: "_QuickCheck | None", leaks: list[Leak]) -> AnswerResult:
    trained, measured = sorter.trained, answer.documents.measured
    decided, decided_accuracy = _decided(sorter, answer.documents)
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
        too_common=too_common(measured.counts, measured.terms, sorter.plan.features),
        without_tokens=int((measured.tokens == 0).sum()),
        copies=answer.groups.copies,
        training_accuracy=of_known(trained.right, trained.documents),
        held_out_accuracy=held_out.accuracy if held_out is not None else None,
        held_out_groups=held_out.groups if held_out is not None else None,
        by_similarity=held_out.by_similarity if held_out is not None else None,
        decided=decided,
        decided_accuracy=decided_accuracy,
        leaks=leaks,
    )


def _decided(sorter: TrainedSorter, documents: LabelledDocuments) -> tuple[Rate | None, Rate | None]:
    """How many of the documents that folds held out are above the bound, and how many of these are right."""
    held_out = sorter.trained.held_out
    if held_out.fold is None or held_out.above is None or held_out.given_right is None:
        return None, None
    judged = np.flatnonzero(held_out.fold >= 0)
    above, sample = held_out.above[judged].astype(np.float64), Sample.of(judged, 1, documents.groups)
    return share_of(above, np.ones(above.size), sample), share_of(above * held_out.given_right[judged], above, sample)


@record(frozen=True, kw_only=True)
class _QuickCheck:
    """The accuracy on documents that were held out, how many of them do not belong together, and the accuracy by similarity."""

    accuracy: Rate
    groups: int
    by_similarity: SimilarityRates | None


def _on_inner_folds(sorter: TrainedSorter, documents: LabelledDocuments, sketches: Sketches | None) -> _QuickCheck | None:
    """The quick check by the folds of training. sketches: of the documents."""
    held_out = sorter.trained.held_out
    if held_out.right is None or held_out.fold is None or held_out.given_right is None:
        return None
    folds = range(int(held_out.fold.max()) + 1)
    each = [Split(np.flatnonzero(held_out.fold != number), np.flatnonzero(held_out.fold == number)) for number in folds]
    judged = np.concatenate([split.held_out for split in each])
    return _judged(held_out.given_right[judged], judged, documents, (sketches, each, sorter.plan))


def _quick_check(documents: LabelledDocuments, method: PlanWithResources, sketches: Sketches | None) -> _QuickCheck | None:
    """Train once more on four documents in five and judge the fifth; what belongs together stays together."""
    split = next(iter(usable_splits(documents, CALIBRATION_FOLDS, method.plan.judge.seed)), None)
    if split is None:
        return None
    try:
        prediction = outcome_of(documents, split, method.for_labels())
    except DataProblem:  # four in five may be too few to learn from, where all are enough
        return None
    right = documents.right(prediction.held_out, prediction.sorted_as, prediction.sets)
    return _judged(right, prediction.held_out, documents, (sketches, [split], method.plan))


def _judged(
    right: Bools, held_out: Ints, documents: LabelledDocuments, similar: tuple[Sketches | None, Sequence[Split], Plan]
) -> _QuickCheck:
    """right: of the held-out documents. similar: the sketches of all documents, and the splits by which these were held out."""
    sketches, each, plan = similar
    sample = Sample.of(held_out, 1, documents.groups)
    accuracy = share_of(right.astype(np.float64), np.ones(right.size), sample)
    by_similarity = None
    if sketches is not None:
        by_similarity = rates_by_similarity(similarities_on_splits(sketches, each), right, sample, plan.judge.similarity)
    return _QuickCheck(accuracy=accuracy, groups=sample.groups, by_similarity=by_similarity)
