"""Which terms are in most documents, in all and for each label: tallied block by block, without keeping the documents."""

from collections.abc import Sequence
from math import sqrt

import numpy as np

from upsort.core.arrays import AnyArray, Floats, Ints, Places
from upsort.core.distributions import normal_quantile
from upsort.core.records import record
from upsort.core.text.tokeniser import Tokens

_RISK = 0.001


@record(frozen=True, kw_only=True)
class CommonTerm:
    """A term, the documents it is in, and the label it leans to most: the one with the largest share of documents that hold
    it, with that share and the share among all documents. The label is empty where documents have none. leans:
    whether that share is higher than elsewhere beyond chance (two proportions, pooled; p < 0.001, Bonferroni over all terms)."""

    term: str
    documents: int
    label: str
    share_in_label: float
    share: float
    leans: bool = False


@record(frozen=True, kw_only=True)
class BlockTerms:
    """How many documents of a block hold each of w terms. labels: the k that its documents have. documents: (k + 1,) all of them,
    and those of each label. holding: (w, k + 1) of these those that hold each term."""

    words: Sequence[str]
    labels: list[str]
    documents: Ints
    holding: AnyArray


def terms_of_block(tokens: Tokens, labels: Sequence[Sequence[str]], once: Places) -> BlockTerms:
    """Count the documents of a block. labels: of each document. once: `first_in_document` of the tokens."""
    known: dict[str, int] = {}
    columns = [
        [0, *(known.setdefault(label, len(known) + 1) for label in dict.fromkeys(block_labels))]
        for block_labels in labels
    ]
    column = np.array([number for numbers in columns for number in numbers], dtype=np.int64)
    width, k = len(tokens.words), len(known) + 1
    # Each token of a document counts in each of the document's columns.
    owner = np.repeat(np.arange(len(columns)), np.diff(tokens.starts))[once]
    widths = np.array([len(row) for row in columns], dtype=np.int64)
    start = np.cumsum(widths) - widths
    times = widths[owner]
    within = np.arange(int(times.sum())) - np.repeat(np.cumsum(times) - times, times)
    code = np.repeat(tokens.codes[once].astype(np.int64), times)
    cells = np.bincount(code * k + column[np.repeat(start[owner], times) + within], minlength=width * k)
    return BlockTerms(
        words=tokens.words,
        labels=list(known),
        documents=np.bincount(column, minlength=k).astype(np.int64),
        holding=cells.reshape(width, k).astype(np.int32),
    )


class TermTally:
    """Document frequencies of every term by label, as blocks come in."""

    def __init__(self) -> None:
        self._numbers: dict[str, int] = {}
        self._labels: dict[str, int] = {}
        self._documents: list[int] = []
        self._table = np.zeros(
            (1024, 4), dtype=np.int32
        )  # the first column counts all documents, the others those of a label

    def add(self, block: BlockTerms) -> None:
        """The documents of one more block."""
        numbers = np.array([self._numbers.setdefault(word, len(self._numbers)) for word in block.words], dtype=np.int64)
        columns = [0, *(self._labels.setdefault(label, len(self._labels) + 1) for label in block.labels)]
        self._documents += [0] * (len(self._labels) + 1 - len(self._documents))
        for column, documents in zip(columns, block.documents.tolist(), strict=True):
            self._documents[column] += documents
        self._grow()
        if block.words:
            self._table[np.ix_(numbers, np.array(columns))] += block.holding

    def _grow(self) -> None:
        rows, columns = self._table.shape
        if len(self._numbers) > rows or len(self._documents) > columns:
            grown = np.zeros(
                (max(rows, 2 * len(self._numbers)), max(columns, 2 * len(self._documents))), dtype=np.int32
            )
            grown[:rows, :columns] = self._table
            self._table = grown

    @property
    def distinct(self) -> int:
        """Number of distinct terms."""
        return len(self._numbers)

    def most_common(self, most: int, without: frozenset[str] = frozenset()) -> list[CommonTerm]:
        """The terms in most documents, all labels together; ties by term."""
        return self._ranked(self._frequencies()[:, 0], most, without)

    def most_common_by_label(self, most: int, without: frozenset[str] = frozenset()) -> dict[str, list[CommonTerm]]:
        """The same for each label."""
        table = self._frequencies()
        return {label: self._ranked(table[:, number], most, without) for label, number in sorted(self._labels.items())}

    def _frequencies(self) -> Ints:
        return self._table[: len(self._numbers), : len(self._documents)].astype(np.int64)

    def _ranked(self, frequency: Ints, most: int, without: frozenset[str]) -> list[CommonTerm]:
        words = list(self._numbers)
        # Enough of the largest to be left with `most` when the stop words among them are taken out.
        enough = min(frequency.size, most + len(without))
        candidates = np.argpartition(-frequency, enough - 1)[:enough].tolist() if enough else []
        least = min((frequency[place] for place in candidates), default=0)
        tied = np.flatnonzero(frequency == least).tolist() if least else []
        chosen = {place for place in (*candidates, *tied) if frequency[place] > 0 and words[place] not in without}
        ordered = sorted(chosen, key=lambda place: (-frequency[place], words[place]))[:most]
        return [self._described(words[place], place, int(frequency[place])) for place in ordered]

    def _described(self, term: str, place: int, documents: int) -> CommonTerm:
        counts = self._table[place, : len(self._documents)].astype(float)
        totals = np.array(self._documents, dtype=float)
        share = float(counts[0] / totals[0])
        if len(self._labels) < 2:
            return CommonTerm(term=term, documents=documents, label="", share_in_label=share, share=share)
        best = max(self._labels.values(), key=lambda number: (counts[number] / totals[number], -number))
        return CommonTerm(
            term=term,
            documents=documents,
            label=list(self._labels)[best - 1],
            share_in_label=float(counts[best] / totals[best]),
            share=share,
            leans=self._leans(counts, totals, best),
        )

    def _leans(self, counts: Floats, totals: Floats, label: int) -> bool:
        """Whether a term, in (k,) counts of (k,) documents, is in more of a label's than of all others' beyond chance."""
        n, m = float(totals[label]), float(totals[0] - totals[label])
        pooled = float(counts[0] / totals[0])
        deviation = sqrt(pooled * (1.0 - pooled) * (1.0 / n + 1.0 / m)) if n and m else 0.0
        if not deviation:
            return False
        z = (float(counts[label]) / n - float(counts[0] - counts[label]) / m) / deviation
        return z > -normal_quantile(_RISK / max(self.distinct, 1))
