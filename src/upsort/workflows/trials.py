"""Which columns of the tables could stand beside the text, and how: as numbers or as categories.

Which plans are worth a trial: the given one, each of its sensible changes alone, then changes together, drawn by the seed.
"""

import random
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from itertools import islice
from typing import Any, get_args

from upsort.core.analysis.column_summaries import kind_of
from upsort.core.classifiers import families
from upsort.core.errors import Problem, UsageProblem
from upsort.core.name_lists import listed
from upsort.core.plan import Columns, OfText, Plan
from upsort.io.plan.plan_file import changed_plan
from upsort.io.sources.inputs import Inputs
from upsort.io.tables.columns import matching
from upsort.workflows.plan_batches import Candidate

Change = Mapping[str, Any]
"""Keys of a plan, each with another value."""


def extra_column_changes(inputs: Inputs, columns: Columns, names: Sequence[str]) -> list[Change]:
    """For each of the named columns what makes a plan sort by it too, then for all of them together.

    names: of columns, or patterns. What a column holds is told by the first rows of the first table. Raises UsageProblem for a
    column that is not there, has its use already, or holds neither numbers nor few values.
    """
    first = inputs.tables[0]
    rows = [row for block in islice(first.blocks(), 1) for row in block.rows]
    numbers: list[str] = []
    categories: list[str] = []
    for name in names:
        single = "*" not in name and "?" not in name
        for place in matching(name, first.columns, first.name):
            column = first.columns[place]
            if column in _used(columns):
                if single:
                    raise UsageProblem(
                        f"The column {column!r} has its use already.", f"Leave {column} out of --beside."
                    )
                continue
            kind = kind_of([row[place] for row in rows])
            if kind == "number":
                numbers.append(column)
            elif kind == "category":
                categories.append(column)
            elif single:
                raise UsageProblem(
                    f"The column {column!r} holds {_TYPE_WORDS[kind]}; beside the text stand numbers, or few different values.",
                    f"Leave {column} out of --beside.",
                )
    numbers, categories = list(dict.fromkeys(numbers)), list(dict.fromkeys(categories))
    if names and not numbers and not categories:
        raise UsageProblem(
            f"No column like {listed(names)} holds numbers, or few different values.",
            "upsort survey --columns tells what columns hold.",
        )
    each: list[Change] = [_of_numbers(columns, [name]) for name in numbers]
    each += [_of_categories(columns, [name]) for name in categories]
    combined = {
        **(_of_numbers(columns, numbers) if numbers else {}),
        **(_of_categories(columns, categories) if categories else {}),
    }
    return [*each, combined] if len(each) > 1 else each


_TYPE_WORDS = {"date": "dates", "text": "text", "empty": "nothing"}


def _of_numbers(columns: Columns, names: Sequence[str]) -> Change:
    """A cell that is no number counts as empty, so that all trials have the same documents."""
    return {"columns.numbers": [*columns.numbers, *names], "columns.wrong_numbers": "fill"}


def _of_categories(columns: Columns, names: Sequence[str]) -> Change:
    return {"columns.categories": [*columns.categories, *names]}


def _used(columns: Columns) -> set[str]:
    single = (columns.id, columns.date, columns.group, columns.fold, columns.row_weight)
    return {*columns.text, *columns.answers, *single, *columns.numbers, *columns.categories}


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
