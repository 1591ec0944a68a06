"""Plans judged on the same documents: the text is counted once for all that share that part of the plan, when it is asked for."""

import time
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import asdict, field, replace
from functools import reduce
from typing import Any

import numpy as np

from upsort.core.arrays import Ints
from upsort.core.errors import UsageProblem
from upsort.core.evaluation.cross_validation import CrossValidation, FoldPrediction, SplitParts, outcome, validation_of
from upsort.core.evaluation.duplicates import joined
from upsort.core.lazy import record
from upsort.core.plan import Plan
from upsort.core.training.decision import Costs, PlanWithResources
from upsort.core.training.labelled import LabelledDocuments
from upsort.io.outputs.rejects import RejectedRows
from upsort.workflows.context import RunContext
from upsort.workflows.corpus import CorpusOptions, LabelColumn, LabelledCorpus, minimum_documents, read_labelled_corpus
from upsort.workflows.cross_validate import PreparedFolds, prepare_folds

_COUNTED_BY = (
    "units", "lengths", "skip", "within_sentences", "apart", "measures", "hash_bits", "vectors_file", "vocabulary_file"
)  # fmt: skip


@record(frozen=True)
class Candidate:
    """A plan to judge. name: what differs in it. values: of the keys that were tried, by name."""

    name: str
    plan: Plan
    values: Mapping[str, Any] = field(default_factory=dict)


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
    used are set aside by the first reading, which every other is held against.
    """

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
                replace(self._work, plan=plan, rejects=rejects), CorpusOptions(at_least=least, with_readers=True)
            )
            self.times += 1
            self._corpora[key] = (least, corpus, corpus.only_answer(self._command))
            self._check_same_documents(key)
        return self._corpora[key][1:]

    def batches(self, tried: Mapping[int, Candidate], groups: Ints | None = None) -> list[PlanBatch]:
        """Candidates, by how they count the text. groups: (n,) of the documents."""
        alike: dict[str, list[int]] = {}
        for number, candidate in tried.items():
            alike.setdefault(_counted_by(candidate.plan), []).append(number)
        batches = []
        for members in alike.values():
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

    Raises UsageProblem where they do not use the same documents.
    """
    corpora = Corpora(work, [candidate.plan for candidate in tried], command)
    batches = corpora.batches(dict(enumerate(tried)))
    first = prepare_folds(batches[0].corpus, work.plan, corpora.first_column)
    return [
        replace(batch, documents=replace(batch.documents, groups=first.documents.groups)) for batch in batches
    ], first


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
    costs = shared_costs(batches)
    parts_of: dict[int, SplitParts] = {}
    splits = len(first.splits.each)
    pieces = [
        (split, place, number)
        for place, batch in enumerate(batches)
        for split in range(splits)
        for number in batch.methods
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

    done = dict(zip(pieces, work.parallel(batches[0].documents)(of, len(pieces)), strict=True))
    results = {}
    for place, batch in enumerate(batches):
        for number, method in batch.methods.items():
            predictions = [done[split, place, number] for split in range(splits)]
            outcomes = [each for each, _ in predictions]
            judged = validation_of(outcomes, batch.documents, method, work.plan.judge.repeats, costs)
            results[number] = (judged, sum(seconds for _, seconds in predictions))
    return results


def _counted_by(plan: Plan) -> str:
    """What of a plan decides how the text is counted."""
    features = asdict(plan.features)
    return repr((plan.columns, plan.clean, [features[name] for name in _COUNTED_BY]))
