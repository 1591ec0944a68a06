"""Training: from measured documents and labels to a sorter. The only place where anything is learned from documents.

Whatever a sorter needs beyond the classifier itself (a penalty, probabilities, thresholds) is learned on folds of the same
training documents: for each fold everything is learned anew from the others, and what the fold's own documents get is kept.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Bools, Floats, Ints, Places
from upsort.core.classifiers import families
from upsort.core.classifiers.calibration import Calibration, calibrate, calibrate_each
from upsort.core.classifiers.families import TrainingData
from upsort.core.classifiers.fitted import Fitted
from upsort.core.classifiers.multinomial_nb import label_sums
from upsort.core.classifiers.sampling import sampled
from upsort.core.classifiers.targets import targets_of
from upsort.core.errors import DataProblem, UsageProblem
from upsort.core.features.measured import Measured
from upsort.core.features.vocabulary import FeatureSpace, label_document_frequencies, learn_space, total_counts
from upsort.core.judging.deciding import by_costs, weights_for_f_beta
from upsort.core.judging.folds import dealt_folds
from upsort.core.plan import NAIVE_BAYES_KINDS, PENALISED_KINDS, Classifier, Features, Plan
from upsort.core.sorter import Reserve, Sorter, Trained, length_classes
from upsort.core.sparse import column_sizes, only_columns
from upsort.core.text.word_steps import Resources

INNER_FOLDS = 3


@dataclass(frozen=True)
class Labelled:
    """Documents with their labels; what training takes.

    measured: n documents with all their terms. labels: (n,) numbers into `names`. weights: (n,) how much each document counts, or
    None. groups: (n,) documents of one number stay on one side of every fold, or None. sets: (n, k) where documents may have
    several labels or none, or None.
    """

    measured: Measured
    labels: Ints
    names: tuple[str, ...]
    weights: Floats | None = None
    groups: Ints | None = None
    sets: Bools | None = None

    def rows(self, chosen: Bools | Ints) -> "Labelled":
        """Some of the documents."""
        return replace(
            self,
            measured=self.measured.rows(chosen),
            labels=self.labels[chosen],
            weights=self.weights[chosen] if self.weights is not None else None,
            groups=self.groups[chosen] if self.groups is not None else None,
            sets=self.sets[chosen] if self.sets is not None else None,
        )

    def present(self) -> "Labelled":
        """The same documents, labels that none of them has left out. Raises DataProblem for fewer than two labels."""
        held = np.flatnonzero(self.sets.any(axis=0)) if self.sets is not None else np.unique(self.labels)
        if held.size < (1 if self.sets is not None else 2):
            found = f"only {self.names[int(held[0])]!r}" if held.size else "none"
            raise DataProblem(
                f"A sorter needs at least two labels; the documents have {found}.",
                "Check the label column, or give documents of other labels too.",
            )
        if held.size == len(self.names):
            return self
        return replace(
            self,
            labels=np.searchsorted(held, self.labels).astype(np.int64),
            names=tuple(self.names[number] for number in held.tolist()),
            sets=self.sets[:, held] if self.sets is not None else None,
        )


def numbered(labels: Sequence[str]) -> tuple[tuple[str, ...], Ints]:
    """The distinct labels, sorted, and each document's label number (n,)."""
    names = tuple(sorted(set(labels)))
    number = {name: place for place, name in enumerate(names)}
    return names, np.array([number[label] for label in labels], dtype=np.int64)


@dataclass(frozen=True)
class Represented:
    """Training documents as numbers: the learned space, which columns of the counts it keeps, and the (n, n_terms) matrix."""

    space: FeatureSpace
    kept: Places
    matrix: csr_array


def represent(documents: Labelled, features: Features, resources: Resources | None = None) -> Represented:
    """Learn the feature space from training documents. features: settled."""
    vocabulary = resources.vocabulary if resources is not None else frozenset()
    space, kept = learn_space(documents.measured, features, documents.labels, len(documents.names), vocabulary)
    return Represented(space, kept, represented(space, kept, documents.measured))


def represented(space: FeatureSpace, kept: Places, measured: Measured) -> csr_array:
    """(n, n_terms) any documents of the corpus in a space. kept: which columns of their counts it keeps."""
    return space.matrix(only_columns(measured.counts, kept), measured.cells)


@dataclass(frozen=True)
class InnerFolds:
    """Folds of training documents: for each the learned space of the others, and its own documents in that space.

    They are made once and serve every candidate that asks for the same features.
    """

    folds: tuple[tuple[Ints, Represented, csr_array], ...]

    @staticmethod
    def of(documents: Labelled, plan: Plan, resources: Resources | None, folds: int = INNER_FOLDS) -> "InnerFolds":
        """Deal the documents and learn each fold's space. The first of each entry is the fold's documents."""
        fold = dealt_folds(documents.labels, folds, plan.judge.seed, documents.groups)
        made = []
        for number in range(folds):
            held = np.flatnonzero(fold == number)
            rest = documents.rows(fold != number)
            if held.size and np.unique(rest.labels).size >= min(2, len(documents.names)):
                learned = represent(rest, plan.features, resources)
                made.append((held, learned, represented(learned.space, learned.kept, documents.measured.rows(held))))
        return InnerFolds(tuple(made))


def fit(
    documents: Labelled,
    plan: Plan,
    resources: Resources | None = None,
    start: Fitted | None = None,
    seen: Represented | None = None,
) -> tuple[Sorter, Represented]:
    """Train a sorter on these documents and no others.

    Labels that none of these documents has are left out of the sorter. start: a classifier to begin with, of the same terms.
    seen: the documents as numbers, where they were represented before.
    Returns the sorter and the documents as it saw them.
    Raises DataProblem for fewer than two labels and when no term is within the bounds.
    """
    documents = documents.present()
    plan = plan.settled()
    _check(documents, plan)
    resources = resources or Resources()
    seen = seen or represent(documents, plan.features, resources)
    decides = resources.costs is not None or plan.decide.f_beta > 0
    calibrated = (
        documents.sets is not None or decides or (plan.calibration != "none" and _enough_to_calibrate(documents, plan))
    )
    choosing = plan.classifier.penalty == "auto" and plan.classifier.kind in PENALISED_KINDS
    inner = InnerFolds.of(documents, plan, resources) if calibrated or choosing else InnerFolds(())
    penalty = _chosen_penalty(documents, inner, plan) if choosing else _given(plan.classifier)
    classifier = _trained(documents, seen.matrix, plan, penalty, start)
    scores = classifier.scores(seen.matrix)
    calibration, thresholds, held_out, decision = Calibration(), None, (0, 0), None
    if calibrated:
        outside = _held_out_scores(documents, inner, plan, penalty)
        judged: Bools = np.asarray(~np.isnan(outside).any(axis=1))
        calibration, thresholds = _calibrated(documents, outside, judged, plan)
        if documents.sets is None:
            right = outside[judged].argmax(axis=1) == documents.labels[judged]
            held_out = (int(right.sum()), int(judged.sum()))
            decision = _decision(documents, calibration.probabilities(outside[judged]), judged, plan, resources)
    trained = Trained(
        label_documents=_label_documents(documents),
        label_document_frequency=seen.space.label_document_frequency,
        documents=documents.measured.documents,
        right=_right(documents, scores, calibration, thresholds),
        ended=classifier.ended,
        penalty=penalty,
        held_out=held_out,
        lengths=length_classes(documents.measured.tokens),
        words=int(documents.measured.tokens.sum()) if plan.features.units == "words" else 0,
        known_words=known_words(seen.space, total_counts(documents.measured.counts)[seen.kept]),
    )
    reserve = left_out_counts(documents, seen, plan) if can_be_extended(plan, documents) else None
    sorter = Sorter(
        plan,
        documents.names,
        seen.space,
        classifier,
        trained,
        resources,
        calibration,
        thresholds=thresholds,
        reserve=reserve,
        decision=decision,
    )
    return sorter, seen


def known_words(space: FeatureSpace, totals: Ints) -> int:
    """How many words of the training documents are terms; 0 where terms are not words. totals: (counted,) of each term."""
    settings = space.settings
    if (
        settings.units != "words"
        or min(settings.lengths) > 1
        or "presence" in settings.weighting
        or space.hashed is not None
    ):
        return 0
    single = np.array([" " not in term for term in space.terms[: space.counted]], dtype=bool)
    return int(totals[single].sum())


def can_be_extended(plan: Plan, documents: Labelled) -> bool:
    """Whether counts alone make the sorter: naive Bayes on counts or presence, nothing beside the text, all documents alike."""
    features, classifier = plan.features, plan.classifier
    return (
        classifier.kind in NAIVE_BAYES_KINDS
        and features.weighting in {"count", "presence"}
        and not (features.hash_bits or features.vectors_file or features.measures or plan.columns.document_vectors)
        and not documents.measured.cells.width
        and documents.weights is None
        and documents.measured.left_out == 0
        and (classifier.sampling, classifier.label_weights, classifier.label_weight) == ("none", "equal", {})
    )


def left_out_counts(documents: Labelled, seen: Represented, plan: Plan) -> Reserve:
    """The counts of the terms that the bounds left out, so that more documents can bring them in."""
    others = np.ones(len(documents.measured.terms), dtype=bool)
    others[seen.kept] = False
    places = np.flatnonzero(others & (column_sizes(documents.measured.counts) > 0))
    counts = only_columns(documents.measured.counts, places)
    targets = targets_of(documents.labels, documents.names, Classifier())
    frequency = label_document_frequencies(counts, documents.labels, len(documents.names))
    presence = plan.features.weighting == "presence" or plan.classifier.kind == "bernoulli-nb"
    sums = frequency.astype(np.float64) if presence else label_sums(counts, targets)
    return Reserve([documents.measured.terms[place] for place in places.tolist()], frequency, sums)


def _check(documents: Labelled, plan: Plan) -> None:
    if documents.sets is not None and plan.classifier.kind not in PENALISED_KINDS:
        raise UsageProblem(
            f"{plan.classifier.kind} gives one label; the label column has several in a cell.",
            "Use --set classifier.kind=logistic, svm, ridge or weighted-svm.",
        )


def _enough_to_calibrate(documents: Labelled, plan: Plan) -> bool:
    """Whether the folds of the training documents can tell anything; what is asked for by name is always done."""
    sizes = np.bincount(documents.labels, minlength=len(documents.names))
    return plan.classifier.calibrate != "auto" or int(sizes.min()) >= INNER_FOLDS


def _given(settings: Classifier) -> float:
    if isinstance(settings.penalty, str):
        return families.USUAL_PENALTY.get(settings.kind, 1.0)
    return settings.penalty


def _label_documents(documents: Labelled) -> Ints:
    if documents.sets is not None:
        return np.asarray(documents.sets.sum(axis=0), dtype=np.int64)
    return np.bincount(documents.labels, minlength=len(documents.names)).astype(np.int64)


def _right(documents: Labelled, scores: Floats, calibration: Calibration, thresholds: Floats | None) -> int:
    if documents.sets is not None and thresholds is not None:
        return int(((calibration.each(scores) >= thresholds) == documents.sets).all(axis=1).sum())
    return int((scores.argmax(axis=1) == documents.labels).sum())


def _trained(documents: Labelled, matrix: csr_array, plan: Plan, penalty: float, start: Fitted | None = None) -> Fitted:
    data = training_data(documents, matrix, plan)
    return families.train(data, plan.classifier, penalty, start)


def training_data(documents: Labelled, matrix: csr_array, plan: Plan) -> TrainingData:
    """What a classifier is trained on: the documents, sampled and weighted as the plan says."""
    targets = targets_of(documents.labels, documents.names, plan.classifier, documents.weights, documents.sets)
    if plan.classifier.sampling != "none" and documents.sets is None:
        rows = sampled(documents.labels, len(documents.names), plan.classifier.sampling, plan.judge.seed)
        return TrainingData(csr_array(matrix[rows]), targets.rows(rows), documents.names)
    return TrainingData(matrix, targets, documents.names)


def _held_out_scores(documents: Labelled, inner: InnerFolds, plan: Plan, penalty: float) -> Floats:
    """(n, k) the scores of each document by a classifier that never saw it; NaN where no fold could judge it."""
    scores = np.full((documents.labels.size, len(documents.names)), np.nan)
    for held, learned, matrix in inner.folds:
        rest = np.ones(documents.labels.size, dtype=bool)
        rest[held] = False
        scores[held] = outside_scores(documents.rows(rest), learned, matrix, plan, penalty)
    return scores


def outside_scores(training: Labelled, learned: Represented, matrix: csr_array, plan: Plan, penalty: float) -> Floats:
    """(m, k) scores of other documents, `matrix`, by a classifier trained on `training`.

    A label that `training` lacks gets a lower score than all others.
    """
    present = training.present()
    scores = _trained(present, learned.matrix, plan, penalty).scores(matrix)
    if len(present.names) == len(training.names):
        return scores
    lowest = scores.min(axis=1) - np.ptp(scores) - 1.0
    whole = np.tile(lowest[:, None], (1, len(training.names)))
    whole[:, [training.names.index(name) for name in present.names]] = scores
    return whole


def _chosen_penalty(documents: Labelled, inner: InnerFolds, plan: Plan) -> float:
    """The penalty of the grid that gets most held-out documents right; of equals the largest."""
    right = np.zeros(len(families.PENALTIES))
    for held, learned, matrix in inner.folds:
        rest = np.ones(documents.labels.size, dtype=bool)
        rest[held] = False
        present = documents.rows(rest).present()
        data = training_data(present, learned.matrix, plan)
        in_names = np.array([documents.names.index(name) for name in present.names], dtype=np.int64)
        for place, fitted in enumerate(families.path(data, plan.classifier)):
            scores = fitted.scores(matrix)
            if documents.sets is not None:
                right[place] += ((scores > 0) == documents.sets[held][:, in_names]).sum()
            else:
                right[place] += (in_names[scores.argmax(axis=1)] == documents.labels[held]).sum()
    return families.PENALTIES[int(np.argmax(right))]


def _calibrated(documents: Labelled, outside: Floats, judged: Bools, plan: Plan) -> tuple[Calibration, Floats | None]:
    """Probabilities, and for sets of labels the thresholds, from held-out scores."""
    if not judged.any():
        return Calibration(), None
    if documents.sets is None:
        return calibrate(plan.calibration, outside[judged], documents.labels[judged]), None
    kind = "isotonic" if plan.calibration == "isotonic" else "platt"
    own = documents.sets[judged]
    calibration = calibrate_each(kind, outside[judged], own)
    each = calibration.each(outside[judged])
    return calibration, np.array([_best_threshold(each[:, label], own[:, label]) for label in range(own.shape[1])])


def _decision(
    documents: Labelled, probabilities: Floats, judged: Bools, plan: Plan, resources: Resources
) -> Floats | None:
    """The rule by which probabilities become labels, where the plan asks for another than the most probable."""
    if resources.costs is not None:
        missing = [name for name in documents.names if name not in resources.costs]
        if missing:
            raise DataProblem(
                f"The table of costs has no label {missing[0]!r}.", "Each label needs a row and a column."
            )
        costs = np.array([[resources.costs[given][true] for true in documents.names] for given in documents.names])
        return by_costs(costs)
    if plan.decide.f_beta > 0:
        return weights_for_f_beta(documents.labels[judged], probabilities, plan.decide.f_beta)
    return None


def _best_threshold(probabilities: Floats, own: Bools) -> float:
    """The threshold with the highest F1; halfway between neighbouring probabilities."""
    order = np.argsort(-probabilities, kind="stable")
    ranked = probabilities[order]
    right = np.cumsum(own[order])
    f1 = 2.0 * right / (np.arange(1, own.size + 1) + max(int(own.sum()), 1))
    last_of_equals = np.append(ranked[1:] < ranked[:-1], True)
    best = int(np.argmax(np.where(last_of_equals, f1, -1.0)))
    following = ranked[best + 1] if best + 1 < ranked.size else 0.0
    return float((ranked[best] + following) / 2.0)
