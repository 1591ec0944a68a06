"""Judging a plan by folds."""

from contextlib import suppress
from pathlib import Path

import numpy as np

from upsort.core.errors import DataProblem
from upsort.core.judging import cross_validation
from upsort.core.judging.intervals import Rate, share_of
from upsort.core.learning.labelled import LabelledDocuments
from upsort.core.records import record
from upsort.core.text.labels import joined_labels
from upsort.files.tables_out import table_file
from upsort.jobs.corpus import CorpusOptions, LabelledCorpus, read_labelled_corpus
from upsort.jobs.judging import DuplicateHandling, PreparedFolds, prepare_folds
from upsort.jobs.work import RunContext


@record(frozen=True, kw_only=True)
class CrossValidateResult:
    """One answer. kept: how copies and groups were kept on one side; without_copies_apart: where copies were allowed on both
    sides, the result when they are not, and copied: the accuracy on documents that have copies, either way."""

    name: str
    result: cross_validation.CrossValidation
    without_copies_apart: cross_validation.CrossValidation | None
    copied: tuple[Rate, Rate] | None
    duplicates: DuplicateHandling
    documents: int
    distinct_terms: int


def cross_validate(work: RunContext, output: Path | None = None) -> list[CrossValidateResult]:
    """Read and count once, then train and judge fold by fold, answer by answer. output: a table of what each got."""
    corpus = read_labelled_corpus(work, CorpusOptions(with_readers=True))
    method, repeats = corpus.method_of(work.plan), work.plan.judge.repeats
    results = []
    for answer in corpus.answers:
        ready = prepare_folds(corpus, work.plan, answer)
        parallel = work.parallel(ready.documents)
        result = cross_validation.judge_by_folds(ready.parts, method, repeats, parallel=parallel)
        other, copied = None, None
        if work.plan.judge.allow_copies:
            with suppress(
                DataProblem
            ):  # where nothing is left to learn from without copies, there is nothing to compare
                careful = prepare_folds(corpus, work.plan, answer, allow_copies=False)
                other = cross_validation.judge_by_folds(careful.parts, method, repeats, parallel=parallel)
                copied = (_on_duplicates(result, careful.documents), _on_duplicates(other, careful.documents))
        results.append(
            CrossValidateResult(
                name=ready.name,
                result=result,
                without_copies_apart=other,
                copied=copied,
                duplicates=ready.duplicates,
                documents=ready.documents.documents,
                distinct_terms=corpus.measured.distinct,
            )
        )
        if output is not None:
            path = output if len(corpus.answers) == 1 else output.with_stem(f"{output.stem}-{ready.name}")
            _write(path, corpus, ready, result, work.plan.columns.label_separator)
    return results


def _on_duplicates(result: cross_validation.CrossValidation, documents: LabelledDocuments) -> Rate:
    """The accuracy on documents that belong together with another."""
    groups = documents.groups if documents.groups is not None else np.arange(documents.documents)
    _, number, times = np.unique(groups, return_inverse=True, return_counts=True)
    among = (times[number] > 1)[result.judged].astype(np.float64)
    right = result.right * among
    return share_of(right, among, result.sample)


def _write(
    path: Path, corpus: LabelledCorpus, ready: PreparedFolds, result: cross_validation.CrossValidation, separator: str
) -> None:
    """What each document was given, and the probabilities. separator: between the labels of a cell, where it may hold several;
    no single probability is then that of the cell."""
    names = ready.documents.names
    own_sets, given_sets = ready.documents.sets, result.sets
    if own_sets is not None and given_sets is not None:
        of_sets = ("document", "fold", "label", "sorted_label")
        with table_file(path, [*of_sets, *(f"probability: {name}" for name in names)]) as writer:
            for place, judged in enumerate(result.judged.tolist()):
                cells = [
                    joined_labels(
                        (name for name, has in zip(names, label_sets[at].tolist(), strict=True) if has), separator
                    )
                    for label_sets, at in ((own_sets, judged), (given_sets, place))
                ]
                chances = [f"{chance:.6f}" for chance in result.probabilities[place].tolist()]
                fold = str(int(result.fold[place]) + 1)
                writer.writerow([corpus.metadata.ids[int(ready.rows[judged])], fold, *cells, *chances])
        return
    columns = ("document", "fold", "label", "sorted_label", "sorted_probability", "own_probability")
    with table_file(path, [*columns, *(f"probability: {name}" for name in names)]) as writer:
        for place, judged in enumerate(result.judged.tolist()):
            own, sorted_as = int(ready.documents.labels[judged]), int(result.sorted_as[place])
            chances = result.probabilities[place].tolist()
            writer.writerow(
                [
                    corpus.metadata.ids[int(ready.rows[judged])],
                    str(int(result.fold[place]) + 1),
                    names[own],
                    names[sorted_as],
                    f"{chances[sorted_as]:.6f}",
                    f"{chances[own]:.6f}",
                    *(f"{chance:.6f}" for chance in chances),
                ]
            )
