"""Finding labelled documents that look mislabelled."""

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from upsort.core.insight.terms import strongest_terms
from upsort.core.judging.cross_validation import cross_validate
from upsort.core.judging.suspects import find_suspects
from upsort.core.learning.training import train_sorter
from upsort.core.plan import Plan
from upsort.core.text.cleaning import cleaner
from upsort.files.by_name import ByName, together
from upsort.files.documents import LABELLED, Reader
from upsort.files.resources import resources_for
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.files.tables_out import table_file
from upsort.jobs.corpus import Keeping, read_labelled_corpus
from upsort.jobs.judging import Kept, prepared
from upsort.jobs.progress import Advance, no_progress

_PULLS = 4
SUGGESTED, OWN, OTHER = "suggested_label", "own_probability", "suggested_probability"


@dataclass(frozen=True, kw_only=True)
class Suspect:
    """One document. pulled_by: its terms that speak most for the suggested label."""

    reference: str
    text: str
    label: str
    suggested: str
    own: float
    other: float
    pulled_by: tuple[str, ...]


@dataclass(frozen=True, kw_only=True)
class SuspectsResult:
    """Most suspicious first. usual: the usual confidence of each label. judged: documents that were held out at all. kept:
    how copies and groups were kept on one side."""

    suspects: list[Suspect]
    usual: dict[str, float]
    documents: int
    judged: int
    kept: Kept


def suspects(
    inputs: Inputs,
    plan: Plan,
    aside: SetAside,
    advance: Advance = no_progress,
    workers: int = 1,
    output: Path | None = None,
) -> SuspectsResult:
    """Judge every document by sorters that never saw it. output: the suspicious rows, whole, with the suggestion beside them."""
    corpus = read_labelled_corpus(inputs, plan, aside, advance, workers, Keeping(texts=True))
    ready = prepared(corpus, plan, corpus.only_answer("suspects"))
    documents, method = ready.documents, corpus.method_of(plan)
    result = cross_validate(ready.parts, method, plan.judge.repeats)
    judged = np.unique(result.judged)
    chances = np.column_stack([result.sample.mean(column) for column in result.probabilities.T])
    found = find_suspects(documents.labels[judged], chances)
    whole, seen = train_sorter(documents, method)
    listed: list[Suspect] = []
    of_row: dict[int, Suspect] = {}
    for at, place in enumerate(judged[found.places].tolist()):
        row = int(ready.rows[place])
        own, suggested = int(documents.labels[place]), int(found.suggested[at])
        begin, end = seen.matrix.indptr[place : place + 2].tolist()
        values = (seen.matrix.indices[begin:end], seen.matrix.data[begin:end])
        suspect = Suspect(
            reference=corpus.marks.ids[row],
            text=corpus.texts[row],
            label=documents.names[own],
            suggested=documents.names[suggested],
            own=float(found.own[at]),
            other=float(found.other[at]),
            pulled_by=strongest_terms(whole, values, suggested, own)[:_PULLS],
        )
        listed.append(suspect)
        of_row[row] = suspect
    if output is not None:
        _write(inputs, plan, output, of_row)
    usual = {
        name: value for name, value in zip(documents.names, found.usual.tolist(), strict=True) if not np.isnan(value)
    }
    return SuspectsResult(
        suspects=listed, usual=usual, documents=documents.documents, judged=judged.size, kept=ready.kept
    )


def _write(inputs: Inputs, plan: Plan, output: Path, of_row: dict[int, Suspect]) -> None:
    """The suspicious rows as they were read, most suspicious first, with three columns added."""
    by_name = ByName(
        [name for name in together(table.columns for table in inputs.tables) if name not in (SUGGESTED, OWN, OTHER)]
    )
    rows: dict[int, list[str]] = {}
    row = 0
    cleaning = cleaner(plan.clean, resources_for(plan.clean), plan.features.within_sentences)
    for block in Reader.of_plan(plan, cleaning, LABELLED).blocks(inputs, SetAside()):
        for cells in block.rows:
            if row in of_row:
                rows[row] = by_name.row(block.columns, cells)
            row += 1
    with table_file(output, [*by_name.columns, SUGGESTED, OWN, OTHER]) as writer:
        for number, suspect in of_row.items():
            writer.writerow([*rows[number], suspect.suggested, f"{suspect.own:.4f}", f"{suspect.other:.4f}"])
