"""Finding labelled documents that look mislabelled."""

from contextlib import suppress
from dataclasses import replace
from pathlib import Path

import numpy as np
from msgspec import structs
from scipy.sparse import csr_array

from upsort.core.analysis.label_terms import strongest_terms
from upsort.core.arrays import Bools, Floats, Ints
from upsort.core.classifiers.families import family
from upsort.core.errors import DataProblem, UsageProblem
from upsort.core.evaluation.cross_validation import judge_by_folds
from upsort.core.evaluation.intervals import Rate
from upsort.core.evaluation.suspects import expected_wrong, find_suspects, find_wrong_sets
from upsort.core.executors import ParallelMap
from upsort.core.lazy import record
from upsort.core.matrices.partitioned import local_matrix
from upsort.core.plan import Classifier, Plan
from upsort.core.text.characters import joined_labels
from upsort.core.text.cleaning import cleaner
from upsort.core.text.step import Resources
from upsort.core.training.decision import PlanWithResources
from upsort.core.training.labelled import LabelledDocuments
from upsort.core.training.train_sorter import train_sorter
from upsort.io.notices import RejectedRows
from upsort.io.outputs.table_file import table_file
from upsort.io.tables.columns import ColumnMapper, merged_columns
from upsort.io.tables.documents import LABELLED, DocumentReader
from upsort.workflows.cross_validate import PreparedFolds, prepare_folds
from upsort.workflows.shared.context import RunContext
from upsort.workflows.shared.corpus import CorpusOptions, read_labelled_corpus
from upsort.workflows.shared.results import SplitCounts

_PULLS = 4
OWN, RATHER, OTHER = "own_probability", "rather", "rather_probability"
WRONG = "probably_wrong"


@record(frozen=True, kw_only=True)
class Suspect:
    """One document. wrong: how probably its label is wrong. pulled_by: its terms that speak most for the other label."""

    reference: str
    text: str
    label: str
    rather: str
    own: float
    other: float
    wrong: float
    pulled_by: tuple[str, ...]


class SuspectsResult(SplitCounts, frozen=True, kw_only=True):
    """upsort suspects. suspects: most suspicious first. expected_wrong: how many of them are wrong. wrong_share_by_label: the
    share of wrong ones among the documents of each label. judged_by: the kinds of the classifiers. judged: documents that were
    held out at all, of `documents`. several_labels: whether documents may have several; all of them are then meant."""

    suspects: list[Suspect]
    expected_wrong: Rate
    wrong_share_by_label: dict[str, float]
    judged_by: tuple[str, ...]
    judged: int
    documents: int
    several_labels: bool = False


def suspects(work: RunContext, most: int | None = None, output: Path | None = None) -> SuspectsResult:
    """Judge every document by sorters that never saw it, of the plan's kind and of one that errs in other ways.

    most: list so many; None for those whose label is more likely wrong than right. output: where the suspicious rows go, whole,
    with the suggestion next to them."""
    corpus = read_labelled_corpus(work, CorpusOptions(texts=True, ids=True, with_readers=True))
    ready = prepare_folds(corpus, work.plan, corpus.only_answer("suspects"))
    documents, method = ready.documents, corpus.method_of(work.plan)
    judged, predictions, kinds = _fold_predictions(ready, method, work.parallel(ready.documents, "cross-validation"))
    ranked = _ranked(documents, judged, predictions, most, work.plan)
    work.begin("training", 0)
    whole, seen = train_sorter(documents, method.for_labels())
    texts_needed = np.unique(judged[ranked.places])
    matrix = local_matrix(seen.matrix[texts_needed]) if texts_needed.size else csr_array((0, 0))
    pulled_by = strongest_terms(whole, matrix[np.searchsorted(texts_needed, judged[ranked.places])], ranked.pulled, _PULLS)
    listed: list[Suspect] = []
    of_row: dict[int, Suspect] = {}
    for at, place in enumerate(judged[ranked.places].tolist()):
        row = int(ready.rows[place])
        suspect = Suspect(
            reference=corpus.metadata.ids[row],
            text=corpus.texts[row],
            label=ranked.labels[at],
            rather=ranked.rather[at],
            own=float(ranked.own[at]),
            other=float(ranked.other[at]),
            wrong=float(ranked.wrong[at]),
            pulled_by=pulled_by[at],
        )
        listed.append(suspect)
        of_row[row] = suspect
    if output is not None:
        _write(work, corpus.resources, output, of_row)
    return SuspectsResult(
        suspects=listed,
        expected_wrong=expected_wrong(ranked.wrong),
        wrong_share_by_label=dict(zip(documents.names, ranked.noise.tolist(), strict=True)),
        judged_by=kinds,
        judged=judged.size,
        documents=documents.documents,
        several_labels=documents.sets is not None,
        **structs.asdict(ready.duplicates),
    )


@record(frozen=True, kw_only=True)
class _RankedSuspects:
    """What is suspicious, one entry a document. pulled: the label that its terms speak for, and the one they speak against; None
    where there is no such one."""

    places: Ints
    labels: list[str]
    rather: list[str]
    own: Floats
    other: Floats
    wrong: Floats
    noise: Floats
    pulled: list[tuple[int | None, int | None]]


def _ranked(
    documents: LabelledDocuments, judged: Ints, predictions: list[Floats], most: int | None, plan: Plan
) -> _RankedSuspects:
    names = documents.names
    if documents.sets is None:
        suspects_found = find_suspects(documents.labels[judged], predictions, most)
        own = documents.labels[judged[suspects_found.places]].tolist()
        return _RankedSuspects(
            places=suspects_found.places,
            labels=[names[label] for label in own],
            rather=[names[label] for label in suspects_found.rather.tolist()],
            own=suspects_found.own,
            other=suspects_found.other,
            wrong=suspects_found.wrong,
            noise=suspects_found.noise,
            pulled=list(zip(suspects_found.rather.tolist(), own, strict=True)),
        )
    sets = find_wrong_sets(documents.sets[judged], predictions, most)

    def cells(cells_of: Bools) -> list[str]:
        return [
            joined_labels((name for name, has in zip(names, row, strict=True) if has), plan.columns.label_separator)
            for row in cells_of.tolist()
        ]

    wanting = sets.rather[np.arange(sets.places.size), sets.turned]
    return _RankedSuspects(
        places=sets.places,
        labels=cells(documents.sets[judged[sets.places]]),
        rather=cells(sets.rather),
        own=sets.own,
        other=sets.other,
        wrong=sets.wrong,
        noise=sets.noise,
        pulled=[(label if more else None, None) for label, more in zip(sets.turned.tolist(), wanting.tolist(), strict=True)],
    )


def _fold_predictions(
    ready: PreparedFolds, method: PlanWithResources, parallel: ParallelMap
) -> tuple[Ints, list[Floats], tuple[str, ...]]:
    """The documents that were held out, (n, k) what sorters of each kind that never saw them say of them, and the kinds."""
    plan = method.plan
    validations = [judge_by_folds(ready.parts, method, plan.judge.repeats, parallel=parallel)]
    kinds = [plan.classifier.kind]
    other = family(plan.classifier).second_opinion
    second = replace(method, plan=replace(plan, classifier=Classifier(kind=other, label_weights=plan.classifier.label_weights)))
    with suppress(UsageProblem, DataProblem):  # numbers below 0 next to the text, for instance
        validations.append(judge_by_folds(ready.parts, second, plan.judge.repeats, parallel=parallel))
        kinds.append(other)
    sample = validations[0].sample
    means = [np.column_stack([sample.mean(column) for column in validation.probabilities.T]) for validation in validations]
    return np.unique(validations[0].judged), means, tuple(kinds)


def _write(work: RunContext, resources: Resources, output: Path, of_row: dict[int, Suspect]) -> None:
    """The suspicious rows as they were read, most suspicious first, with four columns added."""
    inputs, plan = work.inputs, work.plan
    by_name = ColumnMapper(
        [name for name in merged_columns(table.columns for table in inputs.tables) if name not in (OWN, RATHER, OTHER, WRONG)]
    )
    rows: dict[int, list[str]] = {}
    row = 0
    cleaning = cleaner(plan.clean, resources, plan.features.within_sentences)
    for block in DocumentReader.of_plan(plan, cleaning, LABELLED).blocks(inputs, RejectedRows()):
        for cells in block.rows:
            if row in of_row:
                rows[row] = by_name.row(block.columns, cells)
            row += 1
    with table_file(output, [*by_name.columns, OWN, RATHER, OTHER, WRONG]) as writer:
        for number, suspect in of_row.items():
            own, other, wrong = (f"{share:.4f}" for share in (suspect.own, suspect.other, suspect.wrong))
            writer.writerow([*rows[number], own, suspect.rather, other, wrong])
