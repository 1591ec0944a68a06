"""Why a document got its label: every term's pull on every label's score, and what would change the decision.

For a linear sorter score(label) = intercept[label] + Σ over terms of pull(term, label), with pull = weight · value. What a term
says for a label is its pull there minus its mean pull on the others (see `insight.terms`).
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Floats, Ints
from upsort.core.classifiers.families import family
from upsort.core.errors import DataProblem
from upsort.core.features.documents import Documents
from upsort.core.features.measuring import prefixes
from upsort.core.features.weighting import presence, unit_length
from upsort.core.insight.terms import leanings
from upsort.core.learning.sorter import Sorter

MOST_OUT = 8
"""Words that are taken out in search of another label."""

_MOST_TRIED = 60  # words that are tried for each


@dataclass(frozen=True)
class Pulls:
    """One term of the document. count: how often it stands there, 0 for a column beside the text. value: its weight in the
    document. pulls: (k,) on each label's score."""

    term: str
    count: int
    value: float
    pulls: Floats


@dataclass(frozen=True, kw_only=True)
class Word:
    """A word of the text as it was written, from start to end in it. term: what cleaning made of it. known: to the sorter.

    leaning: what it says for the label that was given, per occurrence; 0 where it is not known. part: of the text it stands in.
    """

    start: int
    end: int
    term: str
    known: bool
    leaning: float
    part: int = 0


@dataclass(frozen=True, kw_only=True)
class Explanation:
    """All of a decision about one document. text: its parts joined by line ends. given: what it is given, as everywhere. terms:
    strongest for the first label first. intercept, scores, probabilities: (k,)."""

    document: Documents
    text: str
    given: str
    label: int
    second: int
    terms: list[Pulls]
    intercept: Floats
    scores: Floats
    probabilities: Floats
    words: list[Word]
    unknown: list[str]


def explain(sorter: Sorter, document: Documents) -> Explanation:
    """Explain the decision about one document. Raises DataProblem for a sorter that has no weights."""
    rule = sorter.classifier.rule
    if rule is None:
        raise DataProblem(
            f"A sorter of kind {sorter.plan.classifier.kind} has no pulls of terms to add up.",
            "Train a linear one, for example with --set classifier.kind=logistic.",
        )
    matrix, known = sorter.matrix(document)
    values = presence(matrix) if family(sorter.plan.classifier.kind).on_presence else matrix
    decisions = sorter.decide_matrix(matrix, known)
    counts = dict(zip(known.matrix.indices.tolist(), known.matrix.data.tolist(), strict=True))
    label = int(decisions.best[0])
    terms = [
        Pulls(sorter.space.terms[column], abs(int(counts.get(column, 0))), float(value), rule.weights[column] * value)
        for column, value in zip(values.indices.tolist(), values.data.tolist(), strict=True)
    ]
    terms.sort(key=lambda one: (-_leaning(one.pulls, label), one.term))
    words = _words(sorter, document, {one.term: one for one in terms}, label)
    return Explanation(
        document=document,
        text=document.texts[0],
        given=sorter.given(decisions)[0],
        label=label,
        second=int(decisions.second[0]),
        terms=terms,
        intercept=rule.intercept,
        scores=decisions.scores[0],
        probabilities=decisions.probabilities[0],
        words=words,
        unknown=list(dict.fromkeys(word.term for word in words if not word.known)),
    )


def _leaning(pulls: Floats, label: int) -> float:
    return float(leanings(pulls[None, :])[0, label])


def _words(sorter: Sorter, document: Documents, terms: dict[str, Pulls], label: int) -> list[Word]:
    """The words of the whole text; the leaning of an n-gram is shared evenly among its words, wherever in their part they
    stand."""
    found: list[Word] = []
    begins = prefixes(sorter.plan.columns, sorter.plan.features)
    for part, offset in enumerate(_offsets(document)):
        traced = sorter.cleaning.traced(document.parts[part][0])
        own = {name.removeprefix(begins[part]): one for name, one in terms.items() if name.startswith(begins[part])}
        shares = _shares([term for term, _, _ in traced], own, label)
        in_letters = sorter.plan.features.units == "letters"
        found += [
            Word(
                start=offset + start,
                end=offset + end,
                term=term,
                known=in_letters or term in shares,
                leaning=0.0 if in_letters else shares.get(term, 0.0),
                part=part,
            )
            for term, start, end in traced
        ]
    return found


def _shares(words: Sequence[str], terms: dict[str, Pulls], label: int) -> dict[str, float]:
    """What each word that is in a term says for the label, each time it stands there."""
    times: dict[str, int] = {}
    for word in words:
        times[word] = times.get(word, 0) + 1
    shares: dict[str, float] = {}
    for name, one in terms.items():
        parts = [part for part in name.replace("…", " ").split() if part in times]
        for part in parts:
            shares[part] = shares.get(part, 0.0) + _leaning(one.pulls, label) / len(parts) / times[part]
    return shares


def _offsets(document: Documents) -> list[int]:
    """Where each part begins in the whole text of a document."""
    offsets, at = [], 0
    for part in document.parts:
        offsets.append(at)
        at += len(part[0]) + 1 if part[0] else 0
    return offsets


def smallest_change(sorter: Sorter, explanation: Explanation) -> tuple[list[str], int] | None:
    """Words that, taken out of the text, change the label; found greedily, so that there may be a smaller set.

    Each step takes out the word (all its occurrences) after which the margin of the given label over the best other is
    smallest. Returns the words and the new label, or None where no few words do it.
    """
    label = explanation.label
    out: list[str] = []
    for _ in range(MOST_OUT):
        words = sorted({(word.leaning, word.term) for word in explanation.words if word.term not in out}, reverse=True)
        candidates = list(dict.fromkeys(term for leaning, term in words if leaning > 0))[:_MOST_TRIED]
        if not candidates:
            return None
        decisions = sorter.decide(_without(explanation, [{*out, term} for term in candidates]))
        scores = decisions.scores
        others = np.delete(scores, label, axis=1).max(axis=1)
        best = int(np.argmin(scores[:, label] - others))
        out.append(candidates[best])
        if int(decisions.best[best]) != label:
            return out, int(decisions.best[best])
    return None


def _without(explanation: Explanation, sets: Sequence[set[str]]) -> Documents:
    """The document without some words, once for each set of them; its columns beside the text stay."""
    document, offsets = explanation.document, _offsets(explanation.document)
    parts: tuple[list[str], ...] = tuple([] for _ in document.parts)
    for terms in sets:
        for part, texts in enumerate(parts):
            text, pieces, at = document.parts[part][0], [], 0
            for word in explanation.words:
                if word.part == part and word.term in terms:
                    pieces.append(text[at : word.start - offsets[part]])
                    at = word.end - offsets[part]
            texts.append("".join([*pieces, text[at:]]))
    return replace(document.rows([0] * len(sets)), parts=parts)


def questions_asked(sorter: Sorter, document: Documents) -> list[str]:
    """The questions that a document is asked, with the answers, as sentences. Raises DataProblem for a kind that asks none."""
    asks = family(sorter.plan.classifier.kind).questions
    if asks is None:
        raise DataProblem(f"A sorter of kind {sorter.plan.classifier.kind} asks no questions.")
    matrix, _ = sorter.matrix(document)
    asked, leaf = asks(sorter.classifier, matrix)
    lines = [
        f"{sorter.space.terms[one.term]!r} {'is there' if one.there else 'is not there'} ({one.documents:,.0f} documents)"
        for one in asked
    ]
    shares = ", ".join(
        f"{sorter.labels[label]} {leaf[label]:,.0f}"
        for label in np.argsort(-leaf, kind="stable").tolist()
        if leaf[label]
    )
    return [*lines, f"so: {shares}"]


def nearest(sorter: Sorter, document: Documents, others: csr_array, most: int) -> tuple[Ints, Floats]:
    """The places of the most similar ones of others, (n, n_terms) in the sorter's space, and their cosines, highest first."""
    matrix, _ = sorter.matrix(document)
    similar = np.asarray((unit_length(others) @ unit_length(matrix).T).toarray()).reshape(-1)
    order = np.argsort(-similar, kind="stable")[:most]
    return order.astype(np.int64), similar[order]


def deciding_words(explanation: Explanation, most: int) -> list[str]:
    """The words that say most for the label that was given."""
    ranked = sorted({(-word.leaning, word.term) for word in explanation.words if word.leaning > 0})
    return list(dict.fromkeys(term for _, term in ranked))[:most]
