"""Which plans are worth a trial: the given one, each of its sensible changes alone, then changes together, drawn by the seed."""

import random
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any, get_args

from upsort.core.classifiers import families
from upsort.core.errors import Problem
from upsort.core.plan import OfText, Plan
from upsort.files.plan_file import changed_plan
from upsort.jobs.beside_columns import Change
from upsort.jobs.rounds import Candidate

AS_IT_IS = "the plan as it is"
_MOST_DRAWS = 50  # of changes that were tried already, in succession, after which there are no others
_KINDS = ("logistic", "svm", "naive-bayes", "ratio-svm", "centroid")
_STEPS = ("stop_words", "stem")
_PENALTY, _TIMES_THE_PENALTY = "classifier.penalty", (0.3, 3.0)


def trials(plan: Plan, most: int, extra_columns: Sequence[Change] = ()) -> list[Candidate]:
    """At most so many candidates, the plan as it is first; the same for the same plan and seed, however many are asked for.

    beside: changes that make a plan sort by columns beside the text.
    """
    candidates: list[Candidate] = []
    for change in _changes(plan, extra_columns):
        if len(candidates) == most:
            break
        try:
            candidate = _changed(plan, _resolved(plan, change))
        except Problem:  # these do not go together
            continue
        if all(candidate.plan != earlier.plan for earlier in candidates):
            candidates.append(candidate)
    return candidates


def _changes(plan: Plan, extra_columns: Sequence[Change]) -> Iterator[Change]:
    axes = [list(extra_columns), *_axes(plan)] if extra_columns else _axes(plan)
    yield {}
    for axis in axes:
        yield from axis
    draw, seen, again = random.Random(plan.judge.seed), set[str](), 0
    while again < _MOST_DRAWS:
        chosen = [draw.choice([{}, *axis]) for axis in axes]
        change = {key: value for change_part in chosen for key, value in change_part.items()}
        again = again + 1 if repr(change) in seen else 0
        seen.add(repr(change))
        if sum(map(bool, chosen)) > 1:
            yield change


def _axes(plan: Plan) -> list[list[Change]]:
    """For each thing that may be chosen otherwise, the changes: of keys, each with its value."""
    kinds = [kind for kind in _KINDS if kind != plan.classifier.kind]
    if plan.columns.label_separator:
        kinds = [kind for kind in kinds if families.FAMILIES[kind].sets]
    steps = plan.clean.steps
    with_steps = [(*steps, *_STEPS[:many]) for many in range(1, len(_STEPS) + 1) if not set(_STEPS[:many]) & set(steps)]
    return [
        [{"classifier.kind": kind} for kind in kinds],
        [{"features.lengths": [1, 2]}, {"features.units": "letters", "features.lengths": [2, 4]}],
        [{"clean.steps": list(step_names)} for step_names in with_steps],
        [{"features.weighting": name} for name in ("presence", "bm25") if name != plan.features.weighting],
        [{"features.in_at_least": bound} for bound in (1, 3) if bound != plan.features.in_at_least],
        [{_PENALTY: times} for times in _TIMES_THE_PENALTY],
        [] if plan.features.measures else [{"features.measures": list(get_args(OfText))}],
    ]


def _resolved(plan: Plan, change: Change) -> Change:
    """The change with the penalty as a number, times the usual one of its kind; without it where the kind has none."""
    if _PENALTY not in change:
        return change
    rest = {key: value for key, value in change.items() if key != _PENALTY}
    chosen = replace(_changed(plan, rest).plan.classifier, penalty="usual")
    if families.family(chosen).penalised is None:
        return rest
    return {**rest, _PENALTY: families.penalty_of(chosen) * change[_PENALTY]}


def _changed(plan: Plan, change: Change) -> Candidate:
    sections: dict[str, dict[str, Any]] = {}
    for name, value in change.items():
        section, _, key = name.partition(".")
        sections.setdefault(section, {})[key] = value
    return Candidate(
        description_of(change, tuple(change)) or AS_IT_IS,
        changed_plan(plan, sections, "a trial") if sections else plan,
        dict(change),
    )


def candidate_without(plan: Plan, change: Change, keys: tuple[str, ...]) -> Candidate:
    """The candidate of a change with some of its keys left as they were."""
    return _changed(plan, {key: value for key, value in change.items() if key not in keys})


def description_of(change: Change, keys: tuple[str, ...]) -> str:
    """Some keys of a change with their values."""
    return ", ".join(f"{key}={_written(change[key])}" for key in keys)


def _written(value: Any) -> str:
    if isinstance(value, list):
        return "+".join(map(str, value))
    return f"{value:g}" if isinstance(value, float) else str(value)
