"""Judging a plan by folds."""

from collections.abc import Callable
from dataclasses import dataclass

from upsort.core.judging import cross_validation
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
    result = cross_validation.cross_validate(
        corpus.measured, corpus.labels, corpus.names, plan, fold_done, corpus.resources
    )
    return CrossValidateResult(result, corpus.documents, corpus.measured.distinct)
