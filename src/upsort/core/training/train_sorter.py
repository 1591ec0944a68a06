"""Training: from measured documents and labels to a sorter. The only place where anything is learned from documents."""

from dataclasses import replace

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Bools, Ints
from upsort.core.classifiers import families
from upsort.core.classifiers.family import FittedClassifier
from upsort.core.errors import UsageProblem
from upsort.core.executors import ParallelMap, sequential
from upsort.core.features.vocabulary import known_words, total_counts
from upsort.core.matrices.partitioned import PartitionedMatrix, Sliced
from upsort.core.plan import Plan
from upsort.core.training.decision import PlanWithResources
from upsort.core.training.fit_decision import fit_decision, fold_plan_for, needs_folds
from upsort.core.training.fold_data import FeatureMatrix, build_features
from upsort.core.training.inner_cv import InnerCV, trained_on
from upsort.core.training.labelled import LabelledDocuments
from upsort.core.training.sorter import TrainedSorter, TrainingSummary, blank_rows, length_classes
from upsort.core.training.stored_documents import can_be_extended, left_out_counts


def train_sorter(
    documents: LabelledDocuments,
    method: PlanWithResources,
    seen: FeatureMatrix | None = None,
    parallel: ParallelMap = sequential,
) -> tuple[TrainedSorter, FeatureMatrix]:
    """Train a sorter on these documents and no others, from nothing.

    Labels that none of these documents has are left out of the sorter. seen: the documents as numbers, where they were
    represented before. spread: does the trainings on folds and on all. Returns the sorter and the documents as it saw them.
    Raises DataProblem for fewer than two labels and when no term is within the bounds.
    """
    documents = documents.present()
    plan = families.resolved(method.plan)
    method = replace(method, plan=plan)
    _check(documents, plan)
    seen = seen or build_features(documents, plan.features, method.resources)
    choosing = families.chooses_penalty(plan.classifier)
    needs_decision = needs_folds(documents, plan)
    inner = InnerCV(documents, ())
    if needs_decision or choosing:
        inner = InnerCV.of(documents, method, fold_plan_for(documents, plan, choosing))
    penalty = inner.best_penalty(plan, parallel) if choosing else families.penalty_of(plan.classifier)
    inner = inner if needs_decision else InnerCV(documents, ())
    matrix = seen.matrix

    def fitted(number: int) -> FittedClassifier:
        return inner.classifiers(number - 1, plan, penalty) if number else trained_on(documents, matrix, plan, penalty)

    classifier, *of_folds = parallel(fitted, 1 + len(inner.folds))
    decision = fit_decision(documents, method, inner, of_folds, choosing)
    if decision.undecided_below is not None:
        plan = replace(plan, decide=replace(plan.decide, undecided_below=decision.undecided_below))
    trained = TrainingSummary(
        label_documents=documents.label_documents,
        label_document_frequency=seen.space.label_document_frequency,
        documents=documents.documents,
        right=None,
        ended=classifier.ended,
        penalty=penalty,
        held_out=decision.held_out,
        lengths=length_classes(documents.measured.tokens),
        words=int(documents.measured.tokens.sum()) if plan.features.units == "words" else 0,
        known_words=known_words(seen.space, total_counts(documents.measured.counts)[seen.columns]),
        blank=int(blank_rows(seen.matrix).sum()),
    )
    sorter = TrainedSorter(
        plan=plan,
        labels=documents.names,
        space=seen.space,
        classifier=classifier,
        trained=trained,
        resources=method.resources,
        costs=method.costs if decision.decision is not None and not plan.decide.f_beta else None,
        calibration=decision.calibration,
        thresholds=decision.thresholds,
        pruned=left_out_counts(documents, seen, plan) if can_be_extended(plan, documents) else None,
        decision=decision.decision,
    )
    return replace(sorter, trained=replace(trained, right=_right(sorter, documents, seen))), seen


def _check(documents: LabelledDocuments, plan: Plan) -> None:
    if documents.sets is not None and not families.family(plan.classifier).sets:
        able = [kind for kind, family in families.FAMILIES.items() if family.sets]
        raise UsageProblem(
            f"{plan.classifier.kind} gives one label; the label column has several in a cell.",
            f"Use --set classifier.kind={', '.join(able[:-1])} or {able[-1]}.",
        )
    decide = plan.decide
    if documents.sets is not None and any(
        (decide.cost_file, decide.f_beta, decide.undecided_below, decide.decided_accuracy)
    ):
        raise UsageProblem(
            "The label column has several labels in a cell, each given by a threshold of its own: decide.cost_file, "
            "decide.f_beta, decide.undecided_below and decide.decided_accuracy have no place there.",
            "Leave them out.",
        )
    if plan.decide.cost_file and plan.decide.f_beta > 0:
        raise UsageProblem(
            "decide.cost_file and decide.f_beta are two ways of deciding; a sorter has one.", "Leave one of them out."
        )


def _right(sorter: TrainedSorter, documents: LabelledDocuments, seen: FeatureMatrix) -> int:
    """How many of its own documents it gets right, deciding as it decides about others."""
    if isinstance(seen.matrix, PartitionedMatrix):
        right = seen.matrix.sum(_right_of, sorter, Sliced(documents.labels), Sliced(documents.sets))
    else:
        right = _right_of(seen.matrix, sorter, documents.labels, documents.sets)
    return int(right)


def _right_of(matrix: csr_array, sorter: TrainedSorter, labels: Ints, sets: Bools | None) -> int:
    decisions = sorter.decide_rows(matrix)
    right = (
        decisions.best == labels if sets is None or decisions.sets is None else (decisions.sets ^ sets).sum(axis=1) == 0
    )
    return int(np.count_nonzero(right))
