"""Scoring new documents in bulk: every column kept, the decision added, block by block in bounded memory."""

import hashlib
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, Protocol

import numpy as np

from upsort.core import plan
from upsort.core.arrays import Floats, Ints
from upsort.core.errors import DataProblem
from upsort.core.insight.drift import Drift, drift
from upsort.core.judging.adding_up import added_up
from upsort.core.sorter import LENGTH_CLASSES, Sorter, length_classes
from upsort.engine.processes import in_order
from upsort.files.columns import column_place
from upsort.files.documents import DocumentBlock, joined_blocks, read_documents
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.jobs.progress import Advance, no_progress
from upsort.jobs.scored_rows import decision_columns, decision_rows, kept_columns

_CHARACTERS_AT_ONCE = 2_000_000
_FORMULA = ("=", "+", "-", "@", "\t", "\r")


@dataclass(frozen=True)
class Layout:
    """What the scored table holds. thin: only the identifier and the decision. all_probabilities: a column for each label.

    safe: cells that a spreadsheet would take for a formula are guarded by an apostrophe.
    """

    thin: bool = False
    all_probabilities: bool = False
    safe: bool = False


@dataclass(frozen=True)
class ScoreResult:
    """documents: rows written. labels: how often each was given, for each answer. without_tokens: those decided by the
    intercepts alone, having no word that could count. unknown_share: of all words. drifts: for each answer."""

    documents: int
    labels: tuple[Counter[str], ...]
    without_tokens: int
    unknown_share: float
    drifts: tuple[Drift, ...]


class Rows(Protocol):
    """Takes scored rows."""

    def writerows(self, rows: Sequence[Sequence[Any]], /) -> object:
        """Write many."""


@dataclass
class _Tally:
    """What is added up over all blocks; kept in the journal of a run that can be gone on with."""

    labels: tuple[Counter[str], ...]
    best: list[Ints]
    lengths: Ints
    documents: int = 0
    without_tokens: int = 0
    words: int = 0
    unknown: float = 0.0

    def state(self) -> dict[str, Any]:
        """As JSON."""
        return {
            "labels": [dict(labels) for labels in self.labels],
            "best": [best.tolist() for best in self.best],
            "lengths": self.lengths.tolist(),
            "documents": self.documents,
            "without_tokens": self.without_tokens,
            "words": self.words,
            "unknown": self.unknown,
        }

    @staticmethod
    def of(state: dict[str, Any], sorters: Sequence[Sorter]) -> "_Tally":
        """From JSON; a new one from nothing."""
        if not state:
            empty: tuple[Counter[str], ...] = tuple(Counter() for _ in sorters)
            best = [np.zeros(len(sorter.labels), dtype=np.int64) for sorter in sorters]
            return _Tally(empty, best, np.zeros(LENGTH_CLASSES, dtype=np.int64))
        return _Tally(
            tuple(Counter(labels) for labels in state["labels"]),
            [np.array(best, dtype=np.int64) for best in state["best"]],
            np.array(state["lengths"], dtype=np.int64),
            state["documents"],
            state["without_tokens"],
            state["words"],
            state["unknown"],
        )


@dataclass(frozen=True)
class _Scored:
    """What a block comes to."""

    rows: list[list[str]]
    labels: list[list[str]]
    best: list[Ints]
    tokens: Ints
    unknown: float


def output_columns(
    inputs: Inputs, sorters: Sequence[Sorter], layout: Layout | None = None, identity: str = ""
) -> list[str]:
    """The columns of the scored table. Raises DataProblem when the inputs' columns differ."""
    layout = layout or Layout()
    columns = inputs.tables[0].columns
    for table in inputs.tables[1:]:
        if table.columns != columns:
            raise DataProblem(
                f"{table.name} has other columns than {inputs.tables[0].name}.", "Score them one at a time."
            )
    added = [name for sorter in sorters for name in decision_columns(sorter, layout.all_probabilities)]
    if layout.thin:
        return [identity or "document", *added]
    return [columns[place] for place in kept_columns(columns, added)] + added


class Scoring:
    """Turns blocks of documents into scored rows; it may be sent to other processes."""

    def __init__(self, sorters: Sequence[Sorter], layout: Layout) -> None:
        self.sorters = list(sorters)
        self.layout = layout
        self.added = [name for sorter in sorters for name in decision_columns(sorter, layout.all_probabilities)]

    def __call__(self, block: DocumentBlock) -> _Scored:
        """Decide about a block, once for each answer; its text is cleaned once."""
        words = self.sorters[0].tokens_of(block.documents)
        decided = [sorter.decide(block.documents, words) for sorter in self.sorters]
        cells = [
            decision_rows(sorter, decisions, self.layout.all_probabilities)
            for sorter, decisions in zip(self.sorters, decided, strict=True)
        ]
        labels = [[row[0] for row in rows] for rows in cells]
        if self.layout.thin:
            rows = [[name] for name in block.ids]
        else:
            kept = kept_columns(block.columns, self.added)
            rows = block.rows if len(kept) == len(block.columns) else [[row[at] for at in kept] for row in block.rows]
        rows = [[cell for part in parts for cell in part] for parts in zip(rows, *cells, strict=True)]
        if self.layout.safe:
            rows = [[_guarded(cell) for cell in row] for row in rows]
        best = [
            np.bincount(decisions.best, minlength=len(sorter.labels)).astype(np.int64)
            for sorter, decisions in zip(self.sorters, decided, strict=True)
        ]
        tokens = decided[0].tokens
        unknown = float((np.nan_to_num(decided[0].unknown_share) * tokens).sum())
        return _Scored(rows, labels, best, tokens, unknown)


def _guarded(cell: str) -> str:
    """A cell that no spreadsheet takes for a formula; numbers stay as they are."""
    if not cell.startswith(_FORMULA):
        return cell
    try:
        float(cell)
    except ValueError:
        return f"'{cell}"
    return cell


def score(
    sorters: Sequence[Sorter],
    inputs: Inputs,
    columns: plan.Columns,
    writer: Rows,
    aside: SetAside,
    advance: Advance = no_progress,
    layout: Layout | None = None,
    workers: int = 1,
    skip: int = 0,
    state: dict[str, Any] | None = None,
    done: Callable[[int, dict[str, Any]], None] | None = None,
) -> ScoreResult:
    """Write every usable row of `inputs`, under `output_columns`, with the sorter's decisions.

    skip: usable rows that an earlier run wrote; state: what it knew of them. done: told after each block how many rows are
    written in all, and what is known of them.
    """
    tally = _Tally.of(state or {}, sorters)
    first = sorters[0]
    blocks = _large_blocks(
        read_documents(
            inputs, replace(columns, label="", also=()), aside, cleaning=first.cleaning, apart=first.plan.features.apart
        ),
        skip,
    )
    for block, scored in in_order(Scoring(sorters, layout or Layout()), blocks, workers):
        writer.writerows(scored.rows)
        for held, labels in zip(tally.labels, scored.labels, strict=True):
            held.update(labels)
        for total, best in zip(tally.best, scored.best, strict=True):
            total += best
        tally.lengths += length_classes(scored.tokens)
        tally.documents += len(scored.rows)
        tally.without_tokens += int((scored.tokens == 0).sum())
        tally.words += int(scored.tokens.sum())
        tally.unknown += scored.unknown
        if done is not None:
            done(tally.documents, tally.state())
        advance(len(block.rows))
    drifts = tuple(
        drift(sorter, best, tally.lengths, tally.words, tally.unknown)
        for sorter, best in zip(sorters, tally.best, strict=True)
    )
    share = tally.unknown / tally.words if tally.words else 0.0
    return ScoreResult(tally.documents, tally.labels, tally.without_tokens, share, drifts)


def _large_blocks(blocks: Iterator[DocumentBlock], skip: int) -> Iterator[DocumentBlock]:
    """Blocks of one table joined to about two million characters, without the first `skip` rows.

    Where blocks end depends on the rows alone, not on where an earlier run was interrupted, since that only ends between blocks.
    """
    held: list[DocumentBlock] = []
    size = seen = 0

    def ready() -> Iterator[DocumentBlock]:
        nonlocal seen
        whole = joined_blocks(held)
        seen += len(whole.rows)
        if seen > skip:
            yield whole

    for block in blocks:
        if held and (held[0].source != block.source or size >= _CHARACTERS_AT_ONCE):
            yield from ready()
            held, size = [], 0
        if block.rows:
            held.append(block)
            size += sum(map(len, block.texts))
    if held:
        yield from ready()


def score_documents_of_passages(
    sorters: Sequence[Sorter],
    inputs: Inputs,
    columns: plan.Columns,
    writer: Rows,
    aside: SetAside,
    way: str,
    document_column: str,
    advance: Advance = no_progress,
) -> int:
    """Write one row for each document, its passages added up: the document, then label, probability and margin of each answer.

    Returns how many documents there are. The passages' probabilities are held in memory.
    """
    first = sorters[0]
    names: list[str] = []
    chances: list[list[Floats]] = [[] for _ in sorters]
    for block in read_documents(
        inputs, replace(columns, label="", also=()), aside, cleaning=first.cleaning, apart=first.plan.features.apart
    ):
        place = column_place(document_column, block.columns, block.source)
        names += [row[place] for row in block.rows]
        words = first.tokens_of(block.documents)
        for held, sorter in zip(chances, sorters, strict=True):
            held.append(sorter.decide(block.documents, words).probabilities)
        advance(len(block.rows))
    if not names:
        return 0
    passages = Counter(names)
    together = [added_up(np.concatenate(held), names, way) for held in chances]
    rows = []
    for number, document in enumerate(together[0][0]):
        cells = [document, str(passages[document])]
        for sorter, (_, probabilities) in zip(sorters, together, strict=True):
            order = np.argsort(-probabilities[number], kind="stable")
            best, second = int(order[0]), int(order[min(1, order.size - 1)])
            margin = probabilities[number, best] - probabilities[number, second]
            chance = f"{probabilities[number, best]:.6f}"
            cells += [sorter.labels[best], chance, sorter.labels[second], f"{margin:.6f}"]
        rows.append(cells)
    writer.writerows(rows)
    return len(rows)


def passage_columns(sorters: Sequence[Sorter], document_column: str) -> list[str]:
    """The columns of `score_documents_of_passages`."""
    return [document_column, "passages", *(name for sorter in sorters for name in decision_columns(sorter)[:4])]


def run_key(sorter: Path, sources: Sequence[str], layout: Layout) -> dict[str, Any]:
    """What must be the same for a run to be gone on with: the sorter, the sources and the layout."""
    files = {}
    for source in sources:
        path = Path(source)
        if path.is_file():
            status = path.stat()
            files[source] = [status.st_size, status.st_mtime_ns]
    digest = hashlib.sha256(sorter.read_bytes()).hexdigest()
    return {"sorter": digest, "sources": list(sources), "files": files, "layout": repr(layout)}


def columns_for(sorter: Sorter, named: plan.Columns, inputs: Inputs, labels: bool = True) -> plan.Columns:
    """The columns to read: those named now, else those of the sorter's training; its identifier where every table has it."""
    trained = sorter.plan.columns
    everywhere = all(trained.id in table.columns for table in inputs.tables)
    return replace(
        trained,
        text=named.text or trained.text,
        label=(named.label or trained.label) if labels else "",
        also=trained.also if labels else (),
        row_weight="",
        fold="",
        id=named.id or (trained.id if everywhere else ""),
        date=named.date,
        group=named.group,
        document_vectors=named.document_vectors,
    )
