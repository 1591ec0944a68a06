"""Looking for a good plan, and how good the one found is."""

import time
from collections.abc import Mapping, Sequence
from dataclasses import field, replace
from itertools import islice
from math import ceil

import numpy as np

from upsort.core.arrays import Bools, Ints
from upsort.core.errors import DataProblem, Problem, UsageProblem
from upsort.core.evaluation.cross_validation import CrossValidation, SplitParts, outcome, outcome_of, validation_of
from upsort.core.evaluation.intervals import DifferenceToBest, difference_to_best
from upsort.core.evaluation.leaks import Leak
from upsort.core.evaluation.splits import Splits, hold_out, splits
from upsort.core.lazy import record
from upsort.core.plan import Plan
from upsort.core.training.folds import Split
from upsort.core.training.stratified_split import held_out_of
from upsort.io.ledger import documents_digest, enter_trials, known_trials, plan_digest
from upsort.workflows.cross_validate import PreparedFolds, prepare_folds
from upsort.workflows.shared.candidates import (
    Candidate,
    Change,
    Corpora,
    PlanBatch,
    candidate_without,
    combinations,
    description_of,
    extra_column_changes,
    judge_batches,
    linked_choices,
    trials,
)
from upsort.workflows.shared.context import RunContext
from upsort.workflows.shared.corpus import LabelledCorpus
from upsort.workflows.shared.results import SplitCounts

JUDGE_SHARE = 0.2  # of the documents, to judge the choice by
_FOLDS = 3  # while trials are sorted out
_SURVIVORS = 3  # one of so many goes on
_LEAST = 300  # documents of a sample
_FINALISTS, _MINUTE, _NO_TIME = 5, 60.0, -1.0
_ROUNDS_SHARE = 0.4  # of the time, for the rounds of the search
_COMBINING_SHARE = 0.5  # of the time then left, for combined changes; the rest is for finalists and the final evaluation
_AT_ONCE = 4  # combined changes, before the best is looked for anew
_CALIBRATING = 5.0  # times as long as a training without calibration takes one with it, which trains on inner folds too


@record(frozen=True, kw_only=True)
class Budget:
    """trials: how many plans are tried at most. minutes: for the whole search, the final evaluation included; 0 without an end.
    margin: by how large a share of the documents a simpler plan may be behind and is preferred. extra_columns: columns that may
    stand next to the text. known_from: the sources that the documents come from, where what the ledger knows of trials on them is
    used, and results are noted there; else none."""

    trials: int
    minutes: float
    margin: float
    extra_columns: Sequence[str] = ()
    known_from: Sequence[str] = ()


@record(frozen=True, kw_only=True)
class Trial:
    """documents: on how many it was judged last. accuracy: there; None where it could not be trained on them. known: whether an
    earlier search had found that out."""

    candidate: Candidate
    documents: int
    accuracy: float | None
    known: bool


@record(frozen=True, kw_only=True)
class ChoiceReason:
    """What one choice brought: keys with their values, and by how much the plan without it is behind."""

    description: str
    without: DifferenceToBest


@record(frozen=True, kw_only=True)
class ChosenPlan:
    """picked: the plan. best: the most accurate finalist, and difference_to_best: by how much the picked one is behind it on the
    folds. finalists: all that were judged on the folds, most accurate first. inside: what the folds say of the picked plan, which
    is a little too high, since they chose it. honest: of the documents set aside. as_it_is: the same of the plan that was given.
    gain: by how much that one is behind the picked one, on the documents set aside. trials: those there was time for; untried:
    how many there was none for. left_out: choices of the best that the picked one does without. counted: how often the text
    was."""

    picked: Candidate
    best: Candidate
    difference_to_best: DifferenceToBest
    finalists: list[tuple[Candidate, CrossValidation]]
    trials: list[Trial]
    untried: int
    inside: CrossValidation
    honest: CrossValidation
    as_it_is: CrossValidation
    gain: DifferenceToBest
    reasons: list[ChoiceReason]
    left_out: list[ChoiceReason]
    counted: int
    documents: int
    judge_documents: int
    duplicates: SplitCounts
    leaks: list[Leak]
    seconds: float


def choose(work: RunContext, budget: Budget) -> ChosenPlan:
    """Look for a good plan, beginning with that of the work. Raises DataProblem for documents that are too few to be divided so,
    UsageProblem for a plan that says how folds are dealt.

    A share of the documents is set aside before anything else. On the others, trials are judged by successive halving (Jamieson &
    Talwalkar 2016, *Non-stochastic best arm identification and hyperparameter optimization*): all on a small sample, the best
    third of them on one three times as large, and so on. The last are judged on the folds of the plan, on the same documents. The
    given plan is kept where it is behind the best by less than a margin; else the choices of the best that bring least are left
    out, as long as that holds of what is left. The plan that is picked is trained on all that was not set aside, and judged once
    on what was: nothing that was looked at there had a part in the choice."""
    _check(work.plan)
    began, started = time.monotonic(), time.perf_counter()
    singly = ceil(budget.trials / 2)  # the others put changes together
    beside = extra_column_changes(work.inputs, work.plan.columns, budget.extra_columns)
    search = _start_search(work, tried := trials(work.plan, singly, beside), budget)
    ends = began + budget.minutes * _MINUTE if budget.minutes else np.inf
    seconds = _successive_halving(search, ends)
    alive, untried = _with_combinations(search, seconds, ends, budget.trials, beside)
    work.begin("cross-validation of the finalists", 0)
    judged = _final(search, {number: tried[number] for number in alive})
    order = sorted(alive, key=lambda number: (-(judged[number].overall.accuracy.value or 0.0), number))
    best = judged[order[0]]
    as_given = _difference(best, judged[0], len(order))
    if order[0] == 0 or (as_given.low <= 0.0 and as_given.value < budget.margin):
        picked = _PickedPlan(candidate=tried[0], judged=judged[0], difference_to_best=as_given, reasons=[], left_out=[])
    else:
        picked = _simplify(search, tried[order[0]], best, budget.margin, ends)
    work.begin("final evaluation", 0)
    honest = as_it_is = _judge_finalist(search, tried[0])
    if picked.candidate.values:
        honest = _judge_finalist(search, picked.candidate)
    return ChosenPlan(
        picked=picked.candidate,
        best=tried[order[0]],
        difference_to_best=picked.difference_to_best,
        finalists=[(tried[number], judged[number]) for number in order],
        trials=sorted(search.results.values(), key=lambda trial: (-trial.documents, -(trial.accuracy or 0.0))),
        untried=untried,
        inside=picked.judged,
        honest=honest,
        as_it_is=as_it_is,
        gain=_difference(honest, as_it_is, 2),
        reasons=picked.reasons,
        left_out=picked.left_out,
        counted=search.corpora.times,
        documents=search.first.documents.documents,
        judge_documents=int(search.outside.sum()),
        duplicates=search.first.duplicates,
        leaks=LabelledCorpus.leaks(*search.corpora.of(picked.candidate.plan)),
        seconds=time.perf_counter() - started,
    )


def _check(plan: Plan) -> None:
    if plan.judge.in_time or plan.judge.alone or plan.columns.fold:
        raise UsageProblem(
            "upsort choose deals the documents by itself; the plan says how (judge.in_time, judge.alone, columns.fold).",
            "Leave that out, and judge what is chosen with upsort cross-validate.",
        )


@record(frozen=True, kw_only=True)
class _PlanSearch:
    """tried: the trials, the given plan first; results: of them, by number. first: the documents as the given plan counts them.
    outside: (n,) those set aside; inside: (m,) places of the others. digest: identifies the documents in the ledger, empty where
    nothing is noted there."""

    work: RunContext
    corpora: Corpora
    tried: list[Candidate]
    results: dict[int, Trial] = field(default_factory=dict)
    first: PreparedFolds
    outside: Bools
    inside: Ints
    digest: str

    def batches(self, candidates: Mapping[int, Candidate], ends: float = np.inf) -> list[PlanBatch]:
        """Candidates, by how they count the text, with all documents. ends: see `Corpora.batches`."""
        return self.corpora.batches(candidates, self.first.documents.groups, ends)


def _start_search(work: RunContext, tried: list[Candidate], budget: Budget) -> _PlanSearch:
    corpora = Corpora(work, [candidate.plan for candidate in tried], "choose")
    corpus, answer = corpora.of(work.plan)
    first = prepare_folds(corpus, work.plan, answer)
    documents = first.documents
    outside = hold_out(documents, JUDGE_SHARE, work.plan.judge.seed)
    arrays = [array for array in (documents.keys, documents.labels, documents.groups, documents.weights) if array is not None]
    return _PlanSearch(
        work=work,
        corpora=corpora,
        tried=tried,
        first=first,
        outside=outside,
        inside=np.flatnonzero(~outside),
        digest=documents_digest(budget.known_from, work.plan, arrays) if budget.known_from else "",
    )


def _successive_halving(search: _PlanSearch, ends: float) -> float:
    """Judge the trials, the given plan always; the seconds that one of the last took. ends: the time of `time.monotonic` at which
    all must be done; the rounds may take a share of the time until then."""
    inside, started, seconds = search.inside, time.monotonic(), 0.0
    sizes = [share for share in (1 / _SURVIVORS**2, 1 / _SURVIVORS) if share * inside.size >= _LEAST] + [1.0]
    alive = list(range(len(search.tried)))
    for place, share in enumerate(sizes, 1):
        rows = inside
        if share < 1.0:
            split_keys = search.first.documents.rows(inside).split_keys
            rows = inside[held_out_of(split_keys, share, search.work.plan.judge.seed)]
        rounds_end = np.inf if np.isinf(ends) else started + _ROUNDS_SHARE * place / len(sizes) * (ends - started)
        began = time.monotonic()
        try:
            judged = _judged_on(search, rows, alive, rounds_end, f"round {place} of {len(sizes)}")
        except DataProblem:  # a label is too rare for folds of so few
            if share == 1.0:
                raise
            continue
        alive = sorted({0, *_ranked(judged)[: max(ceil(len(judged) / _SURVIVORS), _FINALISTS)]})
        if not (fresh := sum(not trial.known for trial in judged.values())):  # nothing was measured
            began = time.monotonic()
            _accuracies(search, rows, [0], np.inf, "the given plan")
        seconds = (time.monotonic() - began) / max(fresh, 1)
    return seconds


def _with_combinations(
    search: _PlanSearch, seconds: float, ends: float, most: int, extra_columns: Sequence[Change]
) -> tuple[list[int], int]:
    """The numbers of the finalists, after the best changes were put together, and how many trials there was no time for. seconds:
    that a trial takes on all documents. ends: when all must be done; as many finalists are left as the time suffices for. most:
    trials. extra_columns: changes that make a plan sort by columns next to the text."""
    inside, results, started = search.inside, search.results, time.monotonic()
    search_ends = ends if np.isinf(ends) else started + _COMBINING_SHARE * (ends - started)
    exhausted = False
    while (left := most - len(search.tried)) > 0 and time.monotonic() + _AT_ONCE * seconds < search_ends and not exhausted:
        on_all = {number: trial for number, trial in results.items() if trial.documents == inside.size}
        ranked = [search.tried[number] for number in [*_ranked(on_all), *_ranked(results)]]
        proposed = combinations(search.work.plan, ranked[0], ranked, extra_columns) if ranked else iter(())
        more = list(islice(proposed, min(left, _AT_ONCE)))
        new = range(len(search.tried), len(search.tried) + len(more))
        search.tried.extend(more)
        began = time.monotonic()
        judged, exhausted = _judged_on(search, inside, new, search_ends, "combined changes"), not more
        seconds = max((time.monotonic() - began) / max(len(judged), 1), seconds)
    on_all = {number: trial for number, trial in results.items() if trial.documents == inside.size}
    finalists = sorted({0, *_ranked(on_all)[: _affordable(search, seconds, ends)]})
    return finalists, (len(search.tried) if exhausted else most) - len(results)


def _ranked(results: Mapping[int, Trial]) -> list[int]:
    """The numbers of the trials that could be trained, those on most documents first, then the most accurate."""
    able = [number for number, trial in results.items() if trial.accuracy is not None]
    return sorted(able, key=lambda number: (-results[number].documents, -(results[number].accuracy or 0.0), number))


def _judged_on(search: _PlanSearch, rows: Ints, numbers: Sequence[int], ends: float, stage: str) -> dict[int, Trial]:
    """The trials there was time for, by their numbers, on some documents; they are added to the results. stage: its name, for the
    progress."""
    known, digests = known_trials(search.digest), {number: plan_digest(search.tried[number].plan)[0] for number in numbers}
    before = {number: known[digests[number], rows.size] for number in numbers if (digests[number], rows.size) in known}
    untried = [number for number in numbers if number not in before]
    best = max((trial.accuracy or 0.0 for trial in search.results.values()), default=0.0)
    so_far = f", best so far {100 * best:.1f}%" if best else ""
    fresh = _accuracies(search, rows, untried, ends, f"{stage}, {len(untried):,} plans on {rows.size:,} documents{so_far}")
    enter_trials(search.digest, {(digests[number], rows.size): value for number, value in fresh.items()})
    values = {number: (before | fresh)[number] for number in numbers if number in before or number in fresh}
    judged = {
        number: Trial(candidate=search.tried[number], documents=rows.size, accuracy=value, known=number in before)
        for number, value in values.items()
    }
    search.results.update(judged)
    return judged


def _affordable(search: _PlanSearch, seconds: float, ends: float) -> int:
    """How many finalists there is time for: half of what is left is for them, the rest for leaving out choices and for the
    documents set aside. seconds: that one took on the folds of the search."""
    folds = search.work.plan.judge.folds * search.work.plan.judge.repeats / _FOLDS
    left = (ends - time.monotonic()) / 2
    return _FINALISTS if np.isinf(ends) else int(np.clip(left / max(seconds * folds * _CALIBRATING, 1e-9), 1, _FINALISTS))


def _accuracies(search: _PlanSearch, rows: Ints, numbers: Sequence[int], ends: float, stage: str) -> dict[int, float | None]:
    """Of each trial that there is time for, on three folds of some documents; None where it cannot be trained on them. stage: its
    name, for the progress.

    Only labels are asked for, so that nothing is calibrated."""
    settings = replace(search.work.plan.judge, folds=_FOLDS, repeats=1)
    made = splits(search.first.documents.rows(rows), settings).each
    counting_ends = (time.monotonic() + ends) / 2  # half of the time is for training
    tried = {number: search.tried[number] for number in numbers}
    of_rows = [batch.only(rows) for batch in search.batches(tried, counting_ends)]
    parts = [SplitParts(batch.documents, made) for batch in of_rows]
    places = {number: place for place, batch in enumerate(of_rows) for number in batch.methods}

    def of(piece: int) -> float | None:
        number, fold = numbers[piece // _FOLDS], piece % _FOLDS
        if number not in places or (time.monotonic() > ends and number):
            return _NO_TIME
        batch, batch_parts = of_rows[places[number]], parts[places[number]]
        try:
            return float(outcome(batch_parts, fold, batch.methods[number].for_labels()).right(batch.documents))
        except Problem:  # too few documents for its terms, or values that its classifier does not take
            return None

    right = search.work.parallel(search.first.documents, stage)(of, len(numbers) * _FOLDS)
    values: dict[int, float | None] = {}
    for place, number in enumerate(numbers):
        mine = right[place * _FOLDS : (place + 1) * _FOLDS]
        if _NO_TIME not in mine:
            values[number] = None if None in mine else sum(accuracy for accuracy in mine if accuracy is not None) / rows.size
    return values


def _final(search: _PlanSearch, candidates: Mapping[int, Candidate], labels_alone: bool = False) -> dict[int, CrossValidation]:
    """Candidates judged on the plan's folds. labels_alone: whether nothing is asked but the labels that they give."""
    batches = [batch.only(search.inside) for batch in search.batches(candidates)]
    if labels_alone:
        batches = [
            replace(batch, methods={number: method.for_labels() for number, method in batch.methods.items()}) for batch in batches
        ]
    documents = search.first.documents.rows(search.inside)
    made = Splits.whole(splits(documents, search.work.plan.judge).each)
    sketches = search.first.sketches.rows(search.inside) if search.first.sketches is not None and not labels_alone else None
    judged = judge_batches(batches, replace(search.first, documents=documents, splits=made, sketches=sketches), search.work)
    return {number: result for number, (result, _) in judged.items()}


def _judge_finalist(search: _PlanSearch, candidate: Candidate) -> CrossValidation:
    """A plan trained on all that was not set aside, judged on what was."""
    (batch,) = search.batches({0: candidate})
    split, documents, method = Split(search.inside, np.flatnonzero(search.outside)), batch.documents, batch.methods[0]
    similarity = replace(search.first, splits=Splits.whole([split])).similarity
    return validation_of([outcome_of(documents, split, method)], documents, method, similarity=similarity)


@record(frozen=True, kw_only=True)
class _PickedPlan:
    """A plan, what the folds say of it, by how much it is behind the best there, what each of its choices brought, and those of
    the best that were left out."""

    candidate: Candidate
    judged: CrossValidation
    difference_to_best: DifferenceToBest
    reasons: list[ChoiceReason]
    left_out: list[ChoiceReason]


def _simplify(search: _PlanSearch, candidate: Candidate, best: CrossValidation, margin: float, ends: float) -> _PickedPlan:
    """The best with the choices left out, one after the other, that bring least, as long as the rest is not surely behind it, nor
    by as much as the margin. A round that would take until after `ends` is not begun; choices are kept then."""
    seconds = 0.0
    now = _PickedPlan(candidate=candidate, judged=best, difference_to_best=_difference(best, best, 2), reasons=[], left_out=[])
    while True:
        began = time.monotonic()
        if began + 2 * seconds > ends:
            return now
        groups = linked_choices(now.candidate.values)
        simpler = [candidate_without(search.work.plan, now.candidate.values, keys) for keys in groups]
        results = _final(search, dict(enumerate(simpler)), labels_alone=True)
        seconds = time.monotonic() - began
        many = 2
        while many * (many - 1) // 2 < len(simpler):
            many += 1
        reasons = [
            ChoiceReason(
                description=description_of(now.candidate.values, keys), without=_difference(now.judged, results[number], many)
            )
            for number, keys in enumerate(groups)
        ]
        least = min(range(len(simpler)), key=lambda number: reasons[number].without.value)
        distance = _difference(best, results[least], 2)
        if len(groups) == 1 or distance.low > 0.0 or distance.value >= margin:
            return replace(now, reasons=reasons)
        now = _PickedPlan(
            candidate=simpler[least],
            judged=results[least],
            difference_to_best=distance,
            reasons=[],
            left_out=[*now.left_out, reasons[least]],
        )


def _difference(better: CrossValidation, other: CrossValidation, many: int) -> DifferenceToBest:
    """By how much one is behind another on the same documents. many: see `difference_to_best`."""
    difference = (better.times_right() - other.times_right()).astype(np.float64)
    return difference_to_best(difference / better.sample.repeats, better.sample, many)
