"""Scoring new documents in bulk: every column kept, the decision added, block by block in bounded memory."""

import hashlib
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import field, fields, replace
from functools import partial
from itertools import count
from pathlib import Path
from typing import Any

import numpy as np

from upsort.core.errors import ResumeProblem
from upsort.core.evaluation.novelty import NearestTraining
from upsort.core.features.fingerprints import fingerprints_of, whole_sketches
from upsort.core.lazy import record
from upsort.core.plan import Columns
from upsort.core.training.labelled import UnknownWords
from upsort.core.training.sorter import Decisions, TrainedSorter, without_known_words
from upsort.io.outputs.registry import fingerprint
from upsort.io.sources.inputs import Inputs
from upsort.io.tables.columnar import column_of
from upsort.io.tables.columns import ColumnMapper, column_place, merged_columns
from upsort.io.tables.document_blocks import DocumentBlock
from upsort.io.tables.rows import RowSink, TextOf, text_maker, write_made
from upsort.workflows.shared.context import CHARACTERS_AT_ONCE, DocumentReading, ReadPiece, ScoringContext, map_blocks
from upsort.workflows.shared.scored_rows import (
    REMARK,
    ScoredBlock,
    ScoreResult,
    ScoreTally,
    columns_of,
    decision_columns,
    number_columns,
)

_FORMULA = ("=", "+", "-", "@", "\t", "\r", "＝", "＋", "－", "＠")


@record(frozen=True)
class ScoreLayout:
    """What the scored table holds. thin: only the identifier and the decision. all_probabilities: a column for each label.
    similarity: a column with that to the nearest training document.

    safe: cells that a spreadsheet would take for a formula are guarded by an apostrophe."""

    thin: bool = False
    all_probabilities: bool = False
    safe: bool = False
    similarity: bool = False


@record(frozen=True)
class ResumeState:
    """Where a run begins. rows: usable rows that an earlier run wrote. state: its totals of them. done: called after each block
    with the number of rows written in all, and the totals."""

    rows: int = 0
    state: dict[str, Any] = field(default_factory=dict)
    done: Callable[[int, dict[str, Any]], None] | None = None


class BlockDecider:
    """Decides about blocks of documents, once for each answer; their text is cleaned once. It may be sent to other processes."""

    def __init__(self, sorters: Sequence[TrainedSorter], similarity: bool = False) -> None:
        self.sorters = list(sorters)
        self.training = [NearestTraining(sorter.sketches) for sorter in sorters if similarity and sorter.sketches is not None]

    def __call__(self, block: DocumentBlock) -> list[Decisions]:
        """The decisions of each answer."""
        words = self.sorters[0].tokens_of(block.documents)
        decided = [sorter.decide(block.documents, words) for sorter in self.sorters]
        if not self.training:
            return decided
        sketches = whole_sketches(fingerprints_of(block.texts))
        return [
            replace(decisions, similarity=training.similarities(sketches))
            for decisions, training in zip(decided, self.training, strict=True)
        ]


class BlockScorer:
    """Turns blocks of documents into rows under `columns`; it may be sent to other processes.

    renamed: label columns that are called like a decision, and what they are called in the scored table. inputs: the tables that
    will come. identity: what the first column of a thin table is called."""

    def __init__(self, sorters: Sequence[TrainedSorter], layout: ScoreLayout, inputs: Inputs, identity: str = "") -> None:
        self.deciding = BlockDecider(sorters, layout.similarity)
        self.layout = layout
        self.text_of: TextOf | None = None
        self.added = decision_columns(sorters, layout.all_probabilities, layout.similarity)
        self.numbers = number_columns(sorters, layout.all_probabilities, layout.similarity)
        every = merged_columns(table.columns for table in inputs.tables)
        labels = {name for sorter in sorters for name in sorter.plan.columns.answers}
        used = {*every, *self.added}
        self.renamed = {
            name: next(other for other in (f"{name} ({number})" for number in count(2)) if other not in used)
            for name in every
            if name in self.added and name in labels and not layout.thin
        }
        kept_names = [name for name in every if name not in self.added or name in self.renamed]
        self.by_name = ColumnMapper([identity or "document"] if layout.thin else kept_names)

    @property
    def columns(self) -> list[str]:
        """The columns of the scored table: those of all tables, but for decisions of an earlier scoring; then the decisions."""
        columns = [*(self.renamed.get(name, name) for name in self.by_name.columns), *self.added]
        return [_guarded(name) for name in columns] if self.layout.safe else columns

    def __call__(self, block: DocumentBlock) -> ScoredBlock:
        """Decide about a block."""
        sorters = self.deciding.sorters
        decided = self.deciding(block)
        kept = [block.ids] if self.layout.thin else self.by_name.cells(block.columns, block.rows)
        columns = [*kept, *_decided_columns(sorters, decided, self.layout)]
        if block.kept:
            columns = self._with_kept(columns, block)
        if self.layout.safe:
            columns = [[_guarded(cell) for cell in column] for column in columns]
        text = self.text_of(columns) if self.text_of is not None else ""
        best = [
            np.bincount(decisions.best, minlength=len(sorter.labels)).astype(np.int64)
            for sorter, decisions in zip(sorters, decided, strict=True)
        ]
        tokens = decided[0].tokens
        unknown = UnknownWords.of(tokens, decided[0].unknown_share)
        labels = [sorter.sorted_as(decisions) for sorter, decisions in zip(sorters, decided, strict=True)]
        nothing_known = int(without_known_words(decided[0]).sum())
        return ScoredBlock(
            rows=len(block),
            documents=len(block.rows),
            last=block.last,
            columns=[] if text else columns,
            text=text,
            labels=labels,
            best=best,
            tokens=tokens,
            nothing_known=nothing_known,
            unknown=unknown,
        )

    def _with_kept(self, columns: list[Sequence[str]], block: DocumentBlock) -> list[Sequence[str]]:
        """The columns with the rows that were rejected in their places: without a decision, and with the reason as the remark."""
        cells = [[row.id] if self.layout.thin else self.by_name.row(block.columns, row.cells) for row in block.kept]
        remarks = [name.endswith(REMARK.name) for name in self.added]
        rows = [[*own, *(row.reason if remark else "" for remark in remarks)] for own, row in zip(cells, block.kept, strict=True)]
        whole: list[Sequence[str]] = list(zip(*columns, strict=True))
        for row, kept in zip(rows, block.kept, strict=True):
            whole.insert(kept.at, row)
        return [*zip(*whole, strict=True)]


def with_decisions(
    rows: Sequence[Sequence[str]], sorters: Sequence[TrainedSorter], decided: Sequence[Decisions], layout: ScoreLayout
) -> list[list[str]]:
    """Rows with the cells of all decisions behind them."""
    added = zip(*_decided_columns(sorters, decided, layout), strict=True)
    whole = [[*row, *cells] for row, cells in zip(rows, added, strict=True)]
    return [[_guarded(cell) for cell in row] for row in whole] if layout.safe else whole


def _decided_columns(sorters: Sequence[TrainedSorter], decided: Sequence[Decisions], layout: ScoreLayout) -> list[Sequence[str]]:
    """The cells of all decisions, column by column."""
    return [
        column.cells(sorter, decisions)
        for sorter, decisions in zip(sorters, decided, strict=True)
        for column in columns_of(sorter, layout.all_probabilities, layout.similarity)
    ]


def _guarded(cell: str) -> str:
    """A cell that no spreadsheet takes for a formula, white space before it or not; numbers stay as they are."""
    if not (cell.startswith(_FORMULA) or cell.lstrip().startswith(_FORMULA)):
        return cell
    try:
        float(cell)
    except ValueError:
        return f"'{cell}"
    return cell


def score(scoring: BlockScorer, incoming: ScoringContext, writer: RowSink, resume: ResumeState | None = None) -> ScoreResult:
    """Write every usable row, under the columns of `scoring`, with the sorter's decisions."""
    resume = resume or ResumeState()
    sorters = scoring.deciding.sorters
    tally = ScoreTally.of(resume.state, sorters)
    scoring.text_of = text_maker(writer)
    reading = DocumentReading(inputs=incoming.inputs, reader=incoming.reader, characters=CHARACTERS_AT_ONCE)
    unfinished = partial(_unfinished, reading, resume.rows, tally.last)
    for scored in map_blocks(reading, scoring, incoming.rejects, incoming.engine, unfinished):
        write_made(writer, scored.text, scored.columns)
        tally.add(scored)
        if resume.done is not None:
            resume.done(tally.rows, tally.state())
        incoming.advance(scored.rows)
    return tally.result(sorters)


def _unfinished(
    reading: DocumentReading, rows: int, last: str, pieces: Iterable[ReadPiece[DocumentBlock]]
) -> Iterator[ReadPiece[DocumentBlock]]:
    """The pieces without the first `rows` rows, which an interrupted run had written, the last of them being `last`.

    Raises CannotGoOn where the rows are not the same again, for instance because a slow pattern sets other ones aside."""
    seen, before, pieces = 0, "", iter(pieces)
    while seen < rows and (piece := next(pieces, None)) is not None:
        piece = reading.read(piece)
        left = list(piece.blocks)
        while left and seen < rows:
            seen, before = seen + len(left[0]), left.pop(0).last
        if seen >= rows and (seen > rows or before != last):
            break
        yield replace(piece, blocks=left)
    if seen != rows or before != last:
        raise ResumeProblem("The usable rows are not those of the interrupted run.", "Start over with --overwrite.")
    yield from pieces


@record(frozen=True)
class Passages:
    """How passages become documents. way: of adding up, see `training.decision`. column: names a passage's document."""

    way: str
    column: str

    def columns(self, sorters: Sequence[TrainedSorter], layout: ScoreLayout) -> list[str]:
        """The columns of a table with a row for each document."""
        return [self.column, "passages", *decision_columns(sorters, layout.all_probabilities)]


@record(frozen=True)
class _PassageDecider:
    """Decides about blocks of passages. column: names the document of each."""

    deciding: BlockDecider
    column: str

    def __call__(self, block: DocumentBlock) -> tuple[list[str], list[Decisions]]:
        place = column_place(self.column, block.columns, block.source)
        return list(column_of(block.rows, place)), self.deciding(block)


def score_documents_of_passages(
    scoring: BlockScorer, incoming: ScoringContext, writer: RowSink, passages: Passages
) -> ScoreResult:
    """Write one row for each document, its passages added up and decided about as a single text would be.

    The passages' probabilities are held in memory."""
    sorters, names = scoring.deciding.sorters, []
    passage_decisions: list[list[Decisions]] = [[] for _ in sorters]
    reading = DocumentReading(inputs=incoming.inputs, reader=incoming.reader, characters=CHARACTERS_AT_ONCE)
    deciding = _PassageDecider(scoring.deciding, passages.column)
    for of_passages, decided in map_blocks(reading, deciding, incoming.rejects, incoming.engine):
        names += of_passages
        for mine, decisions in zip(passage_decisions, decided, strict=True):
            mine.append(decisions)
        incoming.advance(len(of_passages))
    documents: list[str] = []
    whole: list[Decisions] = []
    for sorter, parts in zip(sorters, passage_decisions, strict=True):
        if names:
            documents, summed = sorter.decide_aggregated(joined_decisions(parts), names, passages.way)
            whole.append(summed)
    times = Counter(names)
    if names:
        rows = [[document, str(times[document])] for document in documents]
        writer.writerows(with_decisions(rows, sorters, whole, scoring.layout))
    tokens = whole[0].tokens if whole else np.zeros(0, dtype=np.int64)
    given = [Counter(sorter.sorted_as(summed)) for sorter, summed in zip(sorters, whole, strict=True)] if whole else []
    return ScoreResult.counted(
        sorters,
        given or [Counter() for _ in sorters],
        documents=len(documents),
        without_tokens=int((tokens == 0).sum()),
        nothing_known=int(without_known_words(whole[0]).sum()) if whole else 0,
        unknown_share=UnknownWords.of(tokens, whole[0].unknown_share).share if whole else 0.0,
        passages=len(names),
    )


def joined_decisions(parts: Sequence[Decisions]) -> Decisions:
    """Those about consecutive blocks as one."""

    def all_of(name: str) -> Any:
        values = [getattr(part, name) for part in parts]
        return np.concatenate(values) if values[0] is not None else None

    return Decisions(**{definition.name: all_of(definition.name) for definition in fields(Decisions)})


def run_key(sorter: Path, sources: Sequence[str], columns: Columns, choices: Mapping[str, Any]) -> dict[str, Any]:
    """What must be the same for a run to be resumed. choices: all that was asked for, by name; files that are named in it must be
    the same, too."""
    named = [part for value in choices.values() for part in _texts(value)]
    return {
        "sorter": hashlib.sha256(sorter.read_bytes()).hexdigest(),
        "files": {name: fingerprint(name) for name in (*sources, *named) if name != "-"},
        "columns": repr(columns),
        **{name: repr(value) for name, value in choices.items()},
    }


def _texts(value: Any) -> Iterator[str]:
    """The texts in a choice that may name a file, also behind the = of NAME=FILE."""
    for text in value if isinstance(value, list) else [value]:
        if isinstance(text, str) and text and "\0" not in text:
            yield text
            yield text.partition("=")[2] or text
