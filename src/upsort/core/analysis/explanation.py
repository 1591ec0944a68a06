"""Why a document got its label, for every kind of sorter: by sums of pulls, a path of questions, votes, or no look at the text.

What a term says for the label is its pull there less its pull on the next label: on these two hangs the decision. Where a
document may have several labels, each is decided by itself, and its own pulls say it all.

Which words, taken out of a text, would change its label."""

from collections.abc import Sequence
from dataclasses import field, replace

import numpy as np
from msgspec import Struct
from scipy.sparse import csr_array

from upsort.core.analysis.contributions import Contribution, Leaning, Word, offsets, pulls_of, weighed_words_of
from upsort.core.arrays import Floats, Ints
from upsort.core.classifiers.families import family
from upsort.core.features.counting import KnownCounts
from upsort.core.features.documents import Documents
from upsort.core.features.weighting import unit_length
from upsort.core.lazy import record
from upsort.core.training.sorter import TrainedSorter, blank_rows

_IN_COMMON = 3


@record(frozen=True)
class Additive:
    """begins: what scores begin with, by name, (k,) each. pulls: what is added, strongest for the label first."""

    begins: list[tuple[str, Floats]]
    pulls: list[Contribution]


class AnsweredQuestion(Struct, frozen=True, kw_only=True, rename={"bound": "above"}):
    """A question of a tree, and its answer. bound: above which a number was asked for; None where a term or a value was.
    documents: of the training that were asked."""

    term: str
    bound: float | None
    answer: bool
    documents: float


@record(frozen=True)
class TreePath:
    """questions: in their order. documents: (k,) training documents of each label that answered alike."""

    questions: list[AnsweredQuestion]
    documents: Floats


@record(frozen=True, kw_only=True)
class Voter:
    """A training document that has a say. says: what it adds to its label's score. in_common: terms, those that make it most
    similar first. values: (1, n_terms), by which it may be found again."""

    label: str
    similarity: float
    weight: float
    says: float
    in_common: list[str]
    values: csr_array = field(repr=False)


@record(frozen=True)
class NeighbourVotes:
    """voters: most similar first; none where no training document has anything in common with this one."""

    voters: list[Voter]


@record(frozen=True)
class PriorOnly:
    """Of kinds that do not look at the text, and of documents in which others see nothing: the probabilities are the labels'
    shares. documents: (k,) training documents of each label."""

    documents: Ints


@record(frozen=True)
class Unexplained:
    """Of kinds that say nothing of how their scores come about."""


How = Additive | TreePath | NeighbourVotes | PriorOnly | Unexplained


@record(frozen=True, kw_only=True)
class Explanation:
    """All of a decision about one document. text: its parts joined by line ends. sorted_as: what it is given, as everywhere.
    label, second: the first and the next label by the sorter's rule. scores, probabilities: (k,). given: the labels that it gets,
    where it may have several. remark: on an answer that rests on no word, empty elsewhere. unknown: words never seen in training,
    ignored: words in no term otherwise, both in their order."""

    document: Documents
    text: str
    sorted_as: str
    label: int
    second: int
    scores: Floats
    probabilities: Floats
    given: list[int] | None
    remark: str
    how: How
    words: list[Word]
    unknown: list[str]
    ignored: list[str]


def explain(sorter: TrainedSorter, document: Documents) -> Explanation:
    """Explain the decision about one document."""
    matrix, known = sorter.matrix(document)
    decisions = sorter.decide_matrix(matrix, known)
    label, second = int(decisions.best[0]), int(decisions.second[0])
    leaning = own_leaning(label) if decisions.sets is not None else leaning_between(label, second)
    by_share = sorter.predictions_by_share and bool(blank_rows(matrix)[0])
    how = PriorOnly(sorter.trained.label_documents) if by_share else _how(sorter, document, matrix, known)
    if isinstance(how, Additive):
        how.pulls.sort(key=lambda contribution: (-leaning(contribution.pulls), contribution.term, contribution.source))
    words = weighed_words_of(sorter, document, how.pulls if isinstance(how, Additive) else [], leaning)
    return Explanation(
        document=document,
        text=document.texts[0],
        sorted_as=sorter.sorted_as(decisions)[0],
        label=label,
        second=second,
        scores=decisions.scores[0],
        probabilities=decisions.probabilities[0],
        given=np.flatnonzero(decisions.sets[0]).tolist() if decisions.sets is not None else None,
        remark=sorter.remarks_on(decisions)[0],
        how=how,
        words=words,
        unknown=list(dict.fromkeys(word.term for word in words if not word.known and not word.ignored)),
        ignored=list(dict.fromkeys(word.term for word in words if word.ignored)),
    )


def leaning_between(label: int, second: int) -> Leaning:
    """What speaks for one label against another."""
    return lambda pulls: float(pulls[label] - pulls[second])


def own_leaning(label: int) -> Leaning:
    """What speaks for a label that is decided by itself."""
    return lambda pulls: float(pulls[label])


def _how(sorter: TrainedSorter, document: Documents, matrix: csr_array, known: KnownCounts) -> How:
    record = family(sorter.plan.classifier)
    if record.begins is not None:
        return Additive(list(record.begins(sorter.classifier)), pulls_of(sorter, document, matrix, known))
    if record.questions is not None:
        questions, documents = record.questions(sorter.classifier, matrix)
        answers = [
            AnsweredQuestion(
                term=sorter.space.terms[question.term],
                bound=_bound(sorter, question.term),
                answer=question.there,
                documents=question.documents,
            )
            for question in questions
        ]
        return TreePath(answers, documents)
    if record.votes is not None:
        votes, rows = record.votes(sorter.classifier, matrix)
        unit = unit_length(matrix)
        return NeighbourVotes(
            [
                Voter(
                    label=sorter.labels[vote.label],
                    similarity=vote.similarity,
                    weight=vote.weight,
                    says=vote.says,
                    in_common=_in_common(sorter, unit, csr_array(rows[[place]])),
                    values=csr_array(rows[[place]]),
                )
                for place, vote in enumerate(votes)
            ]
        )
    return Unexplained() if record.looks_at_text else PriorOnly(sorter.trained.label_documents)


@record(frozen=True)
class TreeRule:
    """A leaf of a tree as a rule. answers: to its questions, in their order; `documents` of each are those of the whole leaf.
    documents: (k,) training documents of each label in it."""

    answers: list[AnsweredQuestion]
    documents: Floats


def rules_of(sorter: TrainedSorter) -> list[TreeRule]:
    """The rules of a tree, in the order of its leaves, yes before no; none of other kinds."""
    leaves = family(sorter.plan.classifier).leaves
    rules = []
    for path, documents in leaves(sorter.classifier) if leaves is not None else ():
        whole = float(documents.sum())
        answers = [
            AnsweredQuestion(term=sorter.space.terms[term], bound=_bound(sorter, term), answer=there, documents=whole)
            for term, there in path
        ]
        rules.append(TreeRule(answers, documents))
    return rules


def _bound(sorter: TrainedSorter, column: int) -> float | None:
    """The number that a column must be above for the answer yes: its mean, since it is standardised; 0 for a word vector."""
    name, extra_columns = sorter.space.terms[column], sorter.space.extra_columns
    if column < sorter.space.counted:
        return None
    if name in extra_columns.number_names:
        return float(extra_columns.mean[extra_columns.number_names.index(name)])
    return None if name in extra_columns.names else 0.0


def _in_common(sorter: TrainedSorter, document: csr_array, other: csr_array) -> list[str]:
    product = csr_array(document.multiply(other))
    order = np.argsort(-product.data, kind="stable")[:_IN_COMMON]
    return [sorter.space.terms[column] for column in product.indices[order].tolist()]


def nearest(sorter: TrainedSorter, document: Documents, candidates: csr_array, most: int) -> tuple[Ints, Floats]:
    """The places of the most similar ones of others, (n, n_terms) in the sorter's space, and their cosines, highest first."""
    matrix, _ = sorter.matrix(document)
    similar = np.asarray((unit_length(candidates) @ unit_length(matrix).T).toarray()).reshape(-1)
    order = np.argsort(-similar, kind="stable")[:most]
    return order.astype(np.int64), similar[order]


def deciding_words(words: Sequence[Word], most: int) -> list[str]:
    """The words that say most for the label that was given."""
    ranked = sorted({(-word.leaning, word.term) for word in words if word.leaning > 0})
    return list(dict.fromkeys(term for _, term in ranked))[:most]


MOST_OUT = 8
"""Words that are taken out in search of another label."""

_MOST_TRIED = 60  # words that are tried for each


def smallest_change(sorter: TrainedSorter, explanation: Explanation) -> tuple[list[str], int] | None:
    """Words that, taken out of the text, change the label; found greedily, so that there may be a smaller set.

    Each step takes out the word (all its occurrences) after which the margin of the given label over the best other is smallest.
    Returns the words and the new label, or None where no few words do it."""
    label, out = explanation.label, list[str]()
    for _ in range(MOST_OUT):
        candidates = _candidates(explanation, out)
        if not candidates:
            return None
        decisions = sorter.decide(_without(explanation, [{*out, term} for term in candidates]))
        scores = decisions.scores
        runner_up = np.delete(scores, label, axis=1).max(axis=1)
        changed = np.flatnonzero(decisions.best != label)
        margins = scores[:, label] - runner_up
        best = int(changed[np.argmin(margins[changed])]) if changed.size else int(np.argmin(margins))
        out.append(candidates[best])
        if int(decisions.best[best]) != label:
            return out, int(decisions.best[best])
    return None


def is_removable(explanation: Explanation) -> bool:
    """Whether taking out words can change anything: of kinds that look at the text, where one label is given."""
    return (
        explanation.given is None and not isinstance(explanation.how, PriorOnly) and any(word.known for word in explanation.words)
    )


def _candidates(explanation: Explanation, out: Sequence[str]) -> list[str]:
    """The words to try next: those that speak for the label, strongest first; all known ones where words have no pulls."""
    left = [word for word in explanation.words if word.term not in out and word.known]
    if isinstance(explanation.how, Additive):
        left = sorted((word for word in left if word.leaning > 0), key=lambda word: (word.leaning, word.term), reverse=True)
    return list(dict.fromkeys(word.term for word in left))[:_MOST_TRIED]


def _without(explanation: Explanation, sets: Sequence[set[str]]) -> Documents:
    """The document without some words, once for each set of them; its columns next to the text stay."""
    document, begins = explanation.document, offsets(explanation.document)
    parts: tuple[list[str], ...] = tuple([] for _ in document.parts)
    for terms in sets:
        for part, texts in enumerate(parts):
            text, pieces, at = document.parts[part][0], [], 0
            for word in explanation.words:
                if word.part == part and word.term in terms:
                    pieces.append(text[at : word.start - begins[part]])
                    at = word.end - begins[part]
            texts.append("".join([*pieces, text[at:]]))
    return replace(document.rows([0] * len(sets)), parts=parts)
