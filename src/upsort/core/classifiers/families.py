"""The families of classifiers by name, the two baselines, and resampling. Adding a family is adding it to `FAMILIES`."""

from collections.abc import Iterator, Sequence
from dataclasses import field, replace

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import AnyArray, Floats, Ints
from upsort.core.classifiers.family import ArraySpec, Family, FittedClassifier, LinearRule, TrainingData
from upsort.core.classifiers.linear_families import CENTROID, LOGISTIC, RATIO_SVM, RIDGE, SVM
from upsort.core.classifiers.linear_families import path as _penalised_path
from upsort.core.classifiers.naive_bayes import NAIVE_BAYES, label_totals
from upsort.core.classifiers.newton import OptimiserReport
from upsort.core.classifiers.nonlinear import NEIGHBOURS, TREE
from upsort.core.errors import UsageProblem, suggestion
from upsort.core.lazy import record
from upsort.core.matrices.partitioned import has_negative
from upsort.core.plan import Classifier, Plan


def sampled(labels: Ints, n_labels: int, way: str, seed: int) -> Ints:
    """The places of the documents to train on, ascending.

    way: `over`: labels with fewer documents than the largest get copies of theirs, drawn at random; `under`: labels with more
    documents than the smallest lose some, drawn at random; `none`: all as they are."""
    everything = np.arange(labels.size)
    if way == "none":
        return everything
    generator = np.random.default_rng(seed)
    sizes = np.bincount(labels, minlength=n_labels)
    goal = int(sizes.max() if way == "over" else sizes[sizes > 0].min())
    drawn = []
    for label in range(n_labels):
        members = everything[labels == label]
        if members.size > goal:
            members = generator.choice(members, goal, replace=False)
        elif 0 < members.size < goal:
            members = np.concatenate((members, generator.choice(members, goal - members.size)))
        drawn.append(members)
    return np.sort(np.concatenate(drawn))


@record(frozen=True)
class Majority:
    """score(document, label) = ln of the label's share of the training documents, whatever the document."""

    label_documents: Floats
    ended: OptimiserReport = field(default_factory=OptimiserReport, compare=False)

    @property
    def rule(self) -> LinearRule | None:
        """There is none."""
        return None

    def scores(self, matrix: csr_array) -> Floats:
        """The same for every document."""
        shares = self.label_documents / self.label_documents.sum()
        return np.tile(np.log(shares), (matrix.shape[0], 1))

    def arrays(self) -> dict[str, AnyArray]:
        """What the sorter file keeps."""
        return {"label_documents": self.label_documents}


ARRAYS = {"label_documents": ArraySpec(("labels",), least=0.0)}
MAJORITY = Family(
    kind="majority",
    summary="always the most common label",
    train=lambda data, settings, penalty: Majority(label_totals(data.targets)),
    restore=lambda stored: Majority(stored.arrays["label_documents"]),
    arrays=ARRAYS,
    calibration="none",
    looks_at_text=False,
)


@record(frozen=True)
class Chance(Majority):
    """A label drawn for each document, each as often as in training.

    To ln of the share is added a number of the standard Gumbel distribution, drawn from the document itself: the largest sum is
    then a draw from the shares (Gumbel 1954), and the same document always gets the same label."""

    def scores(self, matrix: csr_array) -> Floats:
        """The draws."""
        scores = super().scores(matrix)
        rounded = np.round(matrix.data * 1e6).astype(np.int64).astype(np.uint64)
        mixed = (rounded * np.uint64(0x9E3779B97F4A7C15)) ^ (matrix.indices.astype(np.uint64) * np.uint64(0xC2B2AE3D27D4EB4F))
        running = np.concatenate((np.zeros(1, dtype=np.uint64), np.cumsum(mixed, dtype=np.uint64)))
        seeds = running[matrix.indptr[1:]] - running[matrix.indptr[:-1]]
        for row, seed in enumerate(seeds.tolist()):
            scores[row] += np.random.default_rng(seed).gumbel(size=scores.shape[1])
        return scores


CHANCE = Family(
    kind="chance",
    summary="a label drawn at random, each as often as in training",
    train=lambda data, settings, penalty: Chance(label_totals(data.targets)),
    restore=lambda stored: Chance(stored.arrays["label_documents"]),
    arrays=ARRAYS,
    calibration="none",
    looks_at_text=False,
)


FAMILIES: dict[str, Family] = {
    family.kind: family for family in (LOGISTIC, SVM, RIDGE, RATIO_SVM, NAIVE_BAYES, CENTROID, NEIGHBOURS, TREE, MAJORITY, CHANCE)
}
"""The records of all kinds, in the order in which they are reported."""

PENALTIES = tuple(float(10.0 ** (exponent / 3)) for exponent in range(4, -6, -1))
"""The penalties that `auto` chooses from: ten, from about 21 down to about 0.02."""


def family(settings: Classifier) -> Family:
    """The record of the kind that settings name, or of its event model. Raises UsageProblem for an unknown kind."""
    kind = settings.kind
    if kind not in FAMILIES:
        raise UsageProblem(f"There is no classifier {kind!r}.", suggestion(kind, FAMILIES, "kinds"))
    record = FAMILIES[kind]
    return record.event_models[settings.event_model] if record.event_models else record


def choices() -> list[Classifier]:
    """The usual settings of every kind, once for each event model."""
    settings: list[Classifier] = []
    for kind, entry in FAMILIES.items():
        models = [Classifier(kind=kind, event_model=model) for model in entry.event_models]
        settings += models or [Classifier(kind=kind)]
    return settings


def resolved(plan: Plan) -> Plan:
    """The same plan with `auto` replaced by what it represents with its kind of classifier."""
    if plan.features.weighting != "auto":
        return plan
    return replace(plan, features=replace(plan.features, weighting=family(plan.classifier).weighting))


def calibration_of(settings: Classifier) -> str:
    """How scores become probabilities, with `auto` replaced; none where probabilities are all there is."""
    usual = family(settings).calibration
    return usual if settings.calibrate == "auto" or usual == "none" else settings.calibrate


def penalty_of(settings: Classifier) -> float:
    """The penalty as a number, where it is not chosen on folds; 1 for kinds that have none."""
    if isinstance(settings.penalty, str):
        penalised_ = family(settings).penalised
        return penalised_.usual if penalised_ is not None else 1.0
    return settings.penalty


def chooses_penalty(settings: Classifier) -> bool:
    """Whether a penalty is to be chosen on folds of the training documents."""
    return settings.penalty == "auto" and family(settings).penalised is not None


def train(data: TrainingData, settings: Classifier, penalty: float = 1.0) -> FittedClassifier:
    """Train the kind that `settings` names, from nothing.

    Raises UsageProblem for values below 0 where the kind cannot take them."""
    record = family(settings)
    if record.not_negative and has_negative(data.matrix):
        other_kinds = [kind for kind, other in FAMILIES.items() if other.penalised and not other.not_negative]
        raise UsageProblem(
            f"{settings.kind} needs values that are not below 0; number columns, vectors and hashed terms have some.",
            f"Leave those out, or use --set classifier.kind={' or '.join(other_kinds[:2])}.",
        )
    return record.train(data, settings, penalty)


def path(data: TrainingData, settings: Classifier, penalties: Sequence[float] = PENALTIES) -> Iterator[FittedClassifier]:
    """The classifiers of a descending grid of penalties, evenly apart on a logarithmic scale, of a kind that has one, each
    trained when it is asked for."""
    penalised_ = family(settings).penalised
    if penalised_ is not None and penalised_.loss is not None:
        yield from _penalised_path(data, settings, penalised_, penalties)
    else:
        yield from (train(data, settings, penalty) for penalty in penalties)
