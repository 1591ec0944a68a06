"""Looking for a good plan, and what the one that is found is worth.

A share of the documents is set aside before anything else. On the others, trials are judged by successive halving (Jamieson &
Talwalkar 2016, *Non-stochastic best arm identification and hyperparameter optimization*): all on a small sample, the best
third of them on one three times as large, and so on. The last are judged on the folds of the plan, on the same documents. The
given plan is kept where it is behind the best by less than a margin; else the choices of the best that bring least are left out,
as long as that holds of what is left. The plan that is picked is trained on all that was not set aside, and judged once on what
was: nothing that was looked at there had a part in the choice.
"""

import time
from collections.abc import Mapping, Sequence
from dataclasses import replace
from math import ceil

import numpy as np

from upsort.core.arrays import Bools, Ints
from upsort.core.errors import DataProblem, Problem, UsageProblem
from upsort.core.judging.behind import Behind, behind
from upsort.core.judging.cross_validation import CrossValidation, judged_by
from upsort.core.judging.protocol import Parts, outcome, outcome_of
from upsort.core.judging.splits import Splits, hold_out, splits
from upsort.core.learning.apart import Split
from upsort.core.learning.dealing import held_out_of
from upsort.core.plan import Plan
from upsort.core.records import record
from upsort.files.known_trials import documents_digest, enter_trials, known_trials
from upsort.files.ledger import plan_digest
from upsort.jobs.beside_columns import beside_changes
from upsort.jobs.judging import Kept, Prepared, prepared
from upsort.jobs.rounds import Candidate, Corpora, Round, judged_on
from upsort.jobs.trials import told, trials, without
from upsort.jobs.work import Work

SET_ASIDE = 0.2  # of the documents, to judge the choice by
_FOLDS = 3  # while trials are sorted out
_KEPT = 3  # one of so many goes on
_LEAST = 300  # documents of a sample
_FINALISTS = 5
_MINUTE = 60.0
_NO_TIME = -1.0
_TOGETHER = (("features.units", "features.lengths"), ("columns.numbers", "columns.wrong_numbers"))


@record(frozen=True, kw_only=True)
class Budget:
    """trials: how many plans are tried at most. minutes: after which no further one is asked for, 0 without an end. margin: by
    how large a share of the documents a simpler plan may be behind and is preferred. beside: columns that may stand beside the
    text. known_from: the sources that the documents come from, where what the ledger knows of trials on them is used, and what is
    found out is noted there; else none."""

    trials: int
    minutes: float
    margin: float
    beside: Sequence[str] = ()
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
class Reason:
    """What one choice brought: keys with their values, and by how much the plan without it is behind."""

    told: str
    without: Behind


@record(frozen=True, kw_only=True)
class Chosen:
    """picked: the plan. best: the most accurate finalist, and behind_best: by how much the picked one is behind it on the folds.
    finalists: all that were judged on the folds, most accurate first. inside: what the folds say of the picked plan, which is a
    little too high, since they chose it. honest: of the documents set aside. as_it_is: the same of the plan that was given.
    gain: by how much that one is behind the picked one, on the documents set aside. trials: those there was time for.
    left_out: choices of the best that the picked one does without. counted: how often the text was."""

    picked: Candidate
    best: Candidate
    behind_best: Behind
    finalists: list[tuple[Candidate, CrossValidation]]
    trials: list[Trial]
    inside: CrossValidation
    honest: CrossValidation
    as_it_is: CrossValidation
    gain: Behind
    reasons: list[Reason]
    left_out: list[Reason]
    counted: int
    documents: int
    set_aside: int
    kept: Kept
    seconds: float


def choose(work: Work, budget: Budget) -> Chosen:
    """Look for a good plan, beginning with that of the work. Raises DataProblem for documents that are too few to be divided so,
    UsageProblem for a plan that says how folds are dealt."""
    _check(work.plan)
    try:
        return _chosen(work, budget)
    except DataProblem as problem:
        raise DataProblem(problem.what, problem.remedy.replace("--folds ", "--set judge.folds=")) from problem


def _chosen(work: Work, budget: Budget) -> Chosen:
    began, started = time.monotonic(), time.perf_counter()
    tried = trials(work.plan, budget.trials, beside_changes(work.inputs, work.plan.columns, budget.beside))
    search = _begun(work, tried, budget)
    found, alive = _sorted_out(search, began + budget.minutes * _MINUTE if budget.minutes else np.inf)
    judged = _final(search, {number: tried[number] for number in alive})
    order = sorted(alive, key=lambda number: (-(judged[number].overall.accuracy.value or 0.0), number))
    best = judged[order[0]]
    as_given = _behind(best, judged[0], len(order))
    if order[0] == 0 or (as_given.low <= 0.0 and as_given.value < budget.margin):
        picked = _Picked(candidate=tried[0], judged=judged[0], behind_best=as_given, reasons=[], left_out=[])
    else:
        picked = _simplified(search, tried[order[0]], best, budget.margin)
    honest = as_it_is = _on_set_aside(search, tried[0])
    if picked.candidate.values:
        honest = _on_set_aside(search, picked.candidate)
    return Chosen(
        picked=picked.candidate,
        best=tried[order[0]],
        behind_best=picked.behind_best,
        finalists=[(tried[number], judged[number]) for number in order],
        trials=found,
        inside=picked.judged,
        honest=honest,
        as_it_is=as_it_is,
        gain=_behind(honest, as_it_is, 2),
        reasons=picked.reasons,
        left_out=picked.left_out,
        counted=search.corpora.times,
        documents=search.first.documents.documents,
        set_aside=int(search.outside.sum()),
        kept=search.first.kept,
        seconds=time.perf_counter() - started,
    )


def _check(plan: Plan) -> None:
    if plan.judge.in_time or plan.judge.alone or plan.columns.fold:
        raise UsageProblem(
            "upsort choose deals the documents by itself; the plan says how (judge.in_time, judge.alone, columns.fold).",
            "Leave that out, and judge what is chosen with upsort cross-validate.",
        )


@record(frozen=True, kw_only=True)
class _Search:
    """tried: the trials, the given plan first. first: the documents as that one counts them. outside: (n,) those set aside;
    inside: (m,) places of the others. digest: tells the documents in the ledger, empty where nothing is noted there."""

    work: Work
    corpora: Corpora
    tried: Sequence[Candidate]
    first: Prepared
    outside: Bools
    inside: Ints
    digest: str

    def rounds(self, candidates: Mapping[int, Candidate]) -> list[Round]:
        """Candidates, by how they count the text, with all documents."""
        return self.corpora.rounds(candidates, self.first.documents.groups)


def _begun(work: Work, tried: Sequence[Candidate], budget: Budget) -> _Search:
    corpora = Corpora(work, [one.plan for one in tried], "choose")
    corpus, answer = corpora.of(work.plan)
    first = prepared(corpus, work.plan, answer)
    documents = first.documents
    outside = hold_out(documents, SET_ASIDE, work.plan.judge.seed)
    arrays = [one for one in (documents.keys, documents.labels, documents.groups, documents.weights) if one is not None]
    return _Search(
        work=work,
        corpora=corpora,
        tried=tried,
        first=first,
        outside=outside,
        inside=np.flatnonzero(~outside),
        digest=documents_digest(budget.known_from, work.plan, arrays) if budget.known_from else "",
    )


def _sorted_out(search: _Search, ends: float) -> tuple[list[Trial], list[int]]:
    """All trials with how far each came, and the numbers of the last."""
    tried, inside = search.tried, search.inside
    sizes = [share for share in (1 / _KEPT**2, 1 / _KEPT) if share * inside.size >= _LEAST] + [1.0]
    alive, found = list(range(len(tried))), dict[int, Trial]()
    known, digests = known_trials(search.digest), [plan_digest(one.plan)[0] for one in tried]
    for share in sizes:
        rows = inside
        if share < 1.0:
            dealt = search.first.documents.rows(inside).dealt
            rows = inside[held_out_of(dealt, share, search.work.plan.judge.seed)]
        before = {
            number: known[digests[number], rows.size] for number in alive if (digests[number], rows.size) in known
        }
        asked = [number for number in alive if number not in before]
        try:
            fresh = _accuracies(search, rows, asked, np.inf if found else ends)
        except DataProblem:  # a label is too rare for folds of so few
            if share == 1.0:
                raise
            continue
        enter_trials(search.digest, {(digests[number], rows.size): value for number, value in fresh.items()})
        values = {number: (before | fresh)[number] for number in alive if number in before or number in fresh}
        found |= {
            number: Trial(candidate=tried[number], documents=rows.size, accuracy=value, known=number in before)
            for number, value in values.items()
        }
        able = sorted(
            (number for number in values if values[number] is not None), key=lambda n: (-(values[n] or 0.0), n)
        )
        many = _FINALISTS if share == 1.0 else max(ceil(len(values) / _KEPT), _FINALISTS)
        alive = sorted({0, *able[:many]})
    return sorted(found.values(), key=lambda one: (-one.documents, -(one.accuracy or 0.0))), alive


def _accuracies(search: _Search, rows: Ints, asked: Sequence[int], ends: float) -> dict[int, float | None]:
    """Of each trial that there is time for, on three folds of some documents; None where it cannot be trained on them.

    Only labels are asked for, so that nothing is calibrated.
    """
    settings = replace(search.work.plan.judge, folds=_FOLDS, repeats=1)
    made = splits(search.first.documents.rows(rows), settings).each
    of_rows = [one.only(rows) for one in search.rounds({number: search.tried[number] for number in asked})]
    parts = [Parts(one.documents, made) for one in of_rows]
    places = {number: place for place, one in enumerate(of_rows) for number in one.methods}

    def of(piece: int) -> float | None:
        number, fold = asked[piece // _FOLDS], piece % _FOLDS
        if time.monotonic() > ends and number:
            return _NO_TIME
        one, sides = of_rows[places[number]], parts[places[number]]
        try:
            return float(outcome(sides, fold, one.methods[number].for_labels()).right(one.documents))
        except Problem:  # too few documents for its terms, or values that its classifier does not take
            return None

    right = search.work.spread(search.first.documents)(of, len(asked) * _FOLDS)
    values: dict[int, float | None] = {}
    for place, number in enumerate(asked):
        mine = right[place * _FOLDS : (place + 1) * _FOLDS]
        if _NO_TIME not in mine:
            values[number] = None if None in mine else sum(one for one in mine if one is not None) / rows.size
    return values


def _final(
    search: _Search, candidates: Mapping[int, Candidate], labels_alone: bool = False
) -> dict[int, CrossValidation]:
    """Candidates judged on the plan's folds. labels_alone: whether nothing is asked but the labels that they give."""
    rounds = [one.only(search.inside) for one in search.rounds(candidates)]
    if labels_alone:
        rounds = [
            replace(one, methods={number: method.for_labels() for number, method in one.methods.items()})
            for one in rounds
        ]
    documents = search.first.documents.rows(search.inside)
    made = Splits.whole(splits(documents, search.work.plan.judge).each)
    judged = judged_on(rounds, replace(search.first, documents=documents, splits=made), search.work)
    return {number: result for number, (result, _) in judged.items()}


def _on_set_aside(search: _Search, candidate: Candidate) -> CrossValidation:
    """A plan trained on all that was not set aside, judged on what was."""
    (one,) = search.rounds({0: candidate})
    split = Split(search.inside, np.flatnonzero(search.outside))
    return judged_by([outcome_of(one.documents, split, one.methods[0])], one.documents, one.methods[0])


@record(frozen=True, kw_only=True)
class _Picked:
    """A plan, what the folds say of it, by how much it is behind the best there, what each of its choices brought, and those
    of the best that were left out."""

    candidate: Candidate
    judged: CrossValidation
    behind_best: Behind
    reasons: list[Reason]
    left_out: list[Reason]


def _simplified(search: _Search, candidate: Candidate, best: CrossValidation, margin: float) -> _Picked:
    """The best with the choices left out, one after the other, that bring least, as long as what is left is not surely behind it,
    nor by as much as the margin."""
    now = _Picked(candidate=candidate, judged=best, behind_best=_behind(best, best, 2), reasons=[], left_out=[])
    while True:
        groups = _choices(now.candidate.values)
        others = [without(search.work.plan, now.candidate.values, keys) for keys in groups]
        results = _final(search, dict(enumerate(others)), labels_alone=True)
        many = 2
        while many * (many - 1) // 2 < len(others):
            many += 1
        reasons = [
            Reason(told=told(now.candidate.values, keys), without=_behind(now.judged, results[number], many))
            for number, keys in enumerate(groups)
        ]
        least = min(range(len(others)), key=lambda number: reasons[number].without.value)
        distance = _behind(best, results[least], 2)
        if len(groups) == 1 or distance.low > 0.0 or distance.value >= margin:
            return replace(now, reasons=reasons)
        now = _Picked(
            candidate=others[least],
            judged=results[least],
            behind_best=distance,
            reasons=[],
            left_out=[*now.left_out, reasons[least]],
        )


def _choices(values: Mapping[str, object]) -> list[tuple[str, ...]]:
    """The keys that were chosen together: letters come with their lengths, numbers with what is done with wrong ones."""
    groups = [keys for keys in _TOGETHER if all(key in values for key in keys)]
    grouped = {key for keys in groups for key in keys}
    return [*groups, *((key,) for key in values if key not in grouped)]


def _behind(better: CrossValidation, other: CrossValidation, many: int) -> Behind:
    """By how much one is behind another on the same documents. many: see `judging.behind`."""
    difference = (better.times_right() - other.times_right()).astype(np.float64)
    return behind(difference / better.sample.repeats, better.sample, many)
