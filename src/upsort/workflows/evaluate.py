"""Evaluate a sorter on labelled documents that it was not trained on, block by block."""

from collections.abc import Mapping, Sequence
from contextlib import ExitStack
from dataclasses import field, fields, replace
from pathlib import Path

import numpy as np
from msgspec import UNSET, Struct, UnsetType
from scipy.sparse import csr_array

from upsort.core.analysis.label_terms import strongest_terms
from upsort.core.arrays import chosen_texts
from upsort.core.errors import DataProblem
from upsort.core.evaluation.duplicates import find_duplicates
from upsort.core.evaluation.intervals import Rate
from upsort.core.evaluation.novelty import NearestTraining, SimilarityRates
from upsort.core.features.fingerprints import (
    TO_JUDGE,
    Fingerprints,
    Sketches,
    fingerprints_of,
    joined,
    joined_sketches,
    sketches_of,
    whole_sketches,
)
from upsort.core.lazy import record
from upsort.core.matrices.sparse import stacked
from upsort.core.plan import Columns
from upsort.core.text.characters import labels_in
from upsort.core.training.sorter import Decisions, TrainedSorter
from upsort.io.notices import RejectedRows
from upsort.io.outputs.table_file import table_file
from upsort.io.sources.inputs import Inputs
from upsort.io.tables.columnar import column_of
from upsort.io.tables.columns import ColumnMapper, column_place
from upsort.io.tables.document_blocks import DocumentBlock
from upsort.io.tables.documents import DocumentReader
from upsort.io.tables.rows import RowWriter
from upsort.workflows.score import BlockScorer, Passages, ScoreLayout, joined_decisions, with_decisions
from upsort.workflows.shared.context import CHARACTERS_AT_ONCE, DocumentReading, ScoringContext, map_blocks, nothing_usable
from upsort.workflows.shared.evaluation import DecidedCorpus, Evaluation, Mistake, evaluate_decisions
from upsort.workflows.shared.results import JudgementResult

_PULLS = 3
_ADDED = ("wrong_answers", "pulled_by")


@record(kw_only=True)
class DecidedDocuments:
    """Stored values of each document of one answer until all are read. matrices: of passages, which are explained together."""

    true: list[str] = field(default_factory=list)
    decisions: list[Decisions] = field(default_factory=list)
    values: list[str] = field(default_factory=list)
    names: list[str] = field(default_factory=list)
    groups: list[str] = field(default_factory=list)
    texts: list[str] = field(default_factory=list)
    sketches: list[Sketches] = field(default_factory=list)
    fingerprints: list[Fingerprints] = field(default_factory=list)
    matrices: list[csr_array] = field(default_factory=list)
    mistakes: list[Mistake] = field(default_factory=list)

    def add(self, later: "DecidedDocuments") -> None:
        """Append the values of later documents."""
        for definition in fields(self):
            getattr(self, definition.name).extend(getattr(later, definition.name))


@record(frozen=True)
class DecidedBlock:
    """A number of documents: the stored values for each answer, and the rows of mistaken ones, where they are written."""

    documents: int
    collected: list[DecidedDocuments]
    rows: list[list[str]]


@record(frozen=True, kw_only=True)
class _AnswerBlock:
    """A block as one answer sees it. answer: which of the label columns it is for."""

    sorter: TrainedSorter
    block: DocumentBlock
    answer: int
    matrix: csr_array
    decisions: Decisions


@record(frozen=True, kw_only=True)
class DecisionCollector:
    """Decides about blocks and keeps what is asked for; it may be sent to other processes. by_name: the cells of the rows of
    mistaken documents, where such are wanted. answer: what the label column is called where the sorter's answer has no name. by:
    a column whose values are kept. passages: how they are added up later. sketches: whether to make them."""

    sorters: Sequence[TrainedSorter]
    by_name: ColumnMapper | None
    answer: str
    by: str
    passages: Passages | None
    sketches: bool

    def __call__(self, block: DocumentBlock) -> DecidedBlock:
        """Decide about a block."""
        words = self.sorters[0].tokens_of(block.documents)
        fingerprints = fingerprints_of(block.texts)
        collected, decided, wrong = [], [], dict[int, list[tuple[TrainedSorter, Mistake]]]()
        for number, sorter in enumerate(self.sorters):
            matrix, known = sorter.matrix(block.documents, words)
            decisions = sorter.decide_matrix(matrix, known)
            decided.append(decisions)
            collected.append(DecidedDocuments())
            seen = _AnswerBlock(sorter=sorter, block=block, answer=number, matrix=matrix, decisions=decisions)
            for place, mistake in self._keep(collected[-1], seen, fingerprints):
                wrong.setdefault(place, []).append((sorter, mistake))
        if self.by_name is None or not wrong:
            return DecidedBlock(len(block.documents), collected, [])
        rows = with_decisions(self.by_name.rows(block.columns, block.rows), self.sorters, decided, ScoreLayout())
        mistaken = [
            [*rows[place], *mistake_cells(mistakes_of_row, self.answer)] for place, mistakes_of_row in sorted(wrong.items())
        ]
        return DecidedBlock(len(block.documents), collected, mistaken)

    def _keep(self, collected: DecidedDocuments, seen: _AnswerBlock, fingerprints: Fingerprints) -> list[tuple[int, Mistake]]:
        """Keep what a block's documents were given; returns the mistaken ones, where they are not made of passages."""
        sorter, block = seen.sorter, seen.block
        labels = block.metadata.answers[seen.answer]
        labelled = [place for place, label in enumerate(labels) if label]
        by = column_place(self.by, block.columns, block.source) if self.by else None
        named = column_place(self.passages.column, block.columns, block.source) if self.passages is not None else None
        collected.decisions.append(rows_of_decisions(seen.decisions, labelled))
        groups = block.metadata.groups
        collected.groups += chosen_texts(groups, labelled) if groups else [""] * len(labelled)
        collected.values += chosen_texts(column_of(block.rows, by), labelled) if by is not None else [""] * len(labelled)
        collected.names += chosen_texts(block.ids if named is None else column_of(block.rows, named), labelled)
        collected.true += [_true(sorter, labels[place]) for place in labelled]
        fingerprints = fingerprints.rows(np.array(labelled, dtype=np.int64))
        if self.sketches:
            collected.sketches.append(whole_sketches(fingerprints))
        if self.passages is not None:
            collected.texts += chosen_texts(block.texts, labelled)
            collected.matrices.append(csr_array(seen.matrix[labelled]))
            return []
        if not sorter.plan.judge.allow_copies:
            collected.fingerprints.append(fingerprints)
        true = dict(zip(labelled, collected.true[len(collected.true) - len(labelled) :], strict=True))
        mistakes = _mistakes(sorter, seen.decisions, (block.ids, block.texts, true), seen.matrix)
        collected.mistakes += [mistake for _, mistake in mistakes]
        return mistakes


def rows_of_decisions(decisions: Decisions, places: Sequence[int]) -> Decisions:
    """The decisions about some of the documents."""
    chosen = {name: value[list(places)] for name, value in vars(decisions).items() if value is not None}
    return replace(decisions, **chosen)


def _true(sorter: TrainedSorter, cell: str) -> str:
    """The own label of a document, or its own labels as the sorter writes a set."""
    if sorter.thresholds is None:
        return cell
    return sorter.joined(labels_in(cell, sorter.plan.columns.label_separator))


def _mistakes(
    sorter: TrainedSorter,
    decisions: Decisions,
    documents: tuple[Sequence[str], Sequence[str], Mapping[int, str]],
    matrix: csr_array,
) -> list[tuple[int, Mistake]]:
    """The places of mistaken documents, and what there is to say of them. documents: the identifiers and texts of all, and the
    own labels of those that have any, by their places. matrix: the terms of all."""
    names, texts, true = documents
    sorted_as, undecided = list(sorter.sorted_as(decisions)), decisions.undecided
    wrong = [at for at, own in true.items() if sorted_as[at] != own and (undecided is None or not undecided[at])]
    chances_pulls = [(_single if decisions.sets is None else _worst_of_set)(sorter, decisions, at, true[at]) for at in wrong]
    pulled_by = strongest_terms(sorter, csr_array(matrix[wrong]), [pull for _, pull in chances_pulls], _PULLS)
    return [
        (
            at,
            Mistake(
                reference=names[at],
                text=text,
                true=true[at],
                sorted_as=sorted_as[at],
                probability=probability,
                own_probability=own_probability,
                pulled_by=terms,
            ),
        )
        for at, text, ((probability, own_probability), _), terms in zip(
            wrong, chosen_texts(texts, wrong), chances_pulls, pulled_by, strict=True
        )
    ]


_Pull = tuple[tuple[float, float], tuple[int | None, int | None]]
"""The probabilities of the label given and of the own one, and the numbers of both, see `strongest_terms`."""


def _single(sorter: TrainedSorter, decisions: Decisions, place: int, true: str) -> _Pull:
    best = int(decisions.best[place])
    own = sorter.labels.index(true) if true in sorter.labels else None
    chances = decisions.probabilities[place]
    return (float(chances[best]), float(chances[own]) if own is not None else 0.0), (best, own)


def _worst_of_set(sorter: TrainedSorter, decisions: Decisions, place: int, true: str) -> _Pull:
    """The same of a set of labels: the one reported is its label that is most surely given wrongly, or missed."""
    assert decisions.sets is not None
    own = labels_in(true, sorter.plan.columns.label_separator)
    has = np.array([label in own for label in sorter.labels], dtype=bool)
    given, chances = decisions.sets[place], decisions.probabilities[place]
    sure = np.where(given == has, -1.0, np.where(given, chances, 1.0 - chances))
    worst = int(sure.argmax())
    known = sure[worst] >= 0  # else all that the sorter knows is right, and a label is wanting that it does not know
    probability = float(sure[worst]) if known else float(np.where(given, chances, 1.0 - chances).min())
    return (probability, 1.0 - probability if known else 0.0), (worst if given[worst] and known else None, None)


def mistake_cells(mistakes: Sequence[tuple[TrainedSorter, Mistake]], answer: str) -> list[str]:
    """Which answers are wrong, and the terms that pulled the first of them."""
    return [", ".join(sorter.answer or answer for sorter, _ in mistakes), ", ".join(mistakes[0][1].pulled_by)]


@record(frozen=True)
class EvaluationRequest:
    """What to judge next to the whole. by: a column. passages: how to add up passages. training: the documents that the sorter
    was trained on."""

    by: str = ""
    passages: Passages | None = None
    training: Inputs | None = None


def evaluate(
    sorters: Sequence[TrainedSorter],
    incoming: ScoringContext,
    mistakes_file: Path | None = None,
    how: EvaluationRequest | None = None,
) -> list[Evaluation]:
    """Decide about every labelled document and compare, answer by answer; write the mistaken rows to `mistakes_file`, or a row
    for each mistaken document where passages are added up."""
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
        known = _sketches_of_training(sorters, how.training, incoming.reader.columns)
        gathering = DecisionCollector(
            sorters=sorters, by_name=by_name, answer=answer, by=how.by, passages=how.passages, sketches=any(known)
        )
        reading = DocumentReading(inputs=incoming.inputs, reader=incoming.reader, characters=CHARACTERS_AT_ONCE)
        for block in map_blocks(reading, gathering, incoming.rejects, incoming.engine):
            for target, part in zip(gathered, block.collected, strict=True):
                target.add(part)
            if writer is not None:
                writer.writerows(block.rows)
            incoming.advance_rows(block.documents)
        if not any(collected.true for collected in gathered):
            raise DataProblem(f"No usable document: {nothing_usable(incoming.rejects)}.", "Check --text, --label and --encoding.")
        compared = [
            _compared(sorter, documents, how, training)
            for sorter, documents, training in zip(sorters, gathered, known, strict=True)
        ]
        if writer is not None and how.passages is not None:
            _write_documents(writer, compared, answer)
    return [evaluate_decisions(documents, bool(how.by), how.passages is not None) for documents in compared]


def _sketches_of_training(
    sorters: Sequence[TrainedSorter], training: Inputs | None, columns: Columns
) -> list[NearestTraining | None]:
    """What documents are compared with, for each answer: those that the sorter was trained on, where they are given again, or
    their fingerprints that it keeps."""
    if training is not None:
        reader = DocumentReader(Columns(text=columns.text))
        parts = [fingerprints_of(block.texts) for block in reader.blocks(training, RejectedRows())]
        whole = NearestTraining(sketches_of(joined(parts), TO_JUDGE)) if parts else None
        return [whole] * len(sorters)
    return [NearestTraining(sorter.sketches) if sorter.sketches is not None else None for sorter in sorters]


def _compared(
    sorter: TrainedSorter, collected: DecidedDocuments, how: EvaluationRequest, training: NearestTraining | None
) -> DecidedCorpus:
    similarity = training.similarities(joined_sketches(collected.sketches)) if training is not None else None
    prints, least = collected.fingerprints, sorter.plan.judge.similarity
    whole = DecidedCorpus(
        sorter=sorter,
        names=collected.names,
        true=collected.true,
        decisions=joined_decisions(collected.decisions),
        values=collected.values,
        groups=collected.groups,
        copies=find_duplicates(joined(prints), least) if prints else None,
        similarity=similarity,
        mistakes=collected.mistakes,
        times=[1] * len(collected.true),
    )
    return whole if how.passages is None else _of_documents(whole, collected, how.passages)


def _of_documents(passages: DecidedCorpus, collected: DecidedDocuments, how: Passages) -> DecidedCorpus:
    """One entry a document instead of one a passage. A document's label, group and value are those of its first passage; it is as
    similar to training documents as the most similar of its passages."""
    sorter = passages.sorter
    names, decisions = sorter.decide_aggregated(passages.decisions, passages.names, how.way)
    number = {name: place for place, name in enumerate(names)}
    owner = np.array([number[name] for name in passages.names], dtype=np.int64)
    first = np.unique(owner, return_index=True)[1].tolist()
    similarity = None
    if passages.similarity is not None:
        similarity = np.zeros(len(names))
        np.maximum.at(similarity, owner, passages.similarity)
    true = [passages.true[place] for place in first]
    matrix = stacked(collected.matrices)
    summed = csr_array((np.ones(owner.size), (owner, np.arange(owner.size))), shape=(len(names), owner.size)) @ matrix
    summed.sort_indices()
    texts = [collected.texts[place] for place in first]
    mistakes = [mistake for _, mistake in _mistakes(sorter, decisions, (names, texts, dict(enumerate(true))), summed)]
    return DecidedCorpus(
        sorter=sorter,
        names=names,
        true=true,
        decisions=decisions,
        values=[passages.values[place] for place in first],
        groups=[passages.groups[place] for place in first],
        similarity=similarity,
        mistakes=mistakes,
        times=np.bincount(owner, minlength=len(names)).tolist(),
    )


def _write_documents(writer: RowWriter, compared: Sequence[DecidedCorpus], answer: str) -> None:
    """The mistaken documents, one a row. Every answer judges the documents that have a label in its column."""
    places = [{name: place for place, name in enumerate(documents.names)} for documents in compared]
    for name in dict.fromkeys(name for documents in compared for name in documents.names):
        mistakes = [
            (documents.sorter, mistake) for documents in compared for mistake in documents.mistakes if mistake.reference == name
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
                    with_decisions([[]], [documents.sorter], [rows_of_decisions(documents.decisions, [0])], ScoreLayout())[0]
                )
        times = next(documents.times[at[name]] for documents, at in zip(compared, places, strict=True) if name in at)
        writer.writerow([name, str(times), *cells, *mistake_cells(mistakes, answer)])


class Covered(Struct, frozen=True):
    """What leaving the less certain documents undecided brings."""

    undecided_below: float
    decided: int
    right: int
    of: int


class BeforeCalibration(Struct, frozen=True):
    """Without calibration."""

    log_loss: float
    brier: float


class Evaluated(JudgementResult, kw_only=True):
    """upsort evaluate. by: for each value of the column --by. by_similarity: where the sorter keeps fingerprints, or --training
    names its documents. written: figures."""

    training_accuracy: Rate
    unknown_labels: dict[str, int]
    by: dict[str, Rate]
    all_words_known: Rate
    some_words_unknown: Rate
    by_similarity: SimilarityRates | None
    before_calibration: BeforeCalibration | None
    coverage: list[Covered]
    mistakes: list[Mistake]
    written: list[str] | UnsetType = UNSET


class EvaluatedSeveral(Struct):
    """upsort evaluate, with several answers"""

    answers: dict[str, Evaluated]
    written: list[str]
