"""What each thing in a document adds to the scores of a linear rule: terms, words through their vectors, columns next to the
text.

score(label) = what the scores begin with + Σ over these things of pull(label), where pull = weight · value. A mean of word
vectors is a sum over words, so that each word has a pull of its own there too: its share of the mean, times its vector, times the
weights.

The words of a document as they were written, each with what it says."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from typing import Literal

import numpy as np
from msgspec import Struct
from scipy.sparse import csr_array

from upsort.core.arrays import Floats
from upsort.core.classifiers.families import family
from upsort.core.classifiers.family import LinearRule
from upsort.core.features.corpus_counts import suffixes
from upsort.core.features.counting import IGNORED, KnownCounts
from upsort.core.features.documents import Documents
from upsort.core.features.ngrams import GAP, grams_of, letters_of
from upsort.core.features.vocabulary import words_are_terms
from upsort.core.features.weighting import presence
from upsort.core.lazy import record
from upsort.core.text.characters import joined_words
from upsort.core.training.sorter import TrainedSorter

Source = Literal["term", "vector", "column"]


@record(frozen=True, kw_only=True)
class Contribution:
    """One thing in the document.

    source: a term, a term through its word vector, or a column next to the text (a measure of the text too). count: how often the
    term is there, 0 for a column. value: what it is to the classifier; of a word vector, the share of the mean. given: the number
    in the column, where it is one. pulls: (k,) on each label's score. parts: the terms of this document that it is made of, and
    the share of each, which are several only where terms are hashed. shares_with: other terms that the sorter remembers of the
    same hashed column."""

    term: str
    source: Source = "term"
    count: int = 0
    value: float
    given: float | None = None
    pulls: Floats
    parts: tuple[tuple[str, float], ...] = ()
    shares_with: tuple[str, ...] = ()


def seen_by_rule(sorter: TrainedSorter, matrix: csr_array) -> csr_array:
    """The factors of the weights."""
    return presence(matrix) if family(sorter.plan.classifier).on_presence else matrix


def pulls_of(sorter: TrainedSorter, document: Documents, matrix: csr_array, known: KnownCounts) -> list[Contribution]:
    """The pulls of one document, in no order. matrix, known: the document, as `Sorter.matrix` gives it. Raises ValueError for a
    sorter without weights."""
    rule = sorter.classifier.rule
    if rule is None:
        raise ValueError("the sorter has no weights")
    space = sorter.space
    values = seen_by_rule(sorter, matrix)
    counts = dict(zip(known.matrix.indices.tolist(), known.matrix.data.tolist(), strict=True))
    by_vectors = _by_vectors(sorter, rule, counts) if values is matrix else []
    whole = space.counted if not by_vectors else space.counted + rule_dimensions(sorter)
    given = {
        name: float(value)
        for name, value in zip(sorter.space.extra_columns.number_names, sorter.cells(document).numbers[0], strict=True)
    }
    hashed = _hashed_names(sorter, document) if space.hashed is not None else {}
    contributions = []
    for column, value in zip(values.indices.tolist(), values.data.tolist(), strict=True):
        name, weights = space.terms[column], rule.weights[column]
        if column < space.counted:
            contribution = Contribution(
                term=name, count=abs(int(counts.get(column, 0))), value=value, pulls=weights * value, parts=((name, 1.0),)
            )
            contributions.append(_named(contribution, hashed.get(column, [])) if space.hashed is not None else contribution)
        elif column >= whole:
            contributions.append(
                Contribution(term=name, source="column", value=value, given=given.get(name), pulls=weights * value)
            )
    return contributions + by_vectors


def rule_dimensions(sorter: TrainedSorter) -> int:
    """How many columns hold means of word vectors."""
    return sorter.space.vectors.vectors.shape[1] if sorter.space.vectors is not None else 0


def _by_vectors(sorter: TrainedSorter, rule: LinearRule, counts: dict[int, int]) -> list[Contribution]:
    """The pull of each word through its vector."""
    space = sorter.space
    if space.vectors is None or space.vector_scale is None:
        return []
    places = {column: place for place, column in enumerate(space.vectors.columns.tolist())}
    neighbours = [(column, places[column], count) for column, count in sorted(counts.items()) if column in places]
    if not neighbours:
        return []
    idf = space.vector_idf
    amounts = np.array([count * (idf[column] if idf is not None else 1.0) for column, _, count in neighbours])
    shares = amounts / amounts.sum() if amounts.sum() > 0 else amounts
    begin = space.counted
    weights = rule.weights[begin : begin + rule_dimensions(sorter)] * space.vector_scale[:, None]
    vectors = space.vectors.vectors[[place for _, place, _ in neighbours]]
    pulls = shares[:, None] * (vectors @ weights)
    return [
        Contribution(
            term=space.terms[column],
            source="vector",
            count=count,
            value=float(share),
            pulls=pull,
            parts=((space.terms[column], 1.0),),
        )
        for (column, _, count), share, pull in zip(neighbours, shares.tolist(), pulls, strict=True)
    ]


def _hashed_names(sorter: TrainedSorter, document: Documents) -> dict[int, list[tuple[str, int]]]:
    """The terms of the document by the hashed column that they fall into, each with its count, its sign included."""
    names_by_column: dict[int, list[tuple[str, int]]] = {}
    for names, counts in _terms_in(sorter, document):
        columns, signs = sorter.space.places(names)
        for name, count, column, sign in zip(names, counts, columns.tolist(), signs.tolist(), strict=True):
            if column >= 0:
                names_by_column.setdefault(column, []).append((name, count * sign))
    return names_by_column


def _terms_in(sorter: TrainedSorter, document: Documents) -> Iterator[tuple[Sequence[str], list[int]]]:
    """All terms that one document has, known or not, with their counts."""
    features = sorter.plan.features
    for tokens, suffix in zip(sorter.tokens_of(document), suffixes(sorter.plan.columns, features), strict=True):
        units = letters_of(tokens) if features.units == "letters" else tokens
        for grams in grams_of(units, features, suffix=suffix):
            counts = np.bincount(grams.cells.columns, weights=grams.cells.counts, minlength=len(grams.names))
            yield grams.names, np.rint(counts).astype(np.int64).tolist()


def _named(contribution: Contribution, candidates: Sequence[tuple[str, int]]) -> Contribution:
    """A hashed column under the names of the document's own terms. candidates: these terms, with signed counts."""
    if not candidates:
        return contribution
    total = sum(count for _, count in candidates)
    names = [name for name, _ in candidates]
    return replace(
        contribution,
        term=" + ".join(names),
        parts=tuple((name, count / total if total else 0.0) for name, count in candidates),
        shares_with=tuple(other for other in contribution.term.split(" | ") if other not in names and not other.startswith("#")),
    )


Leaning = Callable[[Floats], float]
"""What a pull on the labels' scores says for the label that is explained."""


class Word(Struct, frozen=True, kw_only=True):
    """A word of the text as it was written, from start to end in it. term: what cleaning made of it. known: to the sorter.
    ignored: seen in training, and left out of the terms as too common or too rare; if single words are no terms, in no term.

    leaning: what it says for the label, against the next one where labels exclude each other, each time it is there; 0 where it
    is not known. part: of the text it is in."""

    start: int
    end: int
    term: str
    known: bool
    leaning: float
    part: int = 0
    ignored: bool = False


def weighed_words_of(sorter: TrainedSorter, document: Documents, pulls: Sequence[Contribution], leaning: Leaning) -> list[Word]:
    """The words of the whole text. The leaning of an n-gram is shared evenly among its words wherever they are in their part,
    that of a term of letters among the words that its letters are in."""
    words: list[Word] = []
    features, ends = sorter.plan.features, suffixes(sorter.plan.columns, sorter.plan.features)
    by_words = words_are_terms(features)
    shares_of = _by_letters if features.units == "letters" else _by_words
    for part, offset in enumerate(offsets(document)):
        traced = sorter.cleaning.traced(document.parts[part][0])
        terms = [term for term, _, _ in traced]
        own = _contributions_by_term(pulls, ends[part], leaning)
        shares = shares_of(terms, own)
        columns, _ = sorter.space.places([term + ends[part] for term in terms])
        words += [
            Word(
                start=offset + start,
                end=offset + end,
                term=term,
                known=share is not None or column >= 0,
                ignored=share is None and (column == IGNORED or (column < 0 and not by_words)),
                leaning=share or 0.0,
                part=part,
            )
            for (term, start, end), share, column in zip(traced, shares, columns.tolist(), strict=True)
        ]
    return words


def offsets(document: Documents) -> list[int]:
    """Where each part begins in the whole text of a document."""
    positions, at = [], 0
    for part in document.parts:
        positions.append(at)
        at += len(part[0]) + 1 if part[0] else 0
    return positions


def _contributions_by_term(pulls: Sequence[Contribution], suffix: str, leaning: Leaning) -> dict[str, float]:
    """What each term of a part says, all its occurrences together."""
    contributions: dict[str, float] = {}
    for contribution in pulls:
        for name, share in contribution.parts:
            if name.endswith(suffix):
                bare = name.removesuffix(suffix)
                contributions[bare] = contributions.get(bare, 0.0) + share * leaning(contribution.pulls)
    return contributions


def _by_words(words: Sequence[str], terms: dict[str, float]) -> list[float | None]:
    """For each word what it says; None where it is in no term."""
    times: dict[str, int] = {}
    for word in words:
        times[word] = times.get(word, 0) + 1
    shares: dict[str, float] = {}
    for name, value in terms.items():
        parts = [part for part in name.replace(GAP, " ").split() if part in times]
        for part in parts:
            shares[part] = shares.get(part, 0.0) + value / len(parts) / times[part]
    return [shares.get(word) for word in words]


def _by_letters(words: Sequence[str], terms: dict[str, float]) -> list[float | None]:
    """The same where terms are letters in a row of the words, see `joined_words`."""
    text = joined_words(words)
    word_at: list[int | None] = []
    for number, word in enumerate(words):
        apart = number > 0 and len(joined_words((words[number - 1][-1:], word[:1]))) > 2
        word_at += [*([None] if apart else []), *([number] * len(word))]
    values: list[float | None] = [None] * len(words)
    for name, value in terms.items():
        places = list(_places(text, name))
        for place in places:
            inside = [number for number in word_at[place : place + len(name)] if number is not None]
            for number in inside:
                values[number] = (values[number] or 0.0) + value / len(places) / len(inside)
    return values


def _places(text: str, name: str) -> Iterator[int]:
    """Where a name is in a text, overlapping places too."""
    at = text.find(name)
    while at >= 0 and name:
        yield at
        at = text.find(name, at + 1)
