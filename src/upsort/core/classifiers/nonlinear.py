"""Classifiers that are no linear rule: nearest neighbours, and a small tree of terms."""

from dataclasses import field

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import AnyArray, Bools, Floats, Ints
from upsort.core.classifiers.family import ArraySpec, Family, FittedClassifier, LinearRule, Question, StoredClassifier, Vote
from upsort.core.classifiers.newton import OptimiserReport
from upsort.core.classifiers.problem_arrays import Targets
from upsort.core.features.weighting import unit_length
from upsort.core.lazy import record
from upsort.core.matrices.partitioned import local_matrix
from upsort.core.matrices.sparse import column_sizes

_CELLS_AT_ONCE = 20_000_000  # of similarities held densely


@record(frozen=True, kw_only=True)
class Neighbours:
    """documents: (n, n_terms) CSR, training documents as rows of unit length. labels, weights: (n,) their labels, and how much
    each counts. nearest: k.

    k nearest neighbours by cosine (Cover & Hart 1967; Manning, Raghavan & Schütze 2008, section 14.3).

    score(document, label) = the similarities of those of its k most similar training documents that have the label, each times
    the document's weight, added up, divided by the same of all k. Of equally similar documents the earlier one is taken.
    Similarities are worked out block by block."""

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
        label_shares = np.bincount(self.labels, weights=self.weights, minlength=self.n_labels) / self.weights.sum()
        return np.where(totals > 0, shares / np.where(totals > 0, totals, 1.0), label_shares)

    def arrays(self) -> dict[str, AnyArray]:
        """What the sorter file keeps."""
        return {
            "neighbour_values": self.documents.data,
            "neighbour_terms": self.documents.indices.astype("<i4"),
            "neighbour_starts": self.documents.indptr.astype("<i8"),
            "neighbour_labels": self.labels,
            **({"neighbour_weights": self.weights} if (self.weights != 1.0).any() else {}),
        }


def train_neighbours(matrix: csr_array, targets: Targets, nearest: int) -> Neighbours:
    """Keep the documents. matrix: (n, n_terms) CSR."""
    return Neighbours(
        documents=unit_length(matrix), labels=targets.labels, weights=targets.weights, n_labels=targets.n_labels, nearest=nearest
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
        raise ValueError("neighbours without a target")
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
    train=lambda data, settings, penalty: train_neighbours(local_matrix(data.matrix), data.targets, settings.nearest),
    restore=_restored,
    arrays={
        "neighbour_values": ArraySpec(("values",)),
        "neighbour_terms": ArraySpec(("values",), points_into="terms"),
        "neighbour_starts": ArraySpec(("documents and one",)),
        "neighbour_labels": ArraySpec(("documents",), points_into="labels"),
        "neighbour_weights": ArraySpec(("documents",), least=0.0, optional=True),
    },
    votes=_votes,
)


LEAF = -1


@record(frozen=True, kw_only=True)
class Tree:
    """Nodes in the order in which they were made; node 0 is the root.

    term: (m,) int64, the term asked for, or LEAF. present, absent: (m,) int64, the next node; always a later one. node_documents:
    (m, n_labels) float64, training documents of each label in the node.

    A small tree of terms (Breiman, Friedman, Olshen & Stone 1984, chapters 2 and 4), to be read as rules.

    Each node asks whether a document holds a term (or has a value above 0 in a column). The term is the one whose answer lowers
    the Gini impurity Σ documents · (1 − Σ share²) most; nothing is split that is pure, too deep or too small. A document's score
    for a label is the logarithm of the smoothed share of the label among the training documents of its leaf, (documents + 1) /
    (documents + k)."""

    term: Ints
    present: Ints
    absent: Ints
    node_documents: Floats
    ended: OptimiserReport = field(default_factory=OptimiserReport, compare=False)

    @property
    def rule(self) -> LinearRule | None:
        """There is none."""
        return None

    def scores(self, matrix: csr_array) -> Floats:
        """Logarithms of the smoothed shares in each document's leaf."""
        shares = (self.node_documents + 1.0) / (self.node_documents + 1.0).sum(axis=1, keepdims=True)
        scores: Floats = np.log(shares)[self.leaves(matrix)]
        return scores

    def leaves(self, matrix: csr_array) -> Ints:
        """(n,) the leaf of each document."""
        node = np.zeros(matrix.shape[0], dtype=np.int64)
        columns = matrix.tocsc()
        for number, term in enumerate(self.term.tolist()):
            if term == LEAF:
                continue
            in_node = node == number
            holds = np.zeros(matrix.shape[0], dtype=bool)
            begin, end = columns.indptr[term : term + 2].tolist()
            holds[columns.indices[begin:end][columns.data[begin:end] > 0]] = True
            node[in_node & holds] = self.present[number]
            node[in_node & ~holds] = self.absent[number]
        return node

    def arrays(self) -> dict[str, AnyArray]:
        """What the sorter file keeps."""
        return {"term": self.term, "present": self.present, "absent": self.absent, "node_documents": self.node_documents}


def train_tree(matrix: csr_array, targets: Targets, depth: int, least: int) -> Tree:
    """Grow a tree. depth: questions from the root to a leaf at most. least: documents in a leaf."""
    own = targets.own * targets.weights[:, None]
    holds = csr_array(((matrix.data > 0).astype(np.float64), matrix.indices, matrix.indptr), shape=matrix.shape)
    holds.eliminate_zeros()
    terms: list[int] = []
    present: list[int] = []
    absent: list[int] = []
    node_documents: list[Floats] = []
    waiting = [(np.arange(matrix.shape[0]), 0, -1, False)]
    while waiting:
        members, level, parent, yes = waiting.pop(0)
        number = len(terms)
        if parent >= 0:
            (present if yes else absent)[parent] = number
        within = own[members]
        inside = holds[members]
        best = _best_term(inside, within, least) if level < depth else LEAF
        terms.append(best)
        present.append(LEAF)
        absent.append(LEAF)
        node_documents.append(within.sum(axis=0))
        if best != LEAF:
            with_term = np.zeros(members.size, dtype=bool)
            with_term[inside.tocsc()[:, [best]].indices] = True
            waiting.append((members[with_term], level + 1, number, True))
            waiting.append((members[~with_term], level + 1, number, False))
    return Tree(term=np.array(terms), present=np.array(present), absent=np.array(absent), node_documents=np.array(node_documents))


def _best_term(holds: csr_array, own: Floats, least: int) -> int:
    """The term whose answer lowers the impurity most; LEAF where none lowers it."""
    total = own.sum(axis=0)
    with_term = np.asarray(holds.T @ own)
    without = total - with_term
    documents = column_sizes(holds)
    allowed = (documents >= least) & (holds.shape[0] - documents >= least)
    if not allowed.any():
        return LEAF

    def impurity(counts: Floats) -> Floats:
        sizes = counts.sum(axis=-1)
        squares = (counts * counts).sum(axis=-1)
        return np.asarray(sizes - np.divide(squares, sizes, out=np.zeros_like(squares), where=sizes > 0))

    gain = np.where(allowed, impurity(total) - impurity(with_term) - impurity(without), -np.inf)
    best = int(np.argmax(gain))
    return best if gain[best] > 1e-9 * max(float(total.sum()), 1.0) else LEAF


def _questions(fitted: FittedClassifier, matrix: csr_array) -> tuple[list[Question], Floats]:
    """The questions that one document is asked, and the (k,) training documents of its leaf."""
    assert isinstance(fitted, Tree)
    terms = set(matrix.indices[matrix.data > 0].tolist())
    node, questions = 0, []
    while int(fitted.term[node]) != LEAF:
        term = int(fitted.term[node])
        questions.append(Question(term, term in terms, float(fitted.node_documents[node].sum())))
        node = int(fitted.present[node] if term in terms else fitted.absent[node])
    return questions, fitted.node_documents[node]


def _leaves(fitted: FittedClassifier) -> list[tuple[list[tuple[int, bool]], Floats]]:
    """Each leaf: the terms asked for on the way to it, with the answers, and its (k,) training documents."""
    assert isinstance(fitted, Tree)
    leaves, waiting = [], [(0, list[tuple[int, bool]]())]
    while waiting:
        node, answers = waiting.pop()
        term = int(fitted.term[node])
        if term == LEAF:
            leaves.append((answers, fitted.node_documents[node]))
            continue
        waiting.append((int(fitted.absent[node]), [*answers, (term, False)]))
        waiting.append((int(fitted.present[node]), [*answers, (term, True)]))
    return leaves


def _tree_restored(stored: StoredClassifier) -> Tree:
    term, present, absent = (stored.arrays[name].astype(np.int64) for name in ("term", "present", "absent"))
    asks = term != LEAF
    places = np.arange(term.size)
    sound = term.size > 0 and bool((term >= LEAF).all() and (term < stored.terms).all())
    for following in (present, absent):
        sound = sound and bool((following[asks] > places[asks]).all() and (following[asks] < term.size).all())
    if not sound:
        raise ValueError("a tree whose nodes have no target")
    return Tree(term=term, present=present, absent=absent, node_documents=stored.arrays["node_documents"])


TREE = Family(
    kind="tree",
    summary="a small tree of terms, to be read as rules",
    settings=("depth", "least_in_leaf"),
    train=lambda data, settings, penalty: train_tree(
        local_matrix(data.matrix), data.targets, settings.depth, settings.least_in_leaf
    ),
    restore=_tree_restored,
    arrays={
        "term": ArraySpec(("nodes",)),
        "present": ArraySpec(("nodes",)),
        "absent": ArraySpec(("nodes",)),
        "node_documents": ArraySpec(("nodes", "labels"), least=0.0),
    },
    weighting="presence",
    questions=_questions,
    leaves=_leaves,
)
