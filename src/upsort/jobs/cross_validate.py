"""Judging a plan by folds."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from upsort.core.judging import cross_validation
from upsort.core.judging.folds import stratified_folds
from upsort.core.plan import Plan
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.jobs.corpus import read_labelled_corpus
from upsort.jobs.progress import Advance, no_progress


@dataclass(frozen=True)
class CrossValidateResult:
    """The folds' results and how many documents and distinct terms they rest on."""

    result: cross_validation.CrossValidation
    documents: int
    distinct_terms: int


def cross_validate(
    inputs: Inputs,
    plan: Plan,
    aside: SetAside,
    advance: Advance = no_progress,
    fold_done: Callable[[int], None] | None = None,
    workers: int = 1,
) -> CrossValidateResult:
    """Read and count once, then train and judge fold by fold."""
    corpus = read_labelled_corpus(inputs, plan, aside, advance, workers)
    documents = corpus.answers[0].documents
    fold = stratified_folds(documents.labels, documents.names, plan.judge.folds, plan.judge.seed)
    held = [np.flatnonzero(fold == number) for number in range(plan.judge.folds)]
    result = cross_validation.cross_validate(documents, plan, held, corpus.resources, fold_done)
    return CrossValidateResult(result, corpus.documents, corpus.measured.distinct)
