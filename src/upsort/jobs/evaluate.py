"""Judging a sorter on labelled documents it was not trained on."""

from collections.abc import Sequence
from contextlib import ExitStack
from pathlib import Path

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Bools
from upsort.core.errors import DataProblem
from upsort.core.features.prints import fingerprints_of, joined
from upsort.core.judging.near_copies import SIMILARITY, find_duplicates
from upsort.core.learning.sorter import TrainedSorter
from upsort.core.plan import Columns
from upsort.core.records import record
from upsort.core.sparse import stacked
from upsort.files.documents import DocumentReader
from upsort.files.format import RowWriter
from upsort.files.set_aside import RejectedRows
from upsort.files.sources import Inputs
from upsort.files.tables_out import table_file
from upsort.jobs.gathered_blocks import (
    DecidedDocuments,
    DecisionCollector,
    mistake_cells,
    mistake_of,
    rows_of_decisions,
)
from upsort.jobs.judged import DecidedCorpus, Evaluation, evaluate_decisions
from upsort.jobs.progress import nothing_usable
from upsort.jobs.reading import DocumentReading, map_blocks
from upsort.jobs.score import (
    CHARACTERS_AT_ONCE,
    BlockScorer,
    Passages,
    ScoreLayout,
    ScoringInput,
    joined_decisions,
    with_decisions,
)

_ADDED = ("wrong_answers", "pulled_by")


@record(frozen=True)
class EvaluationRequest:
    """What to judge beside the whole. by: a column. passages: how to add up passages. training: the documents that the sorter
    was trained on."""

    by: str = ""
    passages: Passages | None = None
    training: Inputs | None = None


def evaluate(
    sorters: Sequence[TrainedSorter],
    incoming: ScoringInput,
    mistakes_file: Path | None = None,
    how: EvaluationRequest | None = None,
) -> list[Evaluation]:
    """Decide about every labelled document and compare, answer by answer; write the mistaken rows to `mistakes_file`, or a
    row for each mistaken document where passages are added up."""
    how = how or EvaluationRequest()
    gathered = [DecidedDocuments() for _ in sorters]
    scoring = BlockScorer(sorters, ScoreLayout(), incoming.inputs)
    with ExitStack() as stack:
        writer, by_name = None, None
        if mistakes_file is not None:
            columns = how.passages.columns(sorters, ScoreLayout()) if how.passages is not None else scoring.columns
            writer = stack.enter_context(table_file(mistakes_file, [*columns, *_ADDED]))
            by_name = scoring.by_name if how.passages is None else None
        answer = incoming.reader.columns.label
        gathering = DecisionCollector(
            sorters=sorters,
            by_name=by_name,
            answer=answer,
            by=how.by,
            passages=how.passages,
            texts=how.training is not None,
        )
        reading = DocumentReading(inputs=incoming.inputs, reader=incoming.reader, characters=CHARACTERS_AT_ONCE)
        for block in map_blocks(reading, gathering, incoming.rejects, incoming.engine):
            for target, part in zip(gathered, block.collected, strict=True):
                target.add(part)
            if writer is not None:
                writer.writerows(block.rows)
            incoming.advance_rows(block.documents)
        if not any(collected.true for collected in gathered):
            raise DataProblem(
                f"No usable document: {nothing_usable(incoming.rejects)}.", "Check --text, --label and --encoding."
            )
        copies = None
        if how.training is not None:
            copies = _copies_of_training(gathered[0].texts, how.training, incoming.reader.columns)
        compared = [
            _compared(sorter, documents, how, copies) for sorter, documents in zip(sorters, gathered, strict=True)
        ]
        if writer is not None and how.passages is not None:
            _write_documents(writer, compared, answer)
    return [evaluate_decisions(documents, bool(how.by), how.passages is not None) for documents in compared]


def _copies_of_training(texts: list[str], training: Inputs, columns: Columns) -> Bools:
    """(n,) which documents copy one that the sorter was trained on, exactly or nearly."""
    parts = [
        fingerprints_of(block.texts)
        for block in DocumentReader(Columns(text=columns.text)).blocks(training, RejectedRows())
    ]
    before = sum(part.words.size for part in parts)
    copies = find_duplicates(joined([*parts, fingerprints_of(texts)]), SIMILARITY).earliest()[before:]
    return np.asarray((copies >= 0) & (copies < before))


def _compared(
    sorter: TrainedSorter, collected: DecidedDocuments, how: EvaluationRequest, copies: Bools | None
) -> DecidedCorpus:
    decisions = joined_decisions(collected.decisions)
    whole = DecidedCorpus(
        sorter=sorter,
        names=collected.names,
        true=collected.true,
        decisions=decisions,
        values=collected.values,
        groups=collected.groups,
        copies=copies,
        mistakes=collected.mistakes,
        times=[1] * len(collected.true),
    )
    return whole if how.passages is None else _of_documents(whole, collected, how.passages)


def _of_documents(passages: DecidedCorpus, collected: DecidedDocuments, how: Passages) -> DecidedCorpus:
    """One entry a document in place of one a passage. A document's label, group and value are those of its first passage; it
    copies a training document when one of its passages does."""
    sorter = passages.sorter
    names, decisions = sorter.decide_aggregated(passages.decisions, passages.names, how.way)
    number = {name: place for place, name in enumerate(names)}
    owner = np.array([number[name] for name in passages.names], dtype=np.int64)
    first = np.unique(owner, return_index=True)[1].tolist()
    copies = None
    if passages.copies is not None:
        copies = np.bincount(owner, weights=passages.copies, minlength=len(names)) > 0
    true = [passages.true[place] for place in first]
    sorted_as = sorter.sorted_as(decisions)
    matrix = stacked(collected.matrices)
    mistakes = []
    for place in range(len(names)):
        undecided = decisions.undecided is not None and bool(decisions.undecided[place])
        if sorted_as[place] != true[place] and not undecided:
            summed = csr_array(matrix[np.flatnonzero(owner == place)].sum(axis=0).reshape(1, -1))
            mistaken_document = (names[place], collected.texts[first[place]], true[place])
            mistakes.append(mistake_of(sorter, decisions, place, mistaken_document, (summed.indices, summed.data)))
    return DecidedCorpus(
        sorter=sorter,
        names=names,
        true=true,
        decisions=decisions,
        values=[passages.values[place] for place in first],
        groups=[passages.groups[place] for place in first],
        copies=copies,
        mistakes=mistakes,
        times=np.bincount(owner, minlength=len(names)).tolist(),
    )


def _write_documents(writer: RowWriter, compared: Sequence[DecidedCorpus], answer: str) -> None:
    """The mistaken documents, one a row. Every answer judges the documents that have a label in its column."""
    places = [{name: place for place, name in enumerate(documents.names)} for documents in compared]
    for name in dict.fromkeys(name for documents in compared for name in documents.names):
        mistakes = [
            (documents.sorter, mistake)
            for documents in compared
            for mistake in documents.mistakes
            if mistake.reference == name
        ]
        if not mistakes:
            continue
        cells: list[str] = []
        for documents, at in zip(compared, places, strict=True):
            if name in at:
                cells += with_decisions(
                    [[]], [documents.sorter], [rows_of_decisions(documents.decisions, [at[name]])], ScoreLayout()
                )[0]
            else:
                cells += [""] * len(
                    with_decisions(
                        [[]], [documents.sorter], [rows_of_decisions(documents.decisions, [0])], ScoreLayout()
                    )[0]
                )
        times = next(documents.times[at[name]] for documents, at in zip(compared, places, strict=True) if name in at)
        writer.writerow([name, str(times), *cells, *mistake_cells(mistakes, answer)])
