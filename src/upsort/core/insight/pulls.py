"""What each thing in a document adds to the scores of a linear rule: terms, words through their vectors, columns beside the text.

score(label) = what the scores begin with + Σ over these things of pull(label), where pull = weight · value. A mean of word
vectors is a sum over words, so that each word has a pull of its own there too: its share of the mean, times its vector, times the
weights.
"""

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Literal

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Floats
from upsort.core.classifiers.families import family
from upsort.core.classifiers.linear import LinearRule
from upsort.core.features.counting import KnownCounts
from upsort.core.features.documents import Documents
from upsort.core.features.measuring import prefixes
from upsort.core.features.ngrams import grams_of, letters_of
from upsort.core.features.weighting import presence
from upsort.core.learning.sorter import TrainedSorter
from upsort.core.records import record

Source = Literal["term", "vector", "column"]


@record(frozen=True, kw_only=True)
class Contribution:
    """One thing in the document.

    source: a term, a term through its word vector, or a column beside the text (a measure of the text too). count: how often the
    term stands there, 0 for a column. value: what it is to the classifier; of a word vector, the share of the mean. given: the
    number in the column, where it is one. pulls: (k,) on each label's score. parts: the terms of this document that it is made
    of, and the share of each, which are several only where terms are hashed. shares_with: other terms that the sorter remembers
    of the same hashed column.
    """

    term: str
    source: Source = "term"
    count: int = 0
    value: float
    given: float | None = None
    pulls: Floats
    parts: tuple[tuple[str, float], ...] = ()
    shares_with: tuple[str, ...] = ()


def seen_by_rule(sorter: TrainedSorter, matrix: csr_array) -> csr_array:
    """What the weights are multiplied by."""
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
                term=name,
                count=abs(int(counts.get(column, 0))),
                value=value,
                pulls=weights * value,
                parts=((name, 1.0),),
            )
            contributions.append(
                _named(contribution, hashed.get(column, [])) if space.hashed is not None else contribution
            )
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
    for tokens, prefix in zip(sorter.tokens_of(document), prefixes(sorter.plan.columns, features), strict=True):
        units = letters_of(tokens) if features.units == "letters" else tokens
        for grams in grams_of(units, features, prefix=prefix):
            counts = np.bincount(grams.cells.columns, weights=grams.cells.counts, minlength=len(grams.names))
            yield grams.names, np.rint(counts).astype(np.int64).tolist()


def _named(contribution: Contribution, candidates: Sequence[tuple[str, int]]) -> Contribution:
    """A hashed column under the names of the document's own terms. held: these terms, with signed counts."""
    if not candidates:
        return contribution
    total = sum(count for _, count in candidates)
    names = [name for name, _ in candidates]
    return replace(
        contribution,
        term=" + ".join(names),
        parts=tuple((name, count / total if total else 0.0) for name, count in candidates),
        shares_with=tuple(
            other for other in contribution.term.split(" | ") if other not in names and not other.startswith("#")
        ),
    )
