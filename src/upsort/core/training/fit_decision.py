"""From held-out scores to what turns scores into decisions: probabilities, thresholds of sets, a rule other than the most
probable."""

from collections.abc import Sequence
from dataclasses import field, replace

import numpy as np

from upsort.core.arrays import Bools, Floats
from upsort.core.classifiers.calibration import Calibration, calibrate, calibrate_each, reordered_like
from upsort.core.classifiers.families import calibration_of
from upsort.core.classifiers.family import FittedClassifier
from upsort.core.lazy import record
from upsort.core.plan import Plan
from upsort.core.training.decision import PlanWithResources, cost_decision, cost_table, ranking, values_of, weights_for_f_beta
from upsort.core.training.folds import CALIBRATION_FOLDS, ENOUGH, ENOUGH_TO_CHOOSE, INNER_FOLDS, FoldPlan, InnerCV
from upsort.core.training.labelled import HeldOut, LabelledDocuments

_LEAST_DECIDED = 20
_LEAST = 40  # documents, of fewer `auto` learns no calibration


@record(frozen=True, kw_only=True)
class FittedDecision:
    """thresholds: (k,) of sets of labels. decision: (k, k) see `training.decision`. undecided_below: the bound for the accuracy
    that was asked for, None where none was. held_out: measures of the documents that the folds held out."""

    calibration: Calibration = field(default_factory=Calibration)
    thresholds: Floats | None = None
    decision: Floats | None = None
    undecided_below: float | None = None
    held_out: HeldOut = field(default_factory=HeldOut)


def fit_decision(
    documents: LabelledDocuments,
    method: PlanWithResources,
    inner: InnerCV,
    fitted: Sequence[FittedClassifier],
    penalty_chosen: bool,
) -> FittedDecision:
    """Learn all of it. fitted: the classifiers of the folds. penalty_chosen: on these very folds, so that they no longer show how
    good the sorter is."""
    plan = method.plan
    costs = cost_table(method.costs, documents.names) if method.costs is not None and documents.sets is None else None
    decision = cost_decision(costs) if costs is not None else None
    judged, scores = inner.scores(plan, fitted)
    if not len(scores):
        return FittedDecision(thresholds=_halves(documents), decision=decision)
    if documents.sets is not None:
        return _of_sets(scores, documents, judged, plan)
    labels = documents.labels[judged]
    # A document whose label its fold could not learn says nothing of how scores become probabilities.
    taught = inner.labels_were_learned()[judged]
    calibration = calibrate(calibration_of(plan.classifier), scores[taught], labels[taught]) if taught.any() else Calibration()
    probabilities = calibration.probabilities(scores)
    ranked_by = scores if calibration.keeps_order or plan.decide.rank_by == "scores" else probabilities
    if ranked_by is scores and not calibration.keeps_order:
        probabilities = reordered_like(scores, probabilities)
    if plan.decide.f_beta > 0:
        decision = weights_for_f_beta(labels, probabilities, plan.decide.f_beta)
    values = values_of(probabilities, decision) if decision is not None else ranked_by
    sorted_as = ranking(values, np.bincount(documents.labels, minlength=len(documents.names)))[:, 0]
    as_on_new = decision is None and ranked_by is scores and not penalty_chosen
    words, unknown = inner.unknown_words()
    fold = np.full(documents.documents, -1, dtype=np.int64)
    for number, fold_data in enumerate(inner.folds):
        fold[fold_data.held_out] = number
    given_right = np.zeros(documents.documents, dtype=bool)
    given_right[judged] = sorted_as == labels
    held_out = HeldOut(
        documents=labels.size,
        right=int((sorted_as == labels).sum()) if as_on_new else None,
        labels=np.bincount(sorted_as, minlength=len(documents.names)).astype(np.int64),
        words=words,
        unknown=unknown,
        fold=np.where(judged, fold, -1),
        given_right=given_right,
    )
    if plan.decide.decided_accuracy:
        given = probabilities[np.arange(sorted_as.size), sorted_as]
        bound = bound_for(given, sorted_as == labels, plan.decide.decided_accuracy)
        decided = given >= bound
        above = np.zeros(documents.documents, dtype=bool)
        above[judged] = decided
        right = int((decided & (sorted_as == labels)).sum())
        held_out = replace(held_out, decided=int(decided.sum()), decided_right=right, above=above)
        return FittedDecision(calibration=calibration, decision=decision, undecided_below=bound, held_out=held_out)
    return FittedDecision(calibration=calibration, decision=decision, held_out=held_out)


def bound_for(probabilities: Floats, right: Bools, accuracy: float) -> float:
    """The bound that decides most documents with at least this share of them right; the one with the largest share of at least 20
    documents where none does, halfway between neighbouring probabilities. probabilities: (n,) of the given labels."""
    order = np.argsort(-probabilities, kind="stable")
    ranked = probabilities[order]
    shares = np.cumsum(right[order]) / np.arange(1, ranked.size + 1)
    last_of_equals = np.append(ranked[1:] < ranked[:-1], True)
    enough = np.flatnonzero(last_of_equals & (shares >= accuracy - 1e-12))
    if enough.size:
        best = int(enough[-1])
    else:
        places = np.flatnonzero(last_of_equals & (np.arange(ranked.size) + 1 >= min(_LEAST_DECIDED, ranked.size)))
        best = int(places[np.argmax(shares[places])])
    following = ranked[best + 1] if best + 1 < ranked.size else 0.0
    return float((ranked[best] + following) / 2.0)


def needs_folds(documents: LabelledDocuments, plan: Plan) -> bool:
    """Whether something is to be learned from folds of the training documents."""
    if documents.sets is not None or plan.decide.f_beta > 0 or plan.decide.decided_accuracy > 0:
        return True
    # What is asked for by name is always done, even where folds can tell little.
    return calibration_of(plan.classifier) != "none" and (plan.classifier.calibrate != "auto" or documents.documents >= _LEAST)


def fold_plan_for(documents: LabelledDocuments, plan: Plan, choosing: bool) -> FoldPlan:
    """How the documents are dealt to learn all of it. choosing: a penalty too."""
    if documents.sets is not None:
        return FoldPlan()
    calibration = calibration_of(plan.classifier)
    if plan.decide.f_beta > 0 or calibration not in {"temperature", "none"}:
        return FoldPlan(INNER_FOLDS if choosing else CALIBRATION_FOLDS)
    if choosing:
        return FoldPlan(INNER_FOLDS, ENOUGH_TO_CHOOSE)
    return FoldPlan(CALIBRATION_FOLDS, ENOUGH if calibration == "temperature" else None)


def _halves(documents: LabelledDocuments) -> Floats | None:
    return np.full(len(documents.names), 0.5) if documents.sets is not None else None


FEW_FOR_A_THRESHOLD = 20
"""Training documents of a label, of fewer no threshold below one half is learned: it would be given to many for a few."""


def _of_sets(scores: Floats, documents: LabelledDocuments, judged: Bools, plan: Plan) -> FittedDecision:
    assert documents.sets is not None
    own = documents.sets[judged]
    kind = "isotonic" if calibration_of(plan.classifier) == "isotonic" else "platt"
    calibration: Calibration = calibrate_each(kind, scores, own)
    thresholds = _thresholds(calibration.each(scores), own, plan.decide.aim)
    few = documents.sets.sum(axis=0) < FEW_FOR_A_THRESHOLD
    return FittedDecision(calibration=calibration, thresholds=np.where(few, np.maximum(thresholds, 0.5), thresholds))


def _thresholds(probabilities: Floats, own: Bools, aim: str) -> Floats:
    """(k,) the thresholds for an aim. probabilities: (n, k) of held-out documents. own: (n, k) which labels they have.

    The F1 of a label depends on its own threshold alone. Micro F1 is highest where all labels have one threshold (Lipton et al.
    2014, *Optimal thresholding of classifiers to maximize F1 measure*), and so are sets that are exactly right, if labels are
    independent given the text (Dembczyński et al. 2012, *On label dependence and loss minimization*)."""
    k = own.shape[1]
    match aim:
        case "macro f1":
            return np.array([_best_threshold(probabilities[:, label], own[:, label]) for label in range(k)])
        case "micro f1":
            return np.full(k, _best_threshold(probabilities.reshape(-1), own.reshape(-1)))
        case "exact sets":
            return np.full(k, _threshold_of_exact_sets(probabilities, own))
        case _:
            raise ValueError(f"no thresholds are known for {aim!r}")


def _threshold_of_exact_sets(probabilities: Floats, own: Bools) -> float:
    """The common threshold with most sets exactly right, nearest to 0.5 among equals.

    A document's set is right if the threshold is above all probabilities of labels that it lacks, and not above those of labels
    that it has."""
    above = np.where(own, 0.0, probabilities).max(axis=1)
    up_to = np.where(own, probabilities, 1.0).min(axis=1)
    candidates = np.unique(np.concatenate(([0.5], above, up_to)))
    middles = np.unique(np.concatenate(([0.5], (candidates[1:] + candidates[:-1]) / 2.0)))
    possible = above < up_to
    right = np.searchsorted(np.sort(above[possible]), middles) - np.searchsorted(np.sort(up_to[possible]), middles)
    best = middles[right == right.max()]
    return float(best[np.argmin(np.abs(best - 0.5))])


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
