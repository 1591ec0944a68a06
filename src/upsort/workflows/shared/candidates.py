"""Candidate plans: which to try, and batches of plans that count the text alike, so that it is counted once."""

import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import asdict, field, replace
from functools import reduce
from itertools import islice
from math import inf
from typing import Any, get_args

import numpy as np

from upsort.core.analysis.column_summaries import kind_of
from upsort.core.arrays import Ints
from upsort.core.classifiers import families
from upsort.core.errors import Problem, UsageProblem, listed
from upsort.core.evaluation.cross_validation import CrossValidation, FoldPrediction, SplitParts, outcome, validation_of
from upsort.core.evaluation.duplicates import joined
from upsort.core.features.fingerprints import TO_JUDGE
from upsort.core.lazy import record
from upsort.core.plan import Columns, OfText, Plan
from upsort.core.training.decision import Costs, PlanWithResources
from upsort.core.training.labelled import LabelledDocuments
from upsort.io.notices import RejectedRows
from upsort.io.plan.plan_file import changed_plan
from upsort.io.sources.inputs import Inputs
from upsort.io.tables.columns import matching
from upsort.workflows.cross_validate import PreparedFolds, prepare_folds
from upsort.workflows.shared.context import RunContext
from upsort.workflows.shared.corpus import CorpusOptions, LabelColumn, LabelledCorpus, minimum_documents, read_labelled_corpus

_COUNTED_BY = (
    "units", "lengths", "skip", "within_sentences", "apart", "measures", "hashed_columns", "vectors_file", "vocabulary_file"
)  # fmt: skip


@record(frozen=True)
class Candidate:
    """A plan to judge. name: what differs in it. values: of the keys that were tried, by name. parts: where trials are made, what
    is changed."""

    name: str
    plan: Plan
    values: Mapping[str, Any] = field(default_factory=dict)
    parts: "Parts" = field(default_factory=dict)


@record(frozen=True)
class PlanBatch:
    """The candidates that count the text alike. methods: by their numbers."""

    corpus: LabelledCorpus
    documents: LabelledDocuments
    methods: Mapping[int, PlanWithResources]

    def only(self, rows: Ints) -> "PlanBatch":
        """The same with some of the documents."""
        return replace(self, documents=self.documents.rows(rows))


class Corpora:
    """The corpus as plans count it: read once for all that count the text alike, when the first of them is asked for.

    plans: that may be asked for. command: which one asks. times: how often the text was read and counted. Rows that cannot be
    used are set aside by the first reading, which every other is held against."""

    def __init__(self, work: RunContext, plans: Iterable[Plan], command: str) -> None:
        self._work, self._command = work, command
        self._plans: dict[str, list[Plan]] = {}
        for plan in plans:
            self._plans.setdefault(_counted_by(plan), []).append(plan)
        self._corpora: dict[str, tuple[int, LabelledCorpus, LabelColumn]] = {}
        self.times = 0

    def of(self, plan: Plan) -> tuple[LabelledCorpus, LabelColumn]:
        """As the plan counts it. Raises UsageProblem for several label columns, and for other documents than those of the first
        plan."""
        key = _counted_by(plan)
        least = min(map(minimum_documents, [plan, *self._plans.get(key, ())]))
        if key not in self._corpora or self._corpora[key][0] > least:
            rejects = RejectedRows() if self._corpora else self._work.rejects
            corpus = read_labelled_corpus(
                replace(self._work, plan=plan, rejects=rejects),
                CorpusOptions(sketches=TO_JUDGE, numbers=self._command == "choose", at_least=least, with_readers=True),
            )
            self.times += 1
            self._corpora[key] = (least, corpus, corpus.only_answer(self._command))
            self._check_same_documents(key)
        return self._corpora[key][1:]

    def batches(self, tried: Mapping[int, Candidate], groups: Ints | None = None, ends: float = inf) -> list[PlanBatch]:
        """Candidates, by how they count the text. groups: (n,) of the documents. ends: the time of `time.monotonic` after which
        the text is not counted anew; candidates that would need that are left out then, but for the first."""
        alike: dict[str, list[int]] = {}
        for number, candidate in tried.items():
            alike.setdefault(_counted_by(candidate.plan), []).append(number)
        batches: list[PlanBatch] = []
        for key, members in alike.items():
            if batches and key not in self._corpora and time.monotonic() > ends:
                continue
            corpus, answer = self.of(tried[members[0]].plan)
            methods = {number: corpus.method_of(tried[number].plan) for number in members}
            documents = replace(answer.documents, groups=groups) if groups is not None else answer.documents
            batches.append(PlanBatch(corpus, documents, methods))
        return batches

    @property
    def first_column(self) -> LabelColumn:
        """The first answer, with the copies that plans of any text columns found."""
        answers = [answer for _, _, answer in self._corpora.values()]
        copied = reduce(joined, (answer.groups.copied for answer in answers))
        return replace(answers[0], groups=replace(answers[0].groups, copied=copied))

    def _check_same_documents(self, key: str) -> None:
        _, first, first_answer = next(iter(self._corpora.values()))
        _, corpus, answer = self._corpora[key]
        if corpus.metadata.ids != first.metadata.ids or not np.array_equal(answer.rows, first_answer.rows):
            raise UsageProblem(
                "The candidates do not use the same documents, so that they cannot be compared.",
                "Patterns or columns of one candidate set rows aside that others use.",
            )


def plan_batches(work: RunContext, tried: Sequence[Candidate], command: str) -> tuple[list[PlanBatch], PreparedFolds]:
    """All candidates by how they count the text, and the splits that the plan of the work asks for. command: which one asks.

    Raises UsageProblem where they do not use the same documents."""
    corpora = Corpora(work, [candidate.plan for candidate in tried], command)
    batches = corpora.batches(dict(enumerate(tried)))
    first = prepare_folds(batches[0].corpus, work.plan, corpora.first_column)
    return [replace(batch, documents=replace(batch.documents, groups=first.documents.groups)) for batch in batches], first


def shared_costs(batches: Sequence[PlanBatch]) -> Costs | None:
    """The table of costs that the decisions of all candidates are judged by: the one that some of them decide by."""
    methods = [method for batch in batches for method in batch.methods.values()]
    tables = [method.costs for method in methods if method.costs is not None]
    return tables[0] if tables and all(table == tables[0] for table in tables) else None


def judge_batches(
    batches: Sequence[PlanBatch], first: PreparedFolds, work: RunContext
) -> dict[int, tuple[CrossValidation, float]]:
    """Each candidate judged on all splits, with the seconds of its trainings; candidates and splits are one list of work, split
    by split, so that what a split is as numbers is learned once for all that count the text alike, and let go after them."""
    costs, similarity = shared_costs(batches), first.similarity
    parts_of: dict[int, SplitParts] = {}
    splits = len(first.splits.each)
    pieces = [
        (split, place, number) for place, batch in enumerate(batches) for split in range(splits) for number in batch.methods
    ]

    def of(piece: int) -> tuple[FoldPrediction, float]:
        split, place, number = pieces[piece]
        began = time.perf_counter()
        parts = parts_of.get(place)
        if parts is None:
            parts_of.clear()
            parts = parts_of[place] = SplitParts(batches[place].documents, first.splits.each)
        prediction = outcome(parts, split, batches[place].methods[number])
        return prediction, time.perf_counter() - began

    done = dict(zip(pieces, work.parallel(batches[0].documents, "cross-validation")(of, len(pieces)), strict=True))
    results = {}
    for place, batch in enumerate(batches):
        for number, method in batch.methods.items():
            predictions = [done[split, place, number] for split in range(splits)]
            outcomes = [each for each, _ in predictions]
            judged = validation_of(outcomes, batch.documents, method, work.plan.judge.repeats, costs, similarity)
            results[number] = (judged, sum(seconds for _, seconds in predictions))
    return results


def _counted_by(plan: Plan) -> str:
    """What of a plan decides how the text is counted."""
    features = asdict(plan.features)
    return repr((plan.columns, plan.clean, [features[name] for name in _COUNTED_BY]))


Change = Mapping[str, Any]
"""Keys of a plan, each with another value."""


def extra_column_changes(inputs: Inputs, columns: Columns, names: Sequence[str]) -> list[Change]:
    """For each of the named columns what makes a plan sort by it too, then for all of them together.

    names: of columns, or patterns. What a column holds is reported by the first rows of the first table. Raises UsageProblem for
    a column that is not there, has its use already, or holds neither numbers nor few values."""
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
                    raise UsageProblem(f"The column {column!r} has its use already.", f"Leave {column} out of --beside.")
                continue
            kind = kind_of([row[place] for row in rows])
            if kind == "number":
                numbers.append(column)
            elif kind == "category":
                categories.append(column)
            elif single:
                raise UsageProblem(
                    f"The column {column!r} holds {_TYPE_WORDS[kind]}; use numbers, or few different values, next to the text.",
                    f"Leave {column} out of --beside.",
                )
    numbers, categories = list(dict.fromkeys(numbers)), list(dict.fromkeys(categories))
    if names and not numbers and not categories:
        raise UsageProblem(
            f"No column like {listed(names)} holds numbers, or few different values.",
            "upsort survey --columns shows what columns hold.",
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
_STEPS = ("stop_words", "stem")
_TERMS_OF_LETTERS = 100_000
_LINKED_KEYS = (("features.units", "features.most_terms", "features.lengths"), ("columns.numbers", "columns.wrong_numbers"))
_KIND = "classifier.kind"
_PENALTY, _TIMES_THE_PENALTY = "classifier.penalty", (0.3, 3.0)


_EXTRA_COLUMNS = 0  # the number of their axis
Parts = Mapping[int, Change]
"""Changes by the number of the axis that they are on, of which a plan has at most one each."""


def trials(plan: Plan, most: int, extra_columns: Sequence[Change] = ()) -> list[Candidate]:
    """At most so many candidates: the plan as it is, then each of the changes alone, in the same order for the same plan; those
    that count n-grams last, as they take the longest.

    extra_columns: changes that make a plan sort by columns next to the text."""
    as_it_is, *changed = islice(_distinct(plan, _single_parts(plan, extra_columns), ()), most)

    def grams(candidate: Candidate) -> tuple[bool, int]:
        return candidate.plan.features.units == "letters", max(candidate.plan.features.lengths)

    return [as_it_is, *sorted(changed, key=grams)]


def combinations(
    plan: Plan, best: Candidate, ranked: Sequence[Candidate], extra_columns: Sequence[Change] = ()
) -> Iterator[Candidate]:
    """Candidates that differ from the best in one more change, or in another one on an axis: first in the columns next to the
    text, then in the kind of classifier, then in the penalty, then in the order in which those changes alone are ranked, then in
    those that were not tried alone. ranked: all candidates so far."""
    single = [candidate.parts for candidate in ranked if len(candidate.parts) == 1]
    single += [parts for parts in _single_parts(plan, extra_columns) if parts and parts not in single]

    def turn(parts: Parts) -> int:
        ((axis, change),) = parts.items()
        return [axis == _EXTRA_COLUMNS, _KIND in change, _PENALTY in change, True].index(True)

    single.sort(key=turn)
    return _distinct(plan, ({**best.parts, **parts} for parts in single), ranked)


def _distinct(plan: Plan, all_parts: Iterable[Parts], known: Sequence[Candidate]) -> Iterator[Candidate]:
    """The candidates of changes that go together, each plan once, without those that are known."""
    plans = [candidate.plan for candidate in known]
    for parts in all_parts:
        change = {key: value for _, part in sorted(parts.items()) for key, value in part.items()}
        try:
            candidate = replace(_changed(plan, _resolved(plan, change)), parts=parts)
        except Problem:  # these do not go together
            continue
        if candidate.plan not in plans:
            plans.append(candidate.plan)
            yield candidate


def _single_parts(plan: Plan, extra_columns: Sequence[Change]) -> Iterator[Parts]:
    """Nothing, then each change alone, the first of every axis before the second of any."""
    yield {}
    axes = [list(extra_columns), *_axes(plan)]
    for rank in range(max(map(len, axes))):
        for place, axis in enumerate(axes):
            if rank < len(axis):
                yield {place: axis[rank]}


def _axes(plan: Plan) -> list[list[Change]]:
    """For each thing that may be chosen otherwise, the changes: of keys, each with its value."""
    kinds = [kind for kind, record in families.FAMILIES.items() if record.searched and kind != plan.classifier.kind]
    if plan.columns.label_separator:
        kinds = [kind for kind in kinds if families.FAMILIES[kind].sets]
    terms = plan.features.most_terms and max(plan.features.most_terms, _TERMS_OF_LETTERS)
    letters = {"features.units": "letters", "features.most_terms": terms}
    steps = plan.clean.steps
    with_steps = [(*steps, *_STEPS[:many]) for many in range(1, len(_STEPS) + 1) if not set(_STEPS[:many]) & set(steps)]
    return [
        [{_KIND: kind} for kind in kinds],
        [{"features.lengths": [1, 2]}, *(letters | {"features.lengths": lengths} for lengths in ([2, 4], [3, 5]))],
        [{"clean.steps": list(step_names)} for step_names in with_steps],
        [{"features.weighting": name} for name in ("presence", "bm25") if name != plan.features.weighting],
        [{"features.in_at_least": bound} for bound in (1, 3) if bound != plan.features.in_at_least],
        [{_PENALTY: times} for times in _TIMES_THE_PENALTY],
        [] if plan.classifier.label_weights != "equal" else [{"classifier.label_weights": "even"}],
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


def linked_choices(values: Mapping[str, object]) -> list[tuple[str, ...]]:
    """The keys that were chosen together: letters come with their lengths, numbers with what is done with wrong ones."""
    groups = [keys for keys in _LINKED_KEYS if all(key in values for key in keys)]
    grouped = {key for keys in groups for key in keys}
    return [*groups, *((key,) for key in values if key not in grouped)]


def description_of(change: Change, keys: tuple[str, ...]) -> str:
    """Some keys of a change with their values."""
    return ", ".join(f"{key}={_written(change[key])}" for key in keys)


def _written(value: Any) -> str:
    if isinstance(value, list):
        return "+".join(map(str, value))
    return f"{value:g}" if isinstance(value, float) else str(value)
