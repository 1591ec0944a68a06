"""Adding newly labelled documents to a sorter."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Literal

from upsort.core.classifiers.families import family
from upsort.core.learning.extending import extended_by_anchor, extended_by_counts
from upsort.core.learning.sorter import Sorter
from upsort.core.learning.training import train_sorter
from upsort.files.sorter_file import save_sorters
from upsort.files.sorter_loading import load_sorters
from upsort.files.sources import Inputs
from upsort.files.writing import check_writable
from upsort.jobs.corpus import Keeping, read_labelled_corpus
from upsort.jobs.work import Work

Way = Literal["counts", "everything", "anchor"]
"""Exactly by counts, trained anew on everything, or drawn from the earlier weights."""


@dataclass(frozen=True, kw_only=True)
class ExtendResult:
    """The answers after the extension. way: `counts`, `everything` or `anchor`, see `core.extending`. added: documents.

    new_terms, new_labels: that the sorter did not know before, over all answers.
    """

    sorters: tuple[Sorter, ...]
    way: Way
    added: int
    new_terms: int
    lost_terms: int
    new_labels: tuple[str, ...]
    size: int


def extend(path: Path, more: Work, older: Inputs | None, output: Path) -> ExtendResult:
    """Add the documents of `more` to the sorter at `path`; `older` are those it was trained on, where they are given again."""
    check_writable(output)
    sorters = load_sorters(path)
    plan = sorters[0].plan
    inputs = more.inputs
    if older is not None:
        inputs = replace(inputs, tables=(*older.tables, *inputs.tables))
    keeping = Keeping(copies=not plan.judge.allow_copies and older is not None, at_least=1)
    corpus = read_labelled_corpus(replace(more, inputs=inputs, plan=plan), keeping)
    exact = bool(family(plan.classifier.kind).additive)
    way: Way = "everything" if older is not None else "counts" if exact else "anchor"
    extended = []
    for sorter, answer in zip(sorters, corpus.answers, strict=True):
        if older is not None:
            whole, _ = train_sorter(answer.documents, corpus.method_of(plan))
            extended.append(replace(whole, answer=sorter.answer))
        else:
            extended.append((extended_by_counts if exact else extended_by_anchor)(sorter, answer.documents))
    size = save_sorters(extended, output)
    before, after = _terms(sorters), _terms(extended)
    labels = {label for sorter in extended for label in sorter.labels} - {
        label for sorter in sorters for label in sorter.labels
    }
    added = sum(sorter.trained.documents for sorter in extended) - sum(sorter.trained.documents for sorter in sorters)
    return ExtendResult(
        sorters=tuple(extended),
        way=way,
        added=added,
        new_terms=len(after - before),
        lost_terms=len(before - after),
        new_labels=tuple(sorted(labels)),
        size=size,
    )


def _terms(sorters: Sequence[Sorter]) -> set[str]:
    return {term for sorter in sorters for term in sorter.space.terms}
