"""k nearest neighbours by cosine (Cover & Hart 1967; Manning, Raghavan & Schütze 2008, section 14.3).

score(document, label) = the similarities of those of its k most similar training documents that have the label, each times the
document's weight, added up, divided by the same of all k. Of equally similar documents the earlier one is taken. Similarities are
worked out block by block.
"""

from dataclasses import field

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import AnyArray, Bools, Floats, Ints
from upsort.core.classifiers.family import ArraySpec, Family, FittedClassifier, LinearRule, StoredClassifier, Vote
from upsort.core.classifiers.newton import OptimiserReport
from upsort.core.classifiers.problem_arrays import Targets
from upsort.core.features.weighting import unit_length
from upsort.core.lazy import record
from upsort.core.matrices.partitioned import local_matrix

_CELLS_AT_ONCE = 20_000_000  # of similarities held densely


@record(frozen=True, kw_only=True)
class Neighbours:
    """documents: (n, n_terms) CSR, training documents as rows of unit length. labels, weights: (n,) their labels, and how much
    each counts. nearest: k."""

    documents: csr_array
    labels: Ints
    weights: Floats
    n_labels: int
    nearest: int
    ended: OptimiserReport = field(default_factory=OptimiserReport, compare=False)

    @property
    def rule(self) -> LinearRule | None:
        """There is none."""
        return None

    def scores(self, matrix: csr_array) -> Floats:
        """(n, n_labels) shares of similarity."""
        rows = max(1, _CELLS_AT_ONCE // max(len(self.labels), 1))
        scores = np.zeros((matrix.shape[0], self.n_labels))
        transposed = self.documents.T.tocsc()
        unit = unit_length(matrix)
        for begin in range(0, matrix.shape[0], rows):
            similar = (unit[begin : begin + rows] @ transposed).toarray()
            scores[begin : begin + rows] = self._shares(similar)
        return scores

    def chosen(self, similar: Floats) -> Bools:
        """(n, documents) which training documents have a say about each of n. similar: their cosines."""
        k = min(self.nearest, self.labels.size)
        # Rounded, so that the same documents are equally similar in every block; the earlier one comes first.
        rounded = np.round(similar, 12)
        last = np.partition(rounded, -k, axis=1)[:, -k, None]
        nearer = rounded > last
        level = rounded == last
        return np.asarray(nearer | (level & (np.cumsum(level, axis=1) <= k - nearer.sum(axis=1, keepdims=True))))

    def _shares(self, similar: Floats) -> Floats:
        chosen = self.chosen(similar)
        rows, columns = np.nonzero(chosen)
        cells = rows * self.n_labels + self.labels[columns]
        values = np.maximum(similar[chosen], 0.0) * self.weights[columns]
        shares = np.bincount(cells, values, minlength=len(similar) * self.n_labels).reshape(-1, self.n_labels)
        totals = shares.sum(axis=1, keepdims=True)
        commonest = np.bincount(self.labels, weights=self.weights, minlength=self.n_labels) / self.weights.sum()
        return np.where(totals > 0, shares / np.where(totals > 0, totals, 1.0), commonest)

    def arrays(self) -> dict[str, AnyArray]:
        """What the sorter file keeps."""
        return {
            "neighbour_values": self.documents.data,
            "neighbour_terms": self.documents.indices.astype("<i4"),
            "neighbour_starts": self.documents.indptr.astype("<i8"),
            "neighbour_labels": self.labels,
            **({"neighbour_weights": self.weights} if (self.weights != 1.0).any() else {}),
        }


def train(matrix: csr_array, targets: Targets, nearest: int) -> Neighbours:
    """Keep the documents. matrix: (n, n_terms) CSR."""
    return Neighbours(
        documents=unit_length(matrix),
        labels=targets.labels,
        weights=targets.weights,
        n_labels=targets.n_labels,
        nearest=nearest,
    )


def _votes(fitted: FittedClassifier, matrix: csr_array) -> tuple[list[Vote], csr_array]:
    """Those of the k nearest that are similar at all: the others say nothing."""
    assert isinstance(fitted, Neighbours)
    similar = (unit_length(matrix) @ fitted.documents.T.tocsc()).toarray()
    places = np.flatnonzero(fitted.chosen(similar)[0] & (similar[0] > 0) & (fitted.weights > 0))
    places = places[np.argsort(-np.round(similar[0][places], 12), kind="stable")]
    contributions = similar[0][places] * fitted.weights[places]
    votes = [
        Vote(
            label=int(fitted.labels[place]),
            similarity=float(similar[0][place]),
            weight=float(fitted.weights[place]),
            says=float(contribution / contributions.sum()),
        )
        for place, contribution in zip(places.tolist(), contributions.tolist(), strict=True)
    ]
    return votes, csr_array(fitted.documents[places])


def _restored(stored: StoredClassifier) -> Neighbours:
    starts, terms, labels = (stored.arrays[f"neighbour_{name}"] for name in ("starts", "terms", "labels"))
    sound = (
        starts.size == labels.size + 1
        and labels.size > 0
        and starts[0] == 0
        and starts[-1] == terms.size
        and (np.diff(starts) >= 0).all()
    )
    if not sound:
        raise ValueError("neighbours that point nowhere")
    documents = csr_array((stored.arrays["neighbour_values"], terms, starts), shape=(labels.size, stored.terms))
    weights = stored.arrays.get("neighbour_weights", np.ones(labels.size))
    if not weights.any():
        raise ValueError("weights of 0")
    return Neighbours(
        documents=documents,
        labels=labels.astype(np.int64),
        weights=weights,
        n_labels=stored.labels,
        nearest=stored.settings.nearest,
    )


NEIGHBOURS = Family(
    kind="neighbours",
    summary="the labels of the most similar training documents",
    settings=("nearest",),
    train=lambda data, settings, penalty: train(local_matrix(data.matrix), data.targets, settings.nearest),
    restore=_restored,
    arrays={
        "neighbour_values": ArraySpec(("values",)),
        "neighbour_terms": ArraySpec(("values",), points_into="terms"),
        "neighbour_starts": ArraySpec(("documents and one",)),
        "neighbour_labels": ArraySpec(("documents",), points_into="labels"),
        "neighbour_weights": ArraySpec(("documents",), least=0.0, optional=True),
    },
    restraint="more classifier.nearest",
    votes=_votes,
)
