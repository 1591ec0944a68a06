"""Leaks: columns, numbers in the text, or few terms that predict labels by themselves.

Such a clue is often made after the label was: a code of the department, the name of the clerk, a number out of the department's
range. It is looked for on one half of the documents and judged on the other; what belongs together stays in one half."""

import re
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from itertools import islice
from typing import Literal

import numpy as np
from msgspec import Struct
from scipy.sparse import csr_array

from upsort.core.arrays import Bools, Codes, Floats, Ints, Places, chosen_texts, factorize, places_with
from upsort.core.classifiers.families import train
from upsort.core.classifiers.family import TrainingData
from upsort.core.classifiers.problem_arrays import Targets
from upsort.core.features.weighting import inverse_document_frequency, scheme, weigh
from upsort.core.lazy import record
from upsort.core.matrices.sparse import column_sizes
from upsort.core.plan import Classifier
from upsort.core.text.tokeniser import Tokens
from upsort.core.training.labelled import numbered_sets

MOST_DOCUMENTS = 20_000
"""Documents that are looked at, at most."""

_ALONE = 0.95  # of a clue: the accuracy, or the F1 of its label
_OF_THE_REST = 4  # times fewer errors than the baseline makes
_BEHIND = 0.05  # by which the rest of the text is worse, with at least twice as many errors
_MOST_TERMS = 10  # that give away one label
_CANDIDATES = 200  # of them
_LEAST_GAIN = 0.02  # of the label's documents that each term adds
_LEAST_TERM = 3  # documents that hold it
_LEAST_LABEL = 20  # documents of a label
_MOST_CODES = 200  # different labels, or sets of them, that are distinguished
_QUICK = Classifier(tolerance=1e-2)
_PREFIXES = 4
_NUMBER = re.compile(r"\d{3,}")
_NUMBER_SIGNS = r"\p{Nd}{3}|[\x{10000}-\x{10FFFF}]"  # the latter for digits that only newer tables of characters have
_MOST_DIGITS = 12
_BEFORE = re.compile(r"([^\W\d_]{1,20})[\s\-_/.:#№]{0,3}\Z")
_LONGEST_BEFORE = 24  # characters
_NUMBERS_OF_A_TEXT = 3
_MOST_OF_A_BLOCK = 5_000  # texts


class Leak(Struct, frozen=True, kw_only=True):
    """Something that predicts a label by itself. kind: terms of the text, a column, or numbers in the text. names: of the terms
    or the column; the word before the numbers, empty where it differs. label: that the terms predict; null where it is all
    labels. alone: on held-out documents, the F1 of that label by the terms alone, or the share of documents whose label the
    column or the numbers predict. rest: the same by the terms of the text, without any that give away labels. documents: held
    out."""

    kind: Literal["terms", "column", "numbers"]
    names: list[str]
    label: str | None
    alone: float
    rest: float
    documents: int


@record(frozen=True, kw_only=True)
class Clue:
    """A column of n values that may give away labels. ordered: whether near values mean alike; else each value is a name.
    values: (n,) NaN where there is none."""

    kind: Literal["column", "numbers"]
    name: str
    ordered: bool
    values: Floats


@record(frozen=True, kw_only=True)
class TextAndLabels:
    """n documents. counts: (n, t) of the terms. terms: their names. own: (n, k) which labels each has. names: of those. groups:
    (n,) of documents that belong together."""

    counts: csr_array
    terms: Sequence[str]
    own: Bools
    names: Sequence[str]
    groups: Ints | None

    @property
    def first(self) -> Bools:
        """(n,) the half that is learned from."""
        groups = np.arange(self.own.shape[0]) if self.groups is None else self.groups
        _, group = np.unique(groups, return_inverse=True)
        half: Bools = np.random.default_rng(0).random(int(group.max(initial=-1)) + 1) < 0.5
        return half[group]

    @property
    def codes(self) -> Ints:
        """(n,) a number for each label or set of labels."""
        return np.unique(self.own, axis=0, return_inverse=True)[1].ravel().astype(np.int64)


def find_leaks(documents: TextAndLabels, clues: Sequence[Clue] = ()) -> list[Leak]:
    """What gives away labels, that first which is furthest ahead of the rest of the text."""
    first = documents.first
    if min(int(first.sum()), int((~first).sum())) < _LEAST_LABEL or len(documents.names) < 2:
        return []
    found = [*_predictive_clues(documents, clues, first), *_predictive_terms(documents, first)]
    return sorted(found, key=lambda leak: (leak.rest - leak.alone, leak.names))


def _predictive_clues(documents: TextAndLabels, clues: Sequence[Clue], first: Bools) -> Iterator[Leak]:
    if not clues:
        return
    codes = documents.codes
    shares = np.bincount(codes) / codes.size
    bound = max(_ALONE, 1.0 - (1.0 - float(shares.max())) / _OF_THE_REST)
    predictive = [(clue, share) for clue in clues if (share := _accuracy_by_values(clue, codes, first)) >= bound]
    if any(clue.kind == "numbers" and clue.name for clue, _ in predictive):  # which then are the first of all, too
        predictive = [(clue, share) for clue, share in predictive if clue.name]
    if not predictive or shares.size > _MOST_CODES:
        return
    targets = _targets(codes, shares.size, first)
    fitted = _scores(documents.counts, targets, first)
    by_text = float((fitted.argmax(axis=1) == codes[~first]).mean())
    for clue, share in predictive:
        if _far_better(share, by_text):
            yield Leak(kind=clue.kind, names=[clue.name], label=None, alone=share, rest=by_text, documents=int((~first).sum()))


def _accuracy_by_values(clue: Clue, codes: Ints, first: Bools) -> float:
    """The share of the documents of the second half that get their own label by the value of one column: the most common label of
    the first half's documents with that value or, where values are ordered, with the nearest."""
    known = ~np.isnan(clue.values)
    labels = int(codes.max()) + 1
    guess = np.full(codes.size, np.bincount(codes[first]).argmax())
    if (first & ~known).any():
        guess[~known] = np.bincount(codes[first & ~known]).argmax()
    if (first & known).any():
        values, place = np.unique(clue.values[first & known], return_inverse=True)
        pairs, times = np.unique(place * labels + codes[first & known], return_counts=True)
        order = np.lexsort((-times, pairs // labels))
        best = pairs[order][np.unique(pairs[order] // labels, return_index=True)[1]] % labels
        asked = clue.values[known]
        at = np.minimum(np.searchsorted(values, asked), values.size - 1)
        if clue.ordered:
            before = np.maximum(at - 1, 0)
            at = np.where(np.abs(asked - values[before]) < np.abs(asked - values[at]), before, at)
            guess[known] = best[at]
        else:
            guess[known] = np.where(values[at] == asked, best[at], guess[known])
    return float((guess == codes)[~first].mean())


def _predictive_terms(documents: TextAndLabels, first: Bools) -> Iterator[Leak]:
    counts, own = documents.counts, documents.own
    present = csr_array((np.ones(counts.nnz), counts.indices, counts.indptr), shape=counts.shape)
    learned, judged = csr_array(present[first]), csr_array(present[~first])
    frequent = np.flatnonzero(column_sizes(learned) >= _LEAST_TERM)
    learned = csr_array(learned[:, frequent])
    kept = np.ones(counts.shape[1], dtype=bool)
    predictive: list[tuple[int, Ints, float]] = []
    for label in np.flatnonzero(np.minimum(own[first].sum(axis=0), own[~first].sum(axis=0)) >= _LEAST_LABEL / 2).tolist():
        chosen, alike = _pure_terms(learned, own[first, label])
        if not chosen.size:
            continue
        terms, share = frequent[chosen], float(own[first, label].mean())
        alone = _f1(np.asarray(csr_array(judged[:, terms]).sum(axis=1)).ravel() > 0, own[~first, label])
        if alone >= max(_ALONE, 1.0 - (1.0 - 2.0 * share / (1.0 + share)) / _OF_THE_REST):
            kept[frequent[alike]] = False
            predictive.append((label, terms, alone))
    without = csr_array(counts[:, np.flatnonzero(kept)])
    for label, terms, alone in predictive:
        scores = _scores(without, _targets(own[:, label].astype(np.int64), 2, first), first)
        rest = _f1(scores.argmax(axis=1) == 1, own[~first, label])
        if _far_better(alone, rest):
            names, name = [documents.terms[term] for term in terms.tolist()], documents.names[label]
            yield Leak(kind="terms", names=names, label=name, alone=alone, rest=rest, documents=int((~first).sum()))


def _pure_terms(present: csr_array, own: Bools) -> tuple[Ints, Ints]:
    """Few terms that nearly always stand under one label and together in nearly all of its documents, and all terms that are like
    them; none where there are no such. present: (n, t) 1 where a document holds a term. own: (n,) whether it has the label."""
    size, none = float(own.sum()), np.zeros(0, dtype=np.int64)
    holding = np.asarray(present.T @ own.astype(np.float64))
    purity = max(_ALONE, 1.0 - (1.0 - size / own.size) / _OF_THE_REST)
    enough = (holding >= purity * column_sizes(present)) & (holding >= max(_LEAST_TERM, _LEAST_GAIN * size))
    pure = np.flatnonzero(enough)
    pure = pure[np.argsort(-holding[pure], kind="stable")]
    if holding[pure[:_MOST_TERMS]].sum() < _ALONE * _ALONE * size:
        return none, none
    chosen = pure[_covering(csr_array(present[own][:, pure[:_CANDIDATES]]))]
    return (chosen, pure[holding[pure] >= holding[chosen].min() / 2]) if chosen.size else (none, none)


def _covering(held: csr_array) -> Ints:
    """The fewest columns, found greedily, that cover nearly all rows; none where more than a few would be needed."""
    dense = held.toarray() > 0
    left, chosen = np.ones(dense.shape[0], dtype=bool), list[int]()
    while len(chosen) < _MOST_TERMS:
        gains = dense[left].sum(axis=0)
        best = int(gains.argmax())
        if gains[best] < max(1.0, _LEAST_GAIN * dense.shape[0]):
            break
        chosen.append(best)
        left &= ~dense[:, best]
    return np.array(chosen if left.mean() <= 1.0 - _ALONE * _ALONE else [], dtype=np.int64)


def _far_better(alone: float, rest: float) -> bool:
    return alone - rest >= _BEHIND and 2.0 * (1.0 - alone) <= 1.0 - rest


def _f1(given: Bools, own: Bools) -> float:
    both = float((given & own).sum())
    return 2.0 * both / max(float(given.sum() + own.sum()), 1.0)


def _targets(codes: Ints, labels: int, first: Bools) -> Targets:
    return Targets(codes[first], labels, np.ones(int(first.sum())))


def _scores(counts: csr_array, targets: Targets, first: Bools) -> Floats:
    """(m, k) the scores of the second half by a logistic regression on the first. Labels that the first half lacks get none."""
    learned = csr_array(counts[first])
    idf = inverse_document_frequency(column_sizes(learned), learned.shape[0], "r")
    weighted = [weigh(csr_array(half), idf, scheme("lrc")) for half in (learned, counts[~first])]
    present = np.unique(targets.labels)
    narrowed = Targets(np.searchsorted(present, targets.labels).astype(np.int64), present.size, targets.weights)
    scores = np.full((weighted[1].shape[0], targets.n_labels), -np.inf)
    if present.size > 1:
        data = TrainingData(matrix=weighted[0], targets=narrowed, names=tuple(map(str, present.tolist())))
        scores[:, present] = train(data, _QUICK, 0.1).scores(weighted[1])
    else:
        scores[:, present] = 0.0
    return scores


@record(frozen=True, kw_only=True)
class TextNumbers:
    """The first long numbers of n texts. owner: (m,) the text of each, ascending. before: (m) the word in front of each, in lower
    case. values: (m,)."""

    texts: int
    owner: Ints
    before: Sequence[str]
    values: Floats


def numbers_of(texts: Sequence[str]) -> TextNumbers:
    """The first numbers of at least three digits in each text."""
    owner, before, values = list[int](), list[str](), list[float]()
    for place in places_with(texts, _NUMBER_SIGNS):
        text = texts[place]
        for match in islice(_NUMBER.finditer(text), _NUMBERS_OF_A_TEXT):
            begin, end = match.span()
            if end - begin <= _MOST_DIGITS:
                word = _BEFORE.search(text[max(begin - _LONGEST_BEFORE, 0) : begin])
                owner.append(place)
                before.append(word[1].lower() if word is not None else "")
                values.append(float(match[0]))
    return TextNumbers(
        texts=len(texts), owner=np.array(owner, dtype=np.int64), before=before, values=np.array(values, dtype=np.float64)
    )


def number_clues(blocks: Sequence[TextNumbers], rows: Ints) -> Iterator[Clue]:
    """Of some of the documents: the first number after each of the most common words, and the first of all. blocks: consecutive
    ones."""
    offsets = np.cumsum([0, *(block.texts for block in blocks)])
    owner = np.concatenate([block.owner + offset for block, offset in zip(blocks, offsets[:-1].tolist(), strict=True)])
    values = np.concatenate([block.values for block in blocks])
    before = np.array([word for block in blocks for word in block.before], dtype=object)
    common = [word for word, _ in Counter(before.tolist()).most_common(_PREFIXES) if word]
    every = [("", np.ones(owner.size, dtype=bool))] if owner.size else []
    for word, chosen in [*every, *((word, before == word) for word in common)]:
        column = np.full(int(offsets[-1]), np.nan)
        column[owner[chosen][::-1]] = values[chosen][::-1]  # the first of a document is written last
        yield Clue(kind="numbers", name=word, ordered=True, values=column[rows])


@record(frozen=True, kw_only=True)
class SampledTexts:
    """Some texts of a block. rows: (m,) their places. words: the distinct ones; codes: of each text's distinct words, one text
    after the other; sizes: (m,) how many. numbers: in the texts."""

    rows: Ints
    words: Sequence[str]
    codes: Codes
    sizes: Ints
    numbers: TextNumbers


def sampled_texts(tokens: Tokens, once: Places, texts: Sequence[str]) -> SampledTexts:
    """At most so many texts of a block, evenly spread. once: `first_in_document` of the tokens."""
    rows = np.arange(len(texts))
    if rows.size > _MOST_OF_A_BLOCK:
        rows = np.linspace(0, rows.size - 1, _MOST_OF_A_BLOCK).astype(np.int64)
    owner = np.repeat(np.arange(len(texts)), np.diff(tokens.starts))[once]
    inside = np.isin(owner, rows)
    codes, distinct = factorize(tokens.codes[once][inside])
    return SampledTexts(
        rows=rows,
        words=[tokens.words[code] for code in distinct.tolist()],
        codes=codes.astype(np.int32),
        sizes=np.bincount(owner[inside], minlength=len(texts))[rows],
        numbers=numbers_of(chosen_texts(texts, rows)),
    )


class TextSample:
    """A bounded number of texts of all blocks, evenly spread: each time there are too many, every second one goes."""

    def __init__(self) -> None:
        self._terms: dict[str, int] = {}
        self._step = 1
        self._kept: list[tuple[int, Codes, list[tuple[str, float]], Mapping[str, str]]] = []

    def add(self, block: SampledTexts, first: int, cells: Mapping[str, Sequence[str]]) -> None:
        """One more block. first: the number of its first document. cells: of its documents, by column."""
        terms = np.array([self._terms.setdefault(word, len(self._terms)) for word in block.words], dtype=np.int32)
        chosen, ends = np.arange(0, block.rows.size, self._step), np.cumsum(block.sizes)
        numbers: dict[int, list[tuple[str, float]]] = {}
        found = zip(block.numbers.owner.tolist(), block.numbers.before, block.numbers.values.tolist(), strict=True)
        for owner, before, value in found:
            numbers.setdefault(owner, []).append((before, value))
        rows = block.rows[chosen]
        columns = {name: list(chosen_texts(column, rows)) for name, column in cells.items()}
        for at, (place, row) in enumerate(zip(chosen.tolist(), rows.tolist(), strict=True)):
            words = terms[block.codes[ends[place] - block.sizes[place] : ends[place]]]
            self._kept.append((first + row, words, numbers.get(place, []), {name: own[at] for name, own in columns.items()}))
        while len(self._kept) > MOST_DOCUMENTS:
            self._kept, self._step = self._kept[::2], 2 * self._step

    def leaks(self, sets: Sequence[Sequence[str]], of_each: Ints, groups: Ints, clues: Sequence[Clue | None]) -> list[Leak]:
        """What gives away labels. sets: of labels. of_each: (N,) the place there of each document's; groups: (N,) of all.
        clues: of the sample."""
        labelled = [place for place, (document, *_) in enumerate(self._kept) if sets[of_each[document]]]
        if not labelled:
            return []
        rows = np.array(labelled, dtype=np.int64)
        documents = [self._kept[place][0] for place in labelled]
        names, _, own = numbered_sets([frozenset(sets[place]) for place in of_each[documents].tolist()])
        columns = [replace(clue, values=clue.values[rows]) for clue in clues if clue is not None]
        text = TextAndLabels(
            counts=csr_array(self._counts()[rows]), terms=list(self._terms), own=own, names=names, groups=groups[documents]
        )
        return find_leaks(text, [*columns, *number_clues([self._numbers()], rows)])

    def _counts(self) -> csr_array:
        """(n, t) 1 where a document holds a term."""
        sizes = np.array([words.size for _, words, *_ in self._kept])
        starts = np.concatenate((np.zeros(1, dtype=np.int64), np.cumsum(sizes)))
        codes = np.concatenate([words for _, words, *_ in self._kept])
        return csr_array((np.ones(codes.size), codes, starts), shape=(sizes.size, len(self._terms)))

    def _numbers(self) -> TextNumbers:
        """In the texts."""
        each = [(place, *pair) for place, (_, _, pairs, _) in enumerate(self._kept) for pair in pairs]
        owner, before, values = zip(*each, strict=True) if each else ((), (), ())
        return TextNumbers(
            texts=len(self._kept), owner=np.array(owner, dtype=np.int64), before=before, values=np.array(values, dtype=np.float64)
        )

    def cells(self, column: str) -> list[str]:
        """(n) of a column; empty where a table lacks it."""
        return [cells.get(column, "") for *_, cells in self._kept]
