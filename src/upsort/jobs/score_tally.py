"""What is added up while documents are scored, and told of them in the end."""

from collections import Counter
from collections.abc import Sequence
from dataclasses import asdict, field
from typing import Any

import numpy as np

from upsort.core.arrays import Ints
from upsort.core.insight.drift import Drift, NewDocuments, drift
from upsort.core.learning.held_out import UnknownWords
from upsort.core.learning.sorter import LENGTH_CLASSES, TrainedSorter, length_classes
from upsort.core.records import record


@record(frozen=True, kw_only=True)
class ScoreResult:
    """documents: rows written. labels: how often each was given, for each answer. without_tokens: those without a
    word. nothing_known: those without a word that the sorter knows, the former included. unknown_share: of all words. drifts: for
    each answer. passages: that were read, where documents were made of them."""

    documents: int
    labels: tuple[Counter[str], ...]
    without_tokens: int
    nothing_known: int
    unknown_share: float
    drifts: tuple[Drift, ...]
    passages: int | None = None


@record(frozen=True, kw_only=True)
class ScoredBlock:
    """What a block comes to. rows: how many; last: where the last of them stands. columns: of the rows; text: of the same, where
    they are written as text."""

    rows: int
    last: str
    columns: list[Sequence[str]]
    text: str
    labels: list[list[str]]
    best: list[Ints]
    tokens: Ints
    nothing_known: int
    unknown: UnknownWords


@record(kw_only=True)
class ScoreTally:
    """What is added up over all blocks; kept in the journal of a run that can be gone on with."""

    labels: tuple[Counter[str], ...]
    best: list[Ints]
    lengths: Ints
    documents: int = 0
    without_tokens: int = 0
    nothing_known: int = 0
    words: UnknownWords = field(default_factory=UnknownWords)
    last: str = ""

    def state(self) -> dict[str, Any]:
        """As JSON."""
        return {
            "labels": [dict(labels) for labels in self.labels],
            "best": [best.tolist() for best in self.best],
            "lengths": self.lengths.tolist(),
            "documents": self.documents,
            "without_tokens": self.without_tokens,
            "nothing_known": self.nothing_known,
            "words": asdict(self.words),
            "last": self.last,
        }

    @staticmethod
    def of(state: dict[str, Any], sorters: Sequence[TrainedSorter]) -> "ScoreTally":
        """From JSON; a new one from nothing."""
        if not state:
            empty: tuple[Counter[str], ...] = tuple(Counter() for _ in sorters)
            best = [np.zeros(len(sorter.labels), dtype=np.int64) for sorter in sorters]
            return ScoreTally(labels=empty, best=best, lengths=np.zeros(LENGTH_CLASSES, dtype=np.int64))
        return ScoreTally(
            labels=tuple(Counter(labels) for labels in state["labels"]),
            best=[np.array(best, dtype=np.int64) for best in state["best"]],
            lengths=np.array(state["lengths"], dtype=np.int64),
            documents=state["documents"],
            without_tokens=state["without_tokens"],
            nothing_known=state.get("nothing_known", 0),
            words=UnknownWords(**{**state["words"], "squares": tuple(state["words"]["squares"])}),
            last=state.get("last", ""),
        )

    def add(self, scored: ScoredBlock) -> None:
        """One more block."""
        for counts, labels in zip(self.labels, scored.labels, strict=True):
            counts.update(labels)
        for total, best in zip(self.best, scored.best, strict=True):
            total += best
        self.lengths += length_classes(scored.tokens)
        self.documents += scored.rows
        self.without_tokens += int((scored.tokens == 0).sum())
        self.nothing_known += scored.nothing_known
        self.words = UnknownWords.summed((self.words, scored.unknown))
        self.last = scored.last

    def merge(self, other: "ScoreTally") -> None:
        """What was added up elsewhere, of later rows."""
        for counts, labels in zip(self.labels, other.labels, strict=True):
            counts.update(labels)
        for total, best in zip(self.best, other.best, strict=True):
            total += best
        self.lengths += other.lengths
        self.documents += other.documents
        self.without_tokens += other.without_tokens
        self.nothing_known += other.nothing_known
        self.words = UnknownWords.summed((self.words, other.words))
        self.last = other.last or self.last

    def result(self, sorters: Sequence[TrainedSorter]) -> ScoreResult:
        """What is told of it."""
        drifts = tuple(
            drift(sorter, NewDocuments(best, self.lengths, self.words))
            for sorter, best in zip(sorters, self.best, strict=True)
        )
        return ScoreResult(
            documents=self.documents,
            labels=self.labels,
            without_tokens=self.without_tokens,
            nothing_known=self.nothing_known,
            unknown_share=self.words.share,
            drifts=drifts,
        )
