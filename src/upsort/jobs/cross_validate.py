"""Judging a plan by folds."""

from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from upsort.core.errors import DataProblem
from upsort.core.judging import cross_validation
from upsort.core.judging.intervals import Rate, wilson
from upsort.core.plan import Plan
from upsort.core.training import Labelled
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.files.tables_out import table_file
from upsort.jobs.corpus import LabelledCorpus, read_labelled_corpus
from upsort.jobs.judging import Prepared, prepared
from upsort.jobs.progress import Advance, no_progress


@dataclass(frozen=True)
class CrossValidateResult:
    """One answer. copies: documents that copy another one, kept on one side of every split; without_copies_apart: where copies
    were allowed on both sides, the result when they are not, and copied: the accuracy on documents that have
    copies, either way."""

    name: str
    result: cross_validation.CrossValidation
    without_copies_apart: cross_validation.CrossValidation | None
    copied: tuple[Rate, Rate] | None
    copies: int
    documents: int
    distinct_terms: int


def cross_validate(
    inputs: Inputs,
    plan: Plan,
    aside: SetAside,
    advance: Advance = no_progress,
    fold_done: Callable[[int], None] | None = None,
    workers: int = 1,
    output: Path | None = None,
) -> list[CrossValidateResult]:
    """Read and count once, then train and judge fold by fold, answer by answer. output: a table of what each got."""
    corpus = read_labelled_corpus(inputs, plan, aside, advance, workers)
    results = []
    for number in range(len(corpus.answers)):
        ready = prepared(corpus, plan, number)
        result = cross_validation.cross_validate(ready.documents, plan, ready.splits, corpus.resources, fold_done)
        other, copied, copies = None, None, ready.copies
        if plan.judge.allow_copies:
            with suppress(
                DataProblem
            ):  # where nothing is left to learn from without copies, there is nothing to compare
                careful = prepared(corpus, replace(plan, judge=replace(plan.judge, allow_copies=False)), number)
                copies = careful.copies
                other = cross_validation.cross_validate(careful.documents, plan, careful.splits, corpus.resources)
                copied = (_on_copied(result, careful.documents), _on_copied(other, careful.documents))
        results.append(
            CrossValidateResult(
                ready.name, result, other, copied, copies, ready.documents.measured.documents, corpus.measured.distinct
            )
        )
        if output is not None:
            path = output if len(corpus.answers) == 1 else output.with_stem(f"{output.stem}-{ready.name}")
            _write(path, corpus, ready, result)
    return results


def _on_copied(result: cross_validation.CrossValidation, documents: Labelled) -> Rate:
    """The accuracy on documents that share their group with another."""
    groups = documents.groups if documents.groups is not None else np.arange(documents.labels.size)
    has_copies = np.bincount(groups)[groups] > 1
    right = result.right(documents.labels)[has_copies[result.judged]]
    return wilson(int(right.sum()), int(right.size))


def _write(path: Path, corpus: LabelledCorpus, ready: Prepared, result: cross_validation.CrossValidation) -> None:
    names = ready.documents.names
    columns = ("document", "fold", "label", "sorted_label", "sorted_probability", "own_probability")
    with table_file(path, [*columns, *(f"probability: {name}" for name in names)]) as writer:
        for place, judged in enumerate(result.judged.tolist()):
            own, given = int(ready.documents.labels[judged]), int(result.given[place])
            chances = result.probabilities[place].tolist()
            writer.writerow(
                [
                    corpus.ids[int(ready.rows[judged])],
                    str(int(result.fold[place]) + 1),
                    names[own],
                    names[given],
                    f"{chances[given]:.6f}",
                    f"{chances[own]:.6f}",
                    *(f"{chance:.6f}" for chance in chances),
                ]
            )
