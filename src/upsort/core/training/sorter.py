"""The sorter: a feature space and a classifier, ready to decide about new text.

The plan as a sorter holds it: it names no file. What stood in the files it was made with is in the sorter itself, so that a
sorter never reads anything where it is used."""

from collections.abc import Iterable, Sequence
from dataclasses import field, replace
from functools import cached_property

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Bools, Floats, Ints, texts_by_code
from upsort.core.classifiers import families
from upsort.core.classifiers.calibration import Calibration, reordered_like
from upsort.core.classifiers.family import FittedClassifier, scores_of
from upsort.core.classifiers.newton import OptimiserReport
from upsort.core.errors import DataProblem, listed
from upsort.core.features.corpus_counts import suffixes
from upsort.core.features.counting import KnownCounts, count_known
from upsort.core.features.documents import Documents, ExtraCells
from upsort.core.features.fingerprints import Sketches
from upsort.core.features.vocabulary import FeatureSpace
from upsort.core.lazy import record
from upsort.core.matrices.partitioned import PartitionedMatrix, in_row_order
from upsort.core.plan import Plan
from upsort.core.text.characters import joined_labels
from upsort.core.text.cleaning import Cleaner, cleaner
from upsort.core.text.step import Resources
from upsort.core.text.tokeniser import Tokens
from upsort.core.training.decision import Costs, PlanWithResources, aggregate_passages, ranking, values_of
from upsort.core.training.labelled import HeldOut
from upsort.core.training.stored_documents import PrunedCounts, StoredDocuments

UNDECIDED = "(undecided)"
"""Given instead of a label where the sorter is not sure enough to give one."""

_REMARKS = (
    "",
    "no word known: the answer rests on the other columns",
    "nothing known: the answer is the most common label",
    "nothing known: the answer rests on no word",
)


@record(frozen=True, kw_only=True)
class Decisions:
    """What a sorter says about documents, row by row; n documents, k labels.

    scores: (n, k) float64. probabilities: (n, k) float64; rows sum to 1, unless documents may have several labels. best, second:
    (n,) int64, numbers of the first and the second label by the sorter's rule (see `ranking`). margin: (n,) difference of their
    probabilities. tokens: (n,) int64; known: (n,) int64, those that are terms. unknown_share: (n,) share of tokens that were
    never seen in training; NaN for a document without tokens. sets: (n, k) which labels each document is given, where it may have
    several or none. undecided: (n,) which documents are less probable than the plan wants them to be. similarity: (n,) to the
    nearest training document, where asked for."""

    scores: Floats
    probabilities: Floats
    best: Ints
    second: Ints
    margin: Floats
    tokens: Ints
    known: Ints
    unknown_share: Floats
    sets: Bools | None = None
    undecided: Bools | None = None
    similarity: Floats | None = None


ENOUGH_BLANK = 10
"""Training documents in which a classifier sees nothing, from which on it has learned what to make of such."""


def by_share(plan: Plan, blank: int | None) -> bool:
    """Whether what a plan's classifier says of a document in which it sees nothing is a guess, for which the labels' shares are
    better; not where labels are to count otherwise than by their documents. blank: such training documents."""
    record = families.family(plan.classifier)
    by_documents = "prior" not in record.settings or plan.classifier.prior == "data"
    by_documents = by_documents and not plan.columns.row_weight
    return blank is not None and blank < ENOUGH_BLANK and record.looks_at_text and by_documents


@in_row_order()
def blank_rows(matrix: csr_array) -> Bools:
    """(n,) which rows hold no value but 0."""
    return np.asarray(np.diff(matrix.indptr) == 0)


def without_known_words(decisions: Decisions) -> Bools:
    """(n,) which documents hold no word that the sorter knows."""
    return np.asarray(decisions.known == 0)


LENGTH_CLASSES = 32


def length_classes(tokens: Ints) -> Ints:
    """(32,) documents with 0, 1, 2 to 3, 4 to 7 … words. tokens: (n,) words of each document."""
    classes = np.frexp(tokens.astype(np.float64))[1]
    return np.bincount(np.minimum(classes, LENGTH_CLASSES - 1), minlength=LENGTH_CLASSES).astype(np.int64)


@record(frozen=True, kw_only=True)
class TrainingSummary:
    """What training saw and how it ended.

    label_documents: (k,) int64. label_document_frequency: (n_terms, k) int64, in how many documents of each label each term
    stands. documents: training documents. right: those that the sorter itself gets right, None where that is not known. ended: of
    the optimiser.
    penalty: the number that was used. held_out: measured by the folds of the training. blank: documents in which the classifier
    saw nothing at all, None where that is not known."""

    label_documents: Ints
    label_document_frequency: Ints
    documents: int
    right: int | None
    ended: OptimiserReport
    penalty: float = 1.0
    held_out: HeldOut = field(default_factory=HeldOut)
    lengths: Ints = field(default_factory=lambda: np.zeros(LENGTH_CLASSES, dtype=np.int64))
    words: int = 0
    known_words: int = 0
    blank: int | None = None


@record(frozen=True, kw_only=True)
class TrainedSorter:
    """A trained model.

    labels: sorted; the columns of scores and probabilities. resources: word lists its cleaning needs. costs: that it decides by,
    where it does. calibration: from scores to probabilities. answer: the label column it answers for, where there are several.
    thresholds: (k,) from which probability on a label is given, where a document may have several labels. pruned: see
    `PrunedCounts`. stored: documents to be extended with. decision: (k, k) the rule by which probabilities become labels (see
    `training.decision`), None for the most probable one. sketches: of its training documents, to tell how new others are."""

    plan: Plan
    labels: tuple[str, ...]
    space: FeatureSpace
    classifier: FittedClassifier
    trained: TrainingSummary
    resources: Resources = field(default_factory=Resources)
    costs: Costs | None = None
    calibration: Calibration = field(default_factory=Calibration)
    answer: str = ""
    thresholds: Floats | None = None
    pruned: PrunedCounts | None = None
    stored: StoredDocuments | None = None
    decision: Floats | None = None
    sketches: Sketches | None = None

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
            count_known(part, self.space.places, self.space.counted, self.plan.features, suffix)
            for part, suffix in zip(tokens, suffixes(self.plan.columns, self.plan.features), strict=True)
        ]
        if len(parts) == 1:
            return parts[0]
        matrix = csr_array(sum((part.matrix for part in parts[1:]), parts[0].matrix))
        counts: Ints = np.sum([part.tokens for part in parts], axis=0)
        known, ignored = (np.sum([getattr(part, name) for part in parts], axis=0) for name in ("known", "ignored"))
        return KnownCounts(matrix, counts, known, ignored)

    def matrix(self, documents: Documents, tokens: Sequence[Tokens] | None = None) -> tuple[csr_array, KnownCounts]:
        """(n, n_terms) the classifier's view of documents, and counts of their words."""
        counts = self.known(tokens or self.tokens_of(documents))
        return self.space.matrix(counts.matrix, self.cells(documents)), counts

    def decide(self, documents: Documents, tokens: Sequence[Tokens] | None = None) -> Decisions:
        """Decide about a block of documents. Of one without known words `remarks` says what its answer rests on.

        tokens: of each part of the documents, where they are at hand."""
        matrix, counts = self.matrix(documents, tokens)
        return self.decide_matrix(matrix, counts)

    def decide_matrix(self, matrix: csr_array, counts: KnownCounts) -> Decisions:
        """Decide about documents as numbers, as `matrix` gives them."""
        decisions = self.decide_rows(matrix)
        return replace(decisions, tokens=counts.tokens, known=counts.known, unknown_share=counts.unknown_share())

    def decide_rows(self, matrix: csr_array | PartitionedMatrix) -> Decisions:
        """The same, nothing said of words. matrix: (n, n_terms)."""
        blank = blank_rows(matrix) if self.predictions_by_share else None
        return self.decide_scores(scores_of(self.classifier, matrix), blank)

    @property
    def predictions_by_share(self) -> bool:
        """Whether a document in which the classifier sees nothing gets the labels' shares of the training documents for
        probabilities: where training had barely any such document to learn from, so that the classifier would only guess."""
        return by_share(self.plan, self.trained.blank) and self.thresholds is None

    def decide_scores(self, scores: Floats, blank: Bools | None = None) -> Decisions:
        """The one way from scores to decisions: probabilities, then the sorter's rule. scores: (n, k). blank: (n,) which
        documents have nothing in them and are answered by shares. Nothing is said of words."""
        if self.thresholds is not None:
            probabilities = self.calibration.each(scores)
            return self._decided(scores, probabilities, probabilities)
        probabilities, ranked_by = self.calibration.probabilities(scores), scores
        if not self.calibration.keeps_order:
            if self.plan.decide.rank_by == "probabilities":
                ranked_by = probabilities
            else:
                probabilities = reordered_like(scores, probabilities)
        if blank is not None and blank.any():
            shares = self.trained.label_documents / self.trained.label_documents.sum()
            probabilities = np.where(blank[:, None], shares, probabilities)
            ranked_by = np.where(blank[:, None], shares, ranked_by)
        return self._decided(scores, probabilities, ranked_by)

    def decide_aggregated(self, passages: Decisions, documents: Sequence[str], way: str) -> tuple[list[str], Decisions]:
        """Decide about documents made of passages by the same rule.

        documents: (n,) whose passage each is. way: see `decision`. Returns the documents in the order of their first passages,
        and the decisions about them; the scores are the logarithms of the probabilities."""
        names, owner, probabilities = aggregate_passages(passages.probabilities, documents, way, self.thresholds is None)
        tokens, known = (
            np.bincount(owner, weights=words, minlength=len(names)).astype(np.int64)
            for words in (passages.tokens, passages.known)
        )
        unknown = np.bincount(owner, np.nan_to_num(passages.unknown_share) * passages.tokens, minlength=len(names))
        with np.errstate(invalid="ignore"):
            share: Floats = unknown / tokens
        scores = np.log(np.maximum(probabilities, 1e-300))
        decided = self._decided(scores, probabilities, probabilities)
        return names, replace(decided, tokens=tokens, known=known, unknown_share=share)

    def _decided(self, scores: Floats, probabilities: Floats, ranked_by: Floats) -> Decisions:
        """ranked_by: the ranking of labels where no rule of costs or weights does it."""
        if self.thresholds is None and self.decision is not None:
            ranked_by = values_of(probabilities, self.decision)
        order = ranking(ranked_by, self.trained.label_documents)
        best, second = order[:, 0], order[:, min(1, order.shape[1] - 1)]
        rows = np.arange(len(scores))
        bound = self.plan.decide.undecided_below
        return Decisions(
            scores=scores,
            probabilities=probabilities,
            best=best,
            second=second,
            margin=probabilities[rows, best] - probabilities[rows, second],
            tokens=np.zeros(len(scores), dtype=np.int64),
            known=np.zeros(len(scores), dtype=np.int64),
            unknown_share=np.full(len(scores), np.nan),
            sets=probabilities >= self.thresholds if self.thresholds is not None else None,
            undecided=probabilities[rows, best] < bound if bound > 0 and self.thresholds is None else None,
        )

    def sorted_as(self, decisions: Decisions) -> Sequence[str]:
        """What each document is sorted as: its label, its labels with the plan's separator between them, or UNDECIDED."""
        if decisions.sets is not None:
            return [
                self.joined(label for label, has in zip(self.labels, row, strict=True) if has) for row in decisions.sets.tolist()
            ]
        codes = decisions.best
        if decisions.undecided is not None:
            codes = np.where(decisions.undecided, len(self.labels), codes)
        return texts_by_code([*self.labels, UNDECIDED], codes)

    def remarks_on(self, decisions: Decisions) -> Sequence[str]:
        """What is to be said of answers that rest on no word of the text; empty for all others."""
        codes = np.zeros(decisions.best.size, dtype=np.int64)
        for row in np.flatnonzero(without_known_words(decisions)).tolist():
            if self.space.extra_columns.names:
                codes[row] = 1
            else:
                codes[row] = 2 if self._is_most_common(decisions, row) else 3
        return texts_by_code(_REMARKS, codes)

    def _is_most_common(self, decisions: Decisions, row: int) -> bool:
        """Whether a document is given the one label that most training documents have."""
        if decisions.sets is not None or (decisions.undecided is not None and decisions.undecided[row]):
            return False
        return int(decisions.best[row]) == self.majority

    def joined(self, labels: Iterable[str]) -> str:
        """A set of labels as one cell: sorted, with the plan's separator between them."""
        return joined_labels(labels, self.plan.columns.label_separator)

    def cells(self, documents: Documents) -> ExtraCells:
        """The columns next to the text, in the order of training. Raises DataProblem where there are others."""
        cells = documents.cells(self.plan.features.measures)
        if cells.number_names != self.space.extra_columns.number_names:
            raise DataProblem(
                f"The sorter was trained with the numbers {listed(self.space.extra_columns.number_names) or 'none'}, these "
                f"documents have {listed(cells.number_names) or 'none'}.",
                "Give a table with the same columns.",
            )
        return cells


IN_SORTER = "(in the sorter)"
"""What stands instead of the name of a file."""


def without_files(plan: Plan) -> Plan:
    """The plan with HELD for the name of every file, and without candidates, which may name others."""

    def in_sorter(name: str) -> str:
        return IN_SORTER if name else ""

    clean, features = plan.clean, plan.features
    return replace(
        plan,
        clean=replace(
            clean,
            stop_words_file=in_sorter(clean.stop_words_file),
            lemma_file=in_sorter(clean.lemma_file),
            replace_file=in_sorter(clean.replace_file),
            keep_file=in_sorter(clean.keep_file),
        ),
        features=replace(
            features, vocabulary_file=in_sorter(features.vocabulary_file), vectors_file=in_sorter(features.vectors_file)
        ),
        decide=replace(plan.decide, cost_file=in_sorter(plan.decide.cost_file)),
        columns=replace(plan.columns, document_vectors=in_sorter(plan.columns.document_vectors)),
        candidates={},
    )


def plan_of_sorter(sorter: TrainedSorter) -> PlanWithResources:
    """How a sorter was trained, from what it holds."""
    resources = sorter.resources
    if sorter.plan.features.vocabulary_file:
        resources = replace(resources, vocabulary=frozenset(sorter.space.terms[: sorter.space.counted]))
    return PlanWithResources(sorter.plan, resources, sorter.costs)
