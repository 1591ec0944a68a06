"""The sorter: a feature space and a classifier, ready to decide about new text."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Bools, Floats, Ints
from upsort.core.classifiers.calibration import Calibration, in_order_of
from upsort.core.classifiers.fitted import Fitted
from upsort.core.classifiers.newton import Ended
from upsort.core.errors import DataProblem
from upsort.core.features.beside import Cells
from upsort.core.features.counting import KnownCounts, count_known
from upsort.core.features.documents import Documents
from upsort.core.features.measuring import prefixes
from upsort.core.features.vocabulary import FeatureSpace
from upsort.core.learning.adding_up import added_up
from upsort.core.learning.decision import values_of
from upsort.core.learning.held_out import HeldOut
from upsort.core.learning.method import Costs
from upsort.core.learning.reserve import Reserve
from upsort.core.names import listed
from upsort.core.plan import Plan
from upsort.core.text.cleaning import Cleaner, cleaner
from upsort.core.text.resources import Resources
from upsort.core.text.tokeniser import Tokens

UNDECIDED = "(undecided)"
"""Stands for a label where the sorter is not sure enough to give one."""


@dataclass(frozen=True, kw_only=True)
class Decisions:
    """What a sorter says about documents, row by row; n documents, k labels.

    scores: (n, k) float64. probabilities: (n, k) float64; rows sum to 1, unless documents may have several labels. best,
    second: (n,) int64, numbers of the first and the second label by the sorter's rule; equal ones: the label that sorts
    first. margin: (n,) difference of their probabilities. tokens: (n,) int64. unknown_share: (n,) share of tokens the sorter
    does not know; NaN for a document without tokens. sets: (n, k) which labels each document is given, where it may have
    several or none. undecided: (n,) which documents are less probable than the plan wants them to be.
    """

    scores: Floats
    probabilities: Floats
    best: Ints
    second: Ints
    margin: Floats
    tokens: Ints
    unknown_share: Floats
    sets: Bools | None = None
    undecided: Bools | None = None


LENGTH_CLASSES = 32


def length_classes(tokens: Ints) -> Ints:
    """(32,) documents with 0, 1, 2 to 3, 4 to 7 … words. tokens: (n,) words of each document."""
    classes = np.frexp(tokens.astype(np.float64))[1]
    return np.bincount(np.minimum(classes, LENGTH_CLASSES - 1), minlength=LENGTH_CLASSES).astype(np.int64)


@dataclass(frozen=True, kw_only=True)
class Trained:
    """What training saw and how it ended.

    label_documents: (k,) int64. label_document_frequency: (n_terms, k) int64, in how many documents of each label each
    term stands. documents: training documents. right: those that the sorter itself gets right, None where that
    is not known. ended: of the optimiser.
    penalty: the number that was used. held_out: what the folds of the training told.
    """

    label_documents: Ints
    label_document_frequency: Ints
    documents: int
    right: int | None
    ended: Ended
    penalty: float = 1.0
    held_out: HeldOut = field(default_factory=HeldOut)
    lengths: Ints = field(default_factory=lambda: np.zeros(LENGTH_CLASSES, dtype=np.int64))
    words: int = 0
    known_words: int = 0


@dataclass(frozen=True, kw_only=True)
class Sorter:
    """A trained model.

    labels: sorted; the columns of scores and probabilities. resources: word lists its cleaning needs. costs: that it decides
    by, where it does. calibration: from scores to probabilities. answer: the label column it answers for, where there are
    several. thresholds: (k,) from which probability on a label is given, where a document may have several labels. reserve:
    see `Reserve`. decision: (k, k) the rule by which probabilities become labels (see `learning.decision`), None for the most
    probable one.
    """

    plan: Plan
    labels: tuple[str, ...]
    space: FeatureSpace
    classifier: Fitted
    trained: Trained
    resources: Resources = field(default_factory=Resources)
    costs: Costs | None = None
    calibration: Calibration = field(default_factory=Calibration)
    answer: str = ""
    thresholds: Floats | None = None
    reserve: Reserve | None = None
    decision: Floats | None = None

    @cached_property
    def cleaning(self) -> Cleaner:
        """The steps by which it reads text."""
        return cleaner(self.plan.clean, self.resources, self.plan.features.within_sentences)

    @property
    def majority(self) -> int:
        """The number of the label that most training documents have."""
        return int(np.argmax(self.trained.label_documents))

    def tokens_of(self, documents: Documents) -> list[Tokens]:
        """The cleaned tokens of each part of documents; those of all answers of one sorter are the same."""
        return [self.cleaning.tokens_of(part) for part in documents.parts]

    def known(self, tokens: Sequence[Tokens]) -> KnownCounts:
        """The terms of the sorter in a block of documents. tokens: of each of their parts."""
        parts = [
            count_known(part, self.space.places, self.space.counted, self.plan.features, prefix)
            for part, prefix in zip(tokens, prefixes(self.plan.columns, self.plan.features), strict=True)
        ]
        matrix = csr_array(sum((part.matrix for part in parts[1:]), parts[0].matrix))
        together: Ints = np.sum([part.tokens for part in parts], axis=0)
        return KnownCounts(matrix, together, np.sum([part.known for part in parts], axis=0))

    def matrix(self, documents: Documents, tokens: Sequence[Tokens] | None = None) -> tuple[csr_array, KnownCounts]:
        """(n, n_terms) what the classifier sees of documents, and what is known of their words."""
        counts = self.known(tokens or self.tokens_of(documents))
        return self.space.matrix(counts.matrix, self.cells(documents)), counts

    def decide(self, documents: Documents, tokens: Sequence[Tokens] | None = None) -> Decisions:
        """Decide about a block of documents. A document without known terms is decided by the intercepts alone.

        tokens: of each part of the documents, where they are at hand.
        """
        matrix, counts = self.matrix(documents, tokens)
        return self.decide_matrix(matrix, counts)

    def decide_matrix(self, matrix: csr_array, counts: KnownCounts) -> Decisions:
        """Decide about documents as numbers, as `matrix` gives them."""
        decisions = self.decide_scores(self.classifier.scores(matrix))
        return replace(decisions, tokens=counts.tokens, unknown_share=counts.unknown_share())

    def decide_scores(self, scores: Floats) -> Decisions:
        """The one way from scores to decisions: probabilities, then the sorter's rule. scores: (n, k). Nothing is said of
        words."""
        if self.thresholds is not None:
            probabilities = self.calibration.each(scores)
            return self._decided(scores, probabilities, probabilities)
        probabilities = self.calibration.probabilities(scores)
        if self.calibration.keeps_order:
            return self._decided(scores, probabilities, scores)
        if self.plan.decide.rank_by == "probabilities":
            return self._decided(scores, probabilities, probabilities)
        return self._decided(scores, in_order_of(scores, probabilities), scores)

    def decide_added_up(self, passages: Decisions, documents: Sequence[str], way: str) -> tuple[list[str], Decisions]:
        """Decide about documents made of passages by the same rule.

        documents: (n,) whose passage each is. way: see `adding_up`. Returns the documents in the order of their first
        passages, and the decisions about them; the scores are the logarithms of the probabilities.
        """
        names, owner, probabilities = added_up(passages.probabilities, documents, way, self.thresholds is None)
        tokens = np.bincount(owner, weights=passages.tokens, minlength=len(names)).astype(np.int64)
        unknown = np.bincount(owner, np.nan_to_num(passages.unknown_share) * passages.tokens, minlength=len(names))
        with np.errstate(invalid="ignore"):
            share: Floats = unknown / tokens
        scores = np.log(np.maximum(probabilities, 1e-300))
        return names, replace(self._decided(scores, probabilities, probabilities), tokens=tokens, unknown_share=share)

    def _decided(self, scores: Floats, probabilities: Floats, ranked_by: Floats) -> Decisions:
        """ranked_by: what the labels are ranked by where no rule of costs or weights does it."""
        if self.thresholds is None and self.decision is not None:
            ranked_by = values_of(probabilities, self.decision)
        order = np.argsort(-ranked_by, axis=1, kind="stable")
        best, second = order[:, 0].astype(np.int64), order[:, min(1, order.shape[1] - 1)].astype(np.int64)
        rows = np.arange(len(scores))
        bound = self.plan.decide.undecided_below
        return Decisions(
            scores=scores,
            probabilities=probabilities,
            best=best,
            second=second,
            margin=probabilities[rows, best] - probabilities[rows, second],
            tokens=np.zeros(len(scores), dtype=np.int64),
            unknown_share=np.full(len(scores), np.nan),
            sets=probabilities >= self.thresholds if self.thresholds is not None else None,
            undecided=probabilities[rows, best] < bound if bound > 0 and self.thresholds is None else None,
        )

    def given(self, decisions: Decisions) -> list[str]:
        """What each document is given: its label, its labels with the plan's separator between them, or UNDECIDED."""
        if decisions.sets is not None:
            return [
                self.joined(label for label, has in zip(self.labels, held, strict=True) if has)
                for held in decisions.sets.tolist()
            ]
        labels = [self.labels[best] for best in decisions.best.tolist()]
        if decisions.undecided is None:
            return labels
        return [UNDECIDED if left else label for label, left in zip(labels, decisions.undecided.tolist(), strict=True)]

    def joined(self, labels: Iterable[str]) -> str:
        """A set of labels as one cell: sorted, with the plan's separator between them."""
        separator = self.plan.columns.label_separator
        return (f"{separator} " if separator.strip() else separator).join(sorted(labels))

    def cells(self, documents: Documents) -> Cells:
        """The columns beside the text, in the order of training. Raises DataProblem where there are others."""
        cells = documents.cells(self.plan.features.measures)
        if cells.number_names != self.space.beside.number_names:
            raise DataProblem(
                f"The sorter was trained with the numbers {listed(self.space.beside.number_names) or 'none'}, these documents "
                f"have {listed(cells.number_names) or 'none'}.",
                "Give a table with the same columns.",
            )
        return cells
