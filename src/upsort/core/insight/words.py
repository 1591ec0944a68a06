"""The words of a document as they were written, each with what it says."""

from collections.abc import Callable, Iterator, Sequence

from upsort.core.arrays import Floats
from upsort.core.features.documents import Documents
from upsort.core.features.measuring import prefixes
from upsort.core.features.ngrams import GAP
from upsort.core.insight.pulls import Contribution
from upsort.core.learning.sorter import TrainedSorter
from upsort.core.records import record

Leaning = Callable[[Floats], float]
"""What a pull on the labels' scores says for the label that is explained."""


@record(frozen=True, kw_only=True)
class Word:
    """A word of the text as it was written, from start to end in it. term: what cleaning made of it. known: to the sorter.

    leaning: what it says for the label, against the next one where labels exclude each other, each time it stands there; 0 where
    it is not known. part: of the text it stands in.
    """

    start: int
    end: int
    term: str
    known: bool
    leaning: float
    part: int = 0


def weighed_words_of(
    sorter: TrainedSorter, document: Documents, pulls: Sequence[Contribution], leaning: Leaning
) -> list[Word]:
    """The words of the whole text. The leaning of an n-gram is shared evenly among its words wherever they stand in their part,
    that of a term of letters among the words that its letters are in."""
    words: list[Word] = []
    features, begins = sorter.plan.features, prefixes(sorter.plan.columns, sorter.plan.features)
    shares_of = _by_letters if features.units == "letters" else _by_words
    for part, offset in enumerate(offsets(document)):
        traced = sorter.cleaning.traced(document.parts[part][0])
        terms = [term for term, _, _ in traced]
        own = _contributions_by_term(pulls, begins[part], leaning)
        shares = shares_of(terms, own)
        columns, _ = sorter.space.places([begins[part] + term for term in terms])
        words += [
            Word(
                start=offset + start,
                end=offset + end,
                term=term,
                known=share is not None or column >= 0,
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


def _contributions_by_term(pulls: Sequence[Contribution], prefix: str, leaning: Leaning) -> dict[str, float]:
    """What each term of a part says, all its occurrences together."""
    contributions: dict[str, float] = {}
    for contribution in pulls:
        for name, share in contribution.parts:
            if name.startswith(prefix):
                bare = name.removeprefix(prefix)
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
    """The same where terms are letters in a row of the words, which are one space apart."""
    text = " ".join(words)
    word_at: list[int | None] = []
    for number, word in enumerate(words):
        word_at += [*([None] if number else []), *([number] * len(word))]
    values: list[float | None] = [None] * len(words)
    for name, value in terms.items():
        places = list(_places(text, name))
        for place in places:
            inside = [number for number in word_at[place : place + len(name)] if number is not None]
            for number in inside:
                values[number] = (values[number] or 0.0) + value / len(places) / len(inside)
    return values


def _places(text: str, name: str) -> Iterator[int]:
    """Where a name stands in a text, overlapping places too."""
    at = text.find(name)
    while at >= 0 and name:
        yield at
        at = text.find(name, at + 1)
