"""Training: from measured documents and labels to a sorter. The only place where anything is learned from documents.

Adding documents to naive Bayes exactly: counts are all there is to it.

The counts of all terms, those outside the bounds too, are kept; added up they are those of training on everything, and the bounds
are applied anew. Terms and labels may be new. What other kinds need is their documents (see `stored_documents`)."""

from dataclasses import replace

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Bools, Floats, Ints, union_of_keys, word_keys
from upsort.core.classifiers import families
from upsort.core.classifiers.family import FittedClassifier, StoredClassifier
from upsort.core.classifiers.naive_bayes import log_priors
from upsort.core.errors import DataProblem, UsageProblem
from upsort.core.executors import ParallelMap, sequential
from upsort.core.features.corpus_counts import CorpusCounts
from upsort.core.features.vocabulary import (
    FeatureSpace,
    TermStatistics,
    chosen_terms,
    is_single_word,
    known_words,
    total_counts,
    words_are_terms,
)
from upsort.core.lazy import record
from upsort.core.matrices.partitioned import Sliced, as_partitioned
from upsort.core.plan import Plan
from upsort.core.training.decision import PlanWithResources
from upsort.core.training.fit_decision import fit_decision, fold_plan_for, needs_folds
from upsort.core.training.folds import InnerCV, trained_on
from upsort.core.training.labelled import FeatureMatrix, HeldOut, LabelledDocuments, build_features
from upsort.core.training.sorter import TrainedSorter, TrainingSummary, blank_rows, length_classes
from upsort.core.training.stored_documents import PrunedCounts, can_be_extended, counts_presence, left_out_counts


def train_sorter(
    documents: LabelledDocuments, method: PlanWithResources, seen: FeatureMatrix | None = None, parallel: ParallelMap = sequential
) -> tuple[TrainedSorter, FeatureMatrix]:
    """Train a sorter on these documents and no others, from nothing.

    Labels that none of these documents has are left out of the sorter. seen: the documents as numbers, where they were
    represented before. parallel: does the trainings on folds and on all. Returns the sorter and the documents as it saw them.
    Raises DataProblem for fewer than two labels and when no term is within the bounds."""
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
        space=with_ignored_words(seen.space, documents.measured),
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
    if documents.sets is not None and any((decide.cost_file, decide.f_beta, decide.undecided_below, decide.decided_accuracy)):
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
    return int(as_partitioned(seen.matrix).sum(_right_of, sorter, Sliced(documents.labels), Sliced(documents.sets)))


def _right_of(matrix: csr_array, sorter: TrainedSorter, labels: Ints, sets: Bools | None) -> int:
    decisions = sorter.decide_rows(matrix)
    right = decisions.best == labels if sets is None or decisions.sets is None else (decisions.sets ^ sets).sum(axis=1) == 0
    return int(np.count_nonzero(right))


@record(frozen=True, kw_only=True)
class _LabelledCounts:
    """Counts by term and label, of all terms. documents: (k,) of each label."""

    names: tuple[str, ...]
    terms: list[str]
    frequency: Ints
    counts: Floats
    documents: Ints


def extended_by_counts(sorter: TrainedSorter, more: LabelledDocuments) -> TrainedSorter:
    """The sorter that training on the earlier documents and these gives, but for its calibration, which stays.

    more: with the counts of all terms. Raises DataProblem for a sorter that does not keep its counts."""
    if sorter.pruned is None:
        raise DataProblem(
            "This sorter does not keep the counts that adding documents exactly needs.",
            "Give the older documents again with --with, or train naive Bayes on counts.",
        )
    whole = _added(_stored_counts(sorter, sorter.pruned), _of_documents(more, sorter))
    documents = int(whole.documents.sum())
    presence = sorter.plan.features.weighting == "presence"
    totals = whole.frequency.sum(axis=1) if presence else np.rint(whole.counts.sum(axis=1)).astype(np.int64)
    statistics = TermStatistics(
        terms=whole.terms,
        frequency=whole.frequency.sum(axis=1),
        totals=totals,
        by_label=whole.frequency,
        label_documents=whole.documents,
        documents=documents,
    )
    features = sorter.plan.features
    columns = chosen_terms(statistics, features, sorter.resources.vocabulary)
    space = FeatureSpace(
        terms=[whole.terms[place] for place in columns.tolist()],
        counted=columns.size,
        document_frequency=whole.frequency[columns].sum(axis=1),
        label_document_frequency=whole.frequency[columns],
        documents=documents,
        mean_length=0.0,
        settings=features,
        ignored=word_keys(
            whole.terms[place]
            for place in np.setdiff1d(np.arange(len(whole.terms)), columns).tolist()
            if words_are_terms(features) and is_single_word(whole.terms[place])
        ),
    )
    values = whole.frequency[columns].astype(np.float64) if counts_presence(sorter.plan) else whole.counts[columns]
    sizes = whole.documents.astype(np.float64)
    settings = sorter.plan.classifier
    family = families.family(settings)
    arrays = {
        family.additive: np.ascontiguousarray(values),
        "label_documents": sizes,
        "log_prior": log_priors(sizes, settings, whole.names),
    }
    classifier = family.restore(StoredClassifier(settings=settings, arrays=arrays, terms=columns.size, labels=len(whole.names)))
    rest = np.ones(len(whole.terms), dtype=bool)
    rest[columns] = False
    places = np.flatnonzero(rest)
    pruned = PrunedCounts([whole.terms[place] for place in places.tolist()], whole.frequency[places], whole.counts[places])
    # Without calibration nothing is kept that the documents themselves would be needed for.
    trained = TrainingSummary(
        label_documents=whole.documents,
        label_document_frequency=space.label_document_frequency,
        documents=documents,
        right=None,
        ended=classifier.ended,
        lengths=sorter.trained.lengths + length_classes(more.measured.tokens),
        words=sorter.trained.words + int(more.measured.tokens.sum()),
        known_words=known_words(space, totals[columns]),
        held_out=replace(sorter.trained.held_out, right=None) if whole.names == sorter.labels else HeldOut(),
    )
    return replace(sorter, labels=whole.names, space=space, classifier=classifier, trained=trained, pruned=pruned)


def _stored_counts(sorter: TrainedSorter, pruned: PrunedCounts) -> _LabelledCounts:
    """What a sorter knows of its documents. Presence says nothing of counts, and none are needed then."""
    frequency = sorter.trained.label_document_frequency
    arrays = sorter.classifier.arrays()
    additive = families.family(sorter.plan.classifier).additive
    counts = frequency.astype(np.float64) if counts_presence(sorter.plan) else arrays[additive]
    return _LabelledCounts(
        names=sorter.labels,
        terms=sorter.space.terms + pruned.terms,
        frequency=np.vstack((frequency, pruned.frequency)),
        counts=np.vstack((counts, pruned.counts)),
        documents=sorter.trained.label_documents,
    )


def _of_documents(more: LabelledDocuments, sorter: TrainedSorter) -> _LabelledCounts:
    """The same of further documents."""
    k = len(more.names)
    counts = more.measured.local_counts
    cells = counts.indices.astype(np.int64) * k + np.repeat(more.labels, np.diff(counts.indptr))
    size = counts.shape[1] * k
    values = np.ones(counts.nnz) if counts_presence(sorter.plan) else counts.data.astype(np.float64)
    return _LabelledCounts(
        names=more.names,
        terms=more.measured.terms,
        frequency=np.bincount(cells, minlength=size).reshape(-1, k).astype(np.int64),
        counts=np.bincount(cells, weights=values, minlength=size).reshape(-1, k).astype(np.float64),
        documents=np.bincount(more.labels, minlength=k).astype(np.int64),
    )


def _added(first: _LabelledCounts, second: _LabelledCounts) -> _LabelledCounts:
    """Both together, over the labels and terms of either, sorted."""
    names = tuple(sorted({*first.names, *second.names}))
    terms = sorted({*first.terms, *second.terms})
    place = {term: number for number, term in enumerate(terms)}
    frequency = np.zeros((len(terms), len(names)), dtype=np.int64)
    counts = np.zeros((len(terms), len(names)))
    documents = np.zeros(len(names), dtype=np.int64)
    for part in (first, second):
        rows = np.array([place[term] for term in part.terms], dtype=np.int64)
        columns = np.array([names.index(name) for name in part.names], dtype=np.int64)
        frequency[np.ix_(rows, columns)] += part.frequency
        counts[np.ix_(rows, columns)] += part.counts
        documents[columns] += part.documents
    return _LabelledCounts(names=names, terms=terms, frequency=frequency, counts=counts, documents=documents)


def with_ignored_words(space: FeatureSpace, measured: CorpusCounts) -> FeatureSpace:
    """The same space, with the words of its training documents that are no terms. measured: these documents."""
    if not words_are_terms(space.settings):
        return space
    terms = space.columns
    dropped = [term for term in measured.terms if term not in terms and is_single_word(term)]
    return replace(space, ignored=union_of_keys((measured.rare, word_keys(dropped))))


def with_words_seen_before(space: FeatureSpace, before: FeatureSpace) -> FeatureSpace:
    """The same space, which also knows the words that an earlier one of other documents has or ignores."""
    if not words_are_terms(space.settings):
        return space
    terms = space.columns
    known = word_keys(term for term in before.terms[: before.counted] if term not in terms and is_single_word(term))
    every = union_of_keys((space.ignored, before.ignored, known))
    return replace(space, ignored=np.setdiff1d(every, word_keys(terms)))
