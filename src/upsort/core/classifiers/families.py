"""The kinds of classifier by name. Each is a record in a module of its own; adding one is adding it here."""

from collections.abc import Sequence
from dataclasses import replace

from upsort.core.classifiers import (
    bernoulli_nb,
    centroid,
    chance,
    complement_nb,
    logistic,
    majority,
    multinomial_nb,
    neighbours,
    penalised,
    ridge,
    svm,
    tree,
    weighted_svm,
)
from upsort.core.classifiers.family import Family, TrainingData
from upsort.core.classifiers.fitted import Fitted
from upsort.core.errors import UsageProblem
from upsort.core.names import suggestion
from upsort.core.plan import Classifier, Plan

FAMILIES: dict[str, Family] = {
    module.FAMILY.kind: module.FAMILY
    for module in (
        logistic,
        svm,
        ridge,
        weighted_svm,
        multinomial_nb,
        bernoulli_nb,
        complement_nb,
        centroid,
        neighbours,
        tree,
        majority,
        chance,
    )
}
"""The records of all kinds, in the order in which they are told."""

PENALTIES = tuple(float(10.0 ** (exponent / 3)) for exponent in range(4, -6, -1))
"""The penalties that `auto` chooses from: ten, from about 21 down to about 0.02."""


def family(kind: str) -> Family:
    """The record of a kind. Raises UsageProblem for one that there is not."""
    if kind not in FAMILIES:
        raise UsageProblem(f"There is no classifier {kind!r}.", suggestion(kind, FAMILIES, "kinds"))
    return FAMILIES[kind]


def settled(plan: Plan) -> Plan:
    """The same plan with `auto` replaced by what it stands for with its kind of classifier."""
    if plan.features.weighting != "auto":
        return plan
    return replace(plan, features=replace(plan.features, weighting=family(plan.classifier.kind).weighting))


def calibration_of(settings: Classifier) -> str:
    """How scores become probabilities, with `auto` replaced; none where probabilities are all there is."""
    usual = family(settings.kind).calibration
    return usual if settings.calibrate == "auto" or usual == "none" else settings.calibrate


def penalty_of(settings: Classifier) -> float:
    """The penalty as a number, where it is not chosen on folds; 1 for kinds that have none."""
    if isinstance(settings.penalty, str):
        penalised_ = family(settings.kind).penalised
        return penalised_.usual if penalised_ is not None else 1.0
    return settings.penalty


def chooses_penalty(settings: Classifier) -> bool:
    """Whether a penalty is to be chosen on folds of the training documents."""
    return settings.penalty == "auto" and family(settings.kind).penalised is not None


def train(data: TrainingData, settings: Classifier, penalty: float = 1.0) -> Fitted:
    """Train the kind that `settings` names, from nothing.

    Raises UsageProblem for values below 0 where the kind cannot take them.
    """
    record = family(settings.kind)
    if record.not_negative and data.matrix.nnz and data.matrix.data.min() < 0:
        others = [kind for kind, other in FAMILIES.items() if other.penalised and not other.not_negative]
        raise UsageProblem(
            f"{settings.kind} needs values that are not below 0; number columns, vectors and hashed terms have some.",
            f"Leave those out, or use --set classifier.kind={' or '.join(others[:2])}.",
        )
    return record.train(data, settings, penalty)


def path(data: TrainingData, settings: Classifier, penalties: Sequence[float] = PENALTIES) -> Sequence[Fitted]:
    """The classifiers of a descending grid of penalties, evenly apart on a logarithmic scale, of a kind that has one."""
    penalised_ = family(settings.kind).penalised
    found = penalised.path(data, settings, penalised_, penalties) if penalised_ is not None else None
    return found if found is not None else [train(data, settings, penalty) for penalty in penalties]
