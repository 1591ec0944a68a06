"""Documents with their labels: what training takes, and the same as numbers; and measures by the folds inside a training, of
documents that their classifiers never saw."""

from collections.abc import Iterable, Sequence
from collections.abc import Set as AbstractSet
from dataclasses import field, replace
from typing import Any

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Bools, Floats, Ints, Keys, Places
from upsort.core.classifiers.problem_arrays import as_sets
from upsort.core.errors import DataProblem
from upsort.core.features.corpus_counts import CorpusCounts
from upsort.core.features.vocabulary import FeatureSpace, learn_space
from upsort.core.lazy import record
from upsort.core.matrices.partitioned import PartitionedMatrix
from upsort.core.matrices.sparse import only_columns
from upsort.core.plan import Features
from upsort.core.text.step import Resources
from upsort.core.training.stratified_split import SplitKeys


@record(frozen=True, kw_only=True)
class HeldOut:
    """documents: that were held out. right: how many were given their own label, None where that would not predict the
    accuracy on new documents. labels: (k,) how many were given each label; none where there were no folds. words, unknown: of
    them, and those that the fold's training side does not know; 0 where terms are not words. decided, decided_right: how many
    are above the bound that was chosen on them, and right; None where none was chosen. fold, given_right, above: (n,) of all
    documents, the fold that held each out, or −1, whether it was given its own label, and whether it is above that bound; a
    sorter file holds none of them."""

    documents: int = 0
    right: int | None = None
    labels: Ints = field(default_factory=lambda: np.zeros(0, dtype=np.int64))
    words: int = 0
    unknown: int = 0
    decided: int | None = None
    decided_right: int | None = None
    fold: Ints | None = None
    given_right: Bools | None = None
    above: Bools | None = None


@record(frozen=True)
class UnknownWords:
    """Sums over documents, for the share of unknown words and its standard error. words, unknown: w and u; squares: Σ w², Σ w u,
    Σ u². documents: with any words."""

    documents: int = 0
    words: float = 0.0
    unknown: float = 0.0
    squares: tuple[float, float, float] = (0.0, 0.0, 0.0)

    @staticmethod
    def of(words: Ints, share: Floats) -> "UnknownWords":
        """words: (n,) of each document. share: (n,) unknown of them, NaN where there are none."""
        w = words.astype(np.float64)
        u = np.nan_to_num(share) * w
        squares = (float((w * w).sum()), float((w * u).sum()), float((u * u).sum()))
        return UnknownWords(int((words > 0).sum()), float(w.sum()), float(u.sum()), squares)

    @staticmethod
    def summed(parts: Iterable["UnknownWords"]) -> "UnknownWords":
        """Of all documents together."""
        whole = UnknownWords()
        for part in parts:
            a, b, c = (x + y for x, y in zip(whole.squares, part.squares, strict=True))
            whole = UnknownWords(
                whole.documents + part.documents, whole.words + part.words, whole.unknown + part.unknown, (a, b, c)
            )
        return whole

    @property
    def share(self) -> float:
        """Unknown words of all words."""
        return self.unknown / self.words if self.words else 0.0

    @property
    def error(self) -> float:
        """The standard error of the share, with documents as units (Cochran 1977, section 2.11)."""
        if self.documents < 2 or not self.words:
            return 0.0
        s, (ww, wu, uu) = self.share, self.squares
        residuals = max(uu - 2.0 * s * wu + s * s * ww, 0.0)
        return float(np.sqrt(self.documents / (self.documents - 1) * residuals) / self.words)


@record(frozen=True, kw_only=True)
class LabelledDocuments:
    """n documents.

    measured: with all their terms. labels: (n,) numbers into `names`. weights: (n,) how much each document counts, or None.
    groups: (n,) documents of one number stay on one side of every split, or None. keys: (n,) numbers that identify documents
    wherever they stand, or None. sets: (n, k) where documents may have several labels or none, or None."""

    measured: CorpusCounts
    labels: Ints
    names: tuple[str, ...]
    weights: Floats | None = None
    groups: Ints | None = None
    keys: Keys | None = None
    sets: Bools | None = None

    @property
    def documents(self) -> int:
        """Number of documents."""
        return int(self.labels.size)

    @property
    def own(self) -> Bools:
        """(n, k) which labels each document has."""
        return self.sets if self.sets is not None else as_sets(self.labels, len(self.names))

    @property
    def label_documents(self) -> Ints:
        """(k,) how many documents have each label."""
        if self.sets is not None:
            return np.asarray(self.sets.sum(axis=0), dtype=np.int64)
        return np.bincount(self.labels, minlength=len(self.names)).astype(np.int64)

    @property
    def split_keys(self) -> SplitKeys:
        """What dealing them depends on."""
        return SplitKeys(labels=self.labels, groups=self.groups, keys=self.keys, sets=self.sets)

    def few_labels(self, rows: Ints | None = None) -> bool:
        """Whether some, or all, have too few labels to learn from: fewer than two, or none where they may have several."""
        chosen = slice(None) if rows is None else rows
        if self.sets is not None:
            return not self.sets[chosen].any()
        return int(np.count_nonzero(np.bincount(self.labels[chosen]))) < 2

    def right(self, rows: Ints, sorted_as: Ints, sets: Bools | None) -> Bools:
        """(m,) whether each of some documents was given its own label, or its own labels and no other.

        rows: (m,) places. sorted_as: (m,) label numbers. sets: (m, k) labels given, where documents may have several."""
        if self.sets is not None and sets is not None:
            return np.asarray((sets == self.sets[rows]).all(axis=1))
        return np.asarray(sorted_as == self.labels[rows])

    def only_label(self, labels: Ints) -> Bools | None:
        """(m, k) the sets that hold one label each, where documents may have several. labels: (m,) numbers."""
        return as_sets(labels, len(self.names)) if self.sets is not None else None

    def rows(self, chosen: Bools | Ints) -> "LabelledDocuments":
        """Some of the documents."""
        return replace(
            self,
            measured=self.measured.rows(chosen),
            labels=self.labels[chosen],
            weights=self.weights[chosen] if self.weights is not None else None,
            groups=self.groups[chosen] if self.groups is not None else None,
            keys=self.keys[chosen] if self.keys is not None else None,
            sets=self.sets[chosen] if self.sets is not None else None,
        )

    def present(self) -> "LabelledDocuments":
        """The same documents, labels that none of them has left out. Raises DataProblem for fewer than two labels."""
        occurring = np.flatnonzero(self.label_documents)
        if self.few_labels():
            text = f"only {self.names[int(occurring[0])]!r}" if occurring.size else "none"
            raise DataProblem(
                f"A sorter needs at least two labels; the documents have {text}.",
                "Check the label column, or give documents of other labels too.",
            )
        if occurring.size == len(self.names):
            return self
        return replace(
            self,
            labels=np.searchsorted(occurring, self.labels).astype(np.int64),
            names=tuple(self.names[number] for number in occurring.tolist()),
            sets=self.sets[:, occurring] if self.sets is not None else None,
        )


def numbered_sets(label_sets: Sequence[AbstractSet[str]]) -> tuple[tuple[str, ...], Ints, Bools]:
    """The distinct labels, sorted, the number of the first that each document has (n,), and which it has (n, k)."""
    names = tuple(sorted({label for labels in label_sets for label in labels}))
    sets = np.array([[name in labels for name in names] for labels in label_sets], dtype=bool).reshape(
        len(label_sets), len(names)
    )
    return names, np.argmax(sets, axis=1).astype(np.int64), sets


@record(frozen=True)
class FeatureMatrix:
    """Training documents as numbers: the learned space, which columns of the counts it keeps, and the (n, n_terms) matrix."""

    space: FeatureSpace
    columns: Places
    matrix: csr_array | PartitionedMatrix

    def of(self, measured: CorpusCounts) -> Any:
        """(m, n_terms) any documents of the corpus in the space."""
        return self.space.matrix(only_columns(measured.counts, self.columns), measured.cells)


def build_features(documents: LabelledDocuments, features: Features, resources: Resources) -> FeatureMatrix:
    """Learn the feature space from training documents. features: settled."""
    measured = documents.measured
    space, columns = learn_space(measured, features, documents.labels, len(documents.names), resources.vocabulary, documents.sets)
    return FeatureMatrix(space, columns, space.matrix(only_columns(measured.counts, columns), measured.cells))
