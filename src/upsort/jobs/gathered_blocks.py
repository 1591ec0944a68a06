"""What is kept of each block of labelled documents that a sorter decides about, whoever does it: their own labels, the decisions,
and the mistakes."""

from collections.abc import Iterator, Sequence
from dataclasses import field, fields, replace

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import AnyArray
from upsort.core.insight.terms import strongest_terms
from upsort.core.learning.sorter import Decisions, TrainedSorter
from upsort.core.records import record
from upsort.core.text.labels import labels_in
from upsort.files.by_name import ColumnMapper
from upsort.files.columns import column_place
from upsort.files.document_blocks import DocumentBlock
from upsort.jobs.judged import Mistake
from upsort.jobs.score import Passages, ScoreLayout, with_decisions

_PULLS = 3


@record(kw_only=True)
class DecidedDocuments:
    """What is kept of each document of one answer until all are read. matrices: of passages, which are explained together."""

    true: list[str] = field(default_factory=list)
    decisions: list[Decisions] = field(default_factory=list)
    values: list[str] = field(default_factory=list)
    names: list[str] = field(default_factory=list)
    groups: list[str] = field(default_factory=list)
    texts: list[str] = field(default_factory=list)
    matrices: list[csr_array] = field(default_factory=list)
    mistakes: list[Mistake] = field(default_factory=list)

    def add(self, later: "DecidedDocuments") -> None:
        """Put what is kept of later documents behind."""
        for definition in fields(self):
            getattr(self, definition.name).extend(getattr(later, definition.name))


@record(frozen=True)
class DecidedBlock:
    """Of so many documents: what is kept for each answer, and the rows of the mistaken ones, where they are to be written."""

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
    mistaken documents, where such are wanted. answer: what the label column is called where the sorter's answer has no name.
    by: a column whose values are kept. passages: how they are added up later. texts: whether to keep them."""

    sorters: Sequence[TrainedSorter]
    by_name: ColumnMapper | None
    answer: str
    by: str
    passages: Passages | None
    texts: bool

    def __call__(self, block: DocumentBlock) -> DecidedBlock:
        """Decide about a block."""
        words = self.sorters[0].tokens_of(block.documents)
        collected, decided, wrong = [], [], dict[int, list[tuple[TrainedSorter, Mistake]]]()
        for number, sorter in enumerate(self.sorters):
            matrix, known = sorter.matrix(block.documents, words)
            decisions = sorter.decide_matrix(matrix, known)
            decided.append(decisions)
            collected.append(DecidedDocuments())
            seen = _AnswerBlock(sorter=sorter, block=block, answer=number, matrix=matrix, decisions=decisions)
            for place, mistake in self._keep(collected[-1], seen):
                wrong.setdefault(place, []).append((sorter, mistake))
        if self.by_name is None or not wrong:
            return DecidedBlock(len(block.documents), collected, [])
        rows = with_decisions(self.by_name.rows(block.columns, block.rows), self.sorters, decided, ScoreLayout())
        mistaken = [
            [*rows[place], *mistake_cells(mistakes_of_row, self.answer)]
            for place, mistakes_of_row in sorted(wrong.items())
        ]
        return DecidedBlock(len(block.documents), collected, mistaken)

    def _keep(self, collected: DecidedDocuments, seen: _AnswerBlock) -> Iterator[tuple[int, Mistake]]:
        """Keep what a block's documents were given; yields the mistaken ones, where they are not made of passages."""
        sorter, block = seen.sorter, seen.block
        labels = block.metadata.answers[seen.answer]
        labelled = [place for place, label in enumerate(labels) if label]
        by = column_place(self.by, block.columns, block.source) if self.by else None
        passages = self.passages
        named = column_place(passages.column, block.columns, block.source) if passages is not None else None
        collected.decisions.append(rows_of_decisions(seen.decisions, labelled))
        collected.groups += [block.metadata.groups[place] for place in labelled]
        collected.values += [block.rows[place][by] if by is not None else "" for place in labelled]
        collected.names += [block.rows[place][named] if named is not None else block.ids[place] for place in labelled]
        collected.true += [_true(sorter, labels[place]) for place in labelled]
        texts = block.texts
        if self.texts or passages is not None:
            collected.texts += [texts[place] for place in labelled]
        if passages is not None:
            collected.matrices.append(csr_array(seen.matrix[labelled]))
            return
        sorted_as = sorter.sorted_as(seen.decisions)
        for place in labelled:
            true = _true(sorter, labels[place])
            undecided = seen.decisions.undecided is not None and bool(seen.decisions.undecided[place])
            if sorted_as[place] != true and not undecided:
                begin, end = seen.matrix.indptr[place : place + 2].tolist()
                values = (seen.matrix.indices[begin:end], seen.matrix.data[begin:end])
                mistake = mistake_of(sorter, seen.decisions, place, (block.ids[place], texts[place], true), values)
                collected.mistakes.append(mistake)
                yield place, mistake


def rows_of_decisions(decisions: Decisions, places: Sequence[int]) -> Decisions:
    """The decisions about some of the documents."""
    chosen = {name: value[list(places)] for name, value in vars(decisions).items() if value is not None}
    return replace(decisions, **chosen)


def _true(sorter: TrainedSorter, cell: str) -> str:
    """The own label of a document, or its own labels as the sorter writes a set."""
    if sorter.thresholds is None:
        return cell
    return sorter.joined(labels_in(cell, sorter.plan.columns.label_separator))


def mistake_of(
    sorter: TrainedSorter,
    decisions: Decisions,
    place: int,
    mistaken_document: tuple[str, str, str],
    values: tuple[AnyArray, AnyArray],
) -> Mistake:
    """said: what the document is called, its text, and its own label. values: its terms."""
    reference, text, true = mistaken_document
    if decisions.sets is not None:
        return _mistaken_set(sorter, decisions, place, mistaken_document, values)
    best = int(decisions.best[place])
    own = sorter.labels.index(true) if true in sorter.labels else None
    return Mistake(
        reference=reference,
        text=text,
        true=true,
        sorted_as=sorter.sorted_as(rows_of_decisions(decisions, [place]))[0],
        probability=float(decisions.probabilities[place, best]),
        own_probability=float(decisions.probabilities[place, own]) if own is not None else 0.0,
        pulled_by=strongest_terms(sorter, values, best, own)[:_PULLS],
    )


def _mistaken_set(
    sorter: TrainedSorter,
    decisions: Decisions,
    place: int,
    mistaken_document: tuple[str, str, str],
    values: tuple[AnyArray, AnyArray],
) -> Mistake:
    """The same of a set of labels: what is told of is its label that is most surely given wrongly, or missed."""
    assert decisions.sets is not None
    reference, text, true = mistaken_document
    own = labels_in(true, sorter.plan.columns.label_separator)
    has = np.array([label in own for label in sorter.labels], dtype=bool)
    given, chances = decisions.sets[place], decisions.probabilities[place]
    sure = np.where(given == has, -1.0, np.where(given, chances, 1.0 - chances))
    worst = int(sure.argmax())
    known = sure[worst] >= 0  # else all that the sorter knows is right, and a label is wanting that it does not know
    probability = float(sure[worst]) if known else float(np.where(given, chances, 1.0 - chances).min())
    return Mistake(
        reference=reference,
        text=text,
        true=true,
        sorted_as=sorter.sorted_as(rows_of_decisions(decisions, [place]))[0],
        probability=probability,
        own_probability=1.0 - probability if known else 0.0,
        pulled_by=strongest_terms(sorter, values, worst, None)[:_PULLS] if given[worst] and known else (),
    )


def mistake_cells(mistakes: Sequence[tuple[TrainedSorter, Mistake]], answer: str) -> list[str]:
    """Which answers are wrong, and what the first of them was pulled by."""
    return [", ".join(sorter.answer or answer for sorter, _ in mistakes), ", ".join(mistakes[0][1].pulled_by)]
