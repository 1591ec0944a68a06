"""The kinds of classifier by name. Each is a record in a module of its own; adding one is adding it here."""

from collections.abc import Iterator, Sequence
from dataclasses import replace

from upsort.core.classifiers.baselines import CHANCE, MAJORITY
from upsort.core.classifiers.family import Family, FittedClassifier, TrainingData
from upsort.core.classifiers.linear_families import CENTROID, LOGISTIC, RATIO_SVM, RIDGE, SVM
from upsort.core.classifiers.linear_families import path as _penalised_path
from upsort.core.classifiers.naive_bayes import NAIVE_BAYES
from upsort.core.classifiers.neighbours import NEIGHBOURS
from upsort.core.classifiers.tree import TREE
from upsort.core.errors import UsageProblem
from upsort.core.matrices.partitioned import has_negative
from upsort.core.name_lists import suggestion
from upsort.core.plan import Classifier, Plan

FAMILIES: dict[str, Family] = {
    family.kind: family
    for family in (
        LOGISTIC,
        SVM,
        RIDGE,
        RATIO_SVM,
        NAIVE_BAYES,
        CENTROID,
        NEIGHBOURS,
        TREE,
        MAJORITY,
        CHANCE,
    )
}
"""The records of all kinds, in the order in which they are told."""

PENALTIES = tuple(float(10.0 ** (exponent / 3)) for exponent in range(4, -6, -1))
"""The penalties that `auto` chooses from: ten, from about 21 down to about 0.02."""


def family(settings: Classifier) -> Family:
    """The record of the kind that settings name, of its event model where it has some. Raises UsageProblem for an unknown
    kind."""
    kind = settings.kind
    if kind not in FAMILIES:
        raise UsageProblem(f"There is no classifier {kind!r}.", suggestion(kind, FAMILIES, "kinds"))
    record = FAMILIES[kind]
    return record.event_models[settings.event_model] if record.event_models else record


def choices() -> list[Classifier]:
    """The usual settings of every kind, once for each event model."""
    settings: list[Classifier] = []
    for kind, record in FAMILIES.items():
        models = [Classifier(kind=kind, event_model=model) for model in record.event_models]
        settings += models or [Classifier(kind=kind)]
    return settings


def resolved(plan: Plan) -> Plan:
    """The same plan with `auto` replaced by what it stands for with its kind of classifier."""
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

    Raises UsageProblem for values below 0 where the kind cannot take them.
    """
    record = family(settings)
    if record.not_negative and has_negative(data.matrix):
        other_kinds = [kind for kind, other in FAMILIES.items() if other.penalised and not other.not_negative]
        raise UsageProblem(
            f"{settings.kind} needs values that are not below 0; number columns, vectors and hashed terms have some.",
            f"Leave those out, or use --set classifier.kind={' or '.join(other_kinds[:2])}.",
        )
    return record.train(data, settings, penalty)


def path(
    data: TrainingData, settings: Classifier, penalties: Sequence[float] = PENALTIES
) -> Iterator[FittedClassifier]:
    """The classifiers of a descending grid of penalties, evenly apart on a logarithmic scale, of a kind that has one, each
    trained when it is asked for."""
    penalised_ = family(settings).penalised
    if penalised_ is not None and penalised_.loss is not None:
        yield from _penalised_path(data, settings, penalised_, penalties)
    else:
        yield from (train(data, settings, penalty) for penalty in penalties)
