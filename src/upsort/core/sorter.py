"""The sorter: a feature space and a classifier, ready to decide about new text."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Floats, Ints
from upsort.core.classifiers.families import Fitted
from upsort.core.classifiers.linear import log_probabilities
from upsort.core.documents import Documents, texts_alone
from upsort.core.errors import DataProblem
from upsort.core.features.beside import Cells
from upsort.core.features.counting import KnownCounts, count_known
from upsort.core.features.measuring import prefixes
from upsort.core.features.vocabulary import FeatureSpace
from upsort.core.names import listed
from upsort.core.plan import Plan
from upsort.core.text.cleaning import Cleaner, cleaner
from upsort.core.text.word_steps import Resources


@dataclass(frozen=True)
class Decisions:
    """What a sorter says about documents, row by row; n documents, k labels.

    scores: (n, k) float64. probabilities: (n, k) float64, rows sum to 1.
    best, second: (n,) int64, numbers of the most and the second most probable labels; equal scores: the label that
    sorts first.
    margin: (n,) difference of the two highest probabilities.
    tokens: (n,) int64. unknown_share: (n,) share of tokens the sorter does not know; NaN for a document without tokens.
    """

    scores: Floats
    probabilities: Floats
    best: Ints
    second: Ints
    margin: Floats
    tokens: Ints
    unknown_share: Floats


@dataclass(frozen=True)
class Trained:
    """What training saw and how it ended.

    label_documents: (k,) int64. label_document_frequency: (n_terms, k) int64, in how many documents of each label each
    term stands. right: training documents that the sorter itself gets right. iterations and optimality: of the optimiser,
    0 for a closed form; reached: whether its tolerance was met.
    """

    label_documents: Ints
    label_document_frequency: Ints
    right: int
    iterations: int
    optimality: float
    reached: bool

    @property
    def documents(self) -> int:
        """Number of training documents."""
        return int(self.label_documents.sum())


@dataclass(frozen=True)
class Sorter:
    """A trained model. labels: sorted; the columns of scores and probabilities. resources: word lists its cleaning needs."""

    plan: Plan
    labels: tuple[str, ...]
    space: FeatureSpace
    classifier: Fitted
    trained: Trained
    resources: Resources = field(default_factory=Resources)

    @cached_property
    def cleaning(self) -> Cleaner:
        """The steps by which it reads text."""
        return cleaner(self.plan.clean, self.resources, self.plan.features.within_sentences)

    @property
    def majority(self) -> int:
        """The number of the label that most training documents have."""
        return int(np.argmax(self.trained.label_documents))

    def known(self, documents: Documents) -> KnownCounts:
        """The terms of the sorter in a block of documents."""
        parts = [
            count_known(part, self.cleaning, self.space.places, self.space.counted, self.plan.features, prefix)
            for part, prefix in zip(documents.parts, prefixes(self.plan.columns, self.plan.features), strict=True)
        ]
        matrix = csr_array(sum((part.matrix for part in parts[1:]), parts[0].matrix))
        tokens: Ints = np.sum([part.tokens for part in parts], axis=0)
        return KnownCounts(matrix, tokens, np.sum([part.known for part in parts], axis=0))

    def decide(self, documents: Documents) -> Decisions:
        """Decide about a block of documents. A document without known terms is decided by the intercepts alone."""
        counts = self.known(documents)
        matrix = self.space.matrix(counts.matrix, self.cells(documents))
        return decisions_from(
            self.classifier.rule.scores(matrix), tokens=counts.tokens, unknown_share=counts.unknown_share()
        )

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

    def texts_alone(self, texts: Sequence[str]) -> Documents:
        """Documents of which only the text is known, for this sorter."""
        numbers = [
            name.removeprefix("column:") for name in self.space.beside.number_names if name.startswith("column:")
        ]
        parts = len(prefixes(self.plan.columns, self.plan.features))
        return texts_alone(texts, parts, numbers, [name for name, _ in self.space.beside.categories])


def decisions_from(scores: Floats, tokens: Ints, unknown_share: Floats) -> Decisions:
    """Rank labels and turn scores into probabilities."""
    probabilities = np.exp(log_probabilities(scores))
    order = np.argsort(-scores, axis=1, kind="stable")
    best, second = order[:, 0].astype(np.int64), order[:, 1].astype(np.int64)
    rows = np.arange(len(scores))
    margin = probabilities[rows, best] - probabilities[rows, second]
    return Decisions(scores, probabilities, best, second, margin, tokens, unknown_share)
