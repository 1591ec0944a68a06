"""Finding labelled documents that look mislabelled."""

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from upsort.core.judging.cross_validation import cross_validate
from upsort.core.judging.suspects import find_suspects
from upsort.core.plan import Plan
from upsort.core.training import fit
from upsort.files.documents import read_documents
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.files.tables_out import table_file
from upsort.jobs.corpus import read_labelled_corpus
from upsort.jobs.judging import prepared
from upsort.jobs.progress import Advance, no_progress

_PULLS = 4
SUGGESTED, OWN, OTHER = "suggested_label", "own_probability", "suggested_probability"


@dataclass(frozen=True)
class Suspect:
    """One document. pulled_by: its terms that speak most for the suggested label."""

    reference: str
    text: str
    label: str
    suggested: str
    own: float
    other: float
    pulled_by: tuple[str, ...]


@dataclass(frozen=True)
class SuspectsResult:
    """Most suspicious first. usual: the usual confidence of each label."""

    suspects: list[Suspect]
    usual: dict[str, float]
    documents: int


def suspects(
    inputs: Inputs,
    plan: Plan,
    aside: SetAside,
    advance: Advance = no_progress,
    workers: int = 1,
    output: Path | None = None,
) -> SuspectsResult:
    """Judge every document by sorters that never saw it. output: the suspicious rows, whole, with the suggestion beside them."""
    corpus = read_labelled_corpus(inputs, plan, aside, advance, workers, keep_texts=True)
    ready = prepared(corpus, plan)
    documents = ready.documents
    result = cross_validate(documents, plan, ready.splits, corpus.resources)
    chances = np.zeros((documents.labels.size, len(documents.names)))
    times = np.zeros(documents.labels.size)
    np.add.at(chances, result.judged, result.probabilities)
    np.add.at(times, result.judged, 1.0)
    judged = np.flatnonzero(times > 0)
    found = find_suspects(documents.labels[judged], chances[judged] / times[judged, None])
    whole, seen = fit(documents, plan, corpus.resources)
    rule = whole.classifier.rule
    listed: list[Suspect] = []
    of_row: dict[int, Suspect] = {}
    for at, place in enumerate(judged[found.places].tolist()):
        row = int(ready.rows[place])
        own, suggested = int(documents.labels[place]), int(found.suggested[at])
        pulled: tuple[str, ...] = ()
        if rule is not None:
            begin, end = seen.matrix.indptr[place : place + 2].tolist()
            terms = seen.matrix.indices[begin:end]
            pulls = seen.matrix.data[begin:end] * (rule.weights[terms, suggested] - rule.weights[terms, own])
            order = np.argsort(-pulls, kind="stable")[:_PULLS].tolist()
            pulled = tuple(whole.space.terms[int(terms[one])] for one in order if pulls[one] > 0)
        suspect = Suspect(
            corpus.ids[row], corpus.texts[row], documents.names[own], documents.names[suggested],
            float(found.own[at]), float(found.other[at]), pulled,
        )  # fmt: skip
        listed.append(suspect)
        of_row[row] = suspect
    if output is not None:
        _write(inputs, plan, output, of_row)
    usual = {
        name: value for name, value in zip(documents.names, found.usual.tolist(), strict=True) if not np.isnan(value)
    }
    return SuspectsResult(listed, usual, documents.measured.documents)


def _write(inputs: Inputs, plan: Plan, output: Path, of_row: dict[int, Suspect]) -> None:
    """The suspicious rows as they were read, most suspicious first, with three columns added."""
    rows: dict[int, list[str]] = {}
    row = 0
    for block in read_documents(inputs, plan.columns, SetAside(), need_label=True):
        for cells in block.rows:
            if row in of_row:
                rows[row] = cells
            row += 1
    with table_file(output, [*inputs.tables[0].columns, SUGGESTED, OWN, OTHER]) as writer:
        for number, suspect in of_row.items():
            writer.writerow([*rows[number], suspect.suggested, f"{suspect.own:.4f}", f"{suspect.other:.4f}"])
