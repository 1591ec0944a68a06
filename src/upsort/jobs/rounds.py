"""Plans judged on the same documents: the text is counted once for all that share that part of the plan, when it is asked for."""

import time
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import asdict, field, replace
from functools import reduce
from typing import Any

import numpy as np

from upsort.core.arrays import Ints
from upsort.core.errors import UsageProblem
from upsort.core.judging.cross_validation import CrossValidation, judged_by
from upsort.core.judging.protocol import Outcome, Parts, outcome
from upsort.core.judging.together import joined
from upsort.core.learning.labelled import Labelled
from upsort.core.learning.method import Costs, Method
from upsort.core.plan import Plan
from upsort.core.records import record
from upsort.files.set_aside import SetAside
from upsort.jobs.corpus import Answer, Keeping, LabelledCorpus, least_documents, read_labelled_corpus
from upsort.jobs.judging import Prepared, prepared
from upsort.jobs.work import Work

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
class Round:
    """The candidates that count the text alike. methods: by their numbers."""

    corpus: LabelledCorpus
    documents: Labelled
    methods: Mapping[int, Method]

    def only(self, rows: Ints) -> "Round":
        """The same with some of the documents."""
        return replace(self, documents=self.documents.rows(rows))


class Corpora:
    """The corpus as plans count it: read once for all that count the text alike, when the first of them is asked for.

    plans: that may be asked for. command: which one asks. times: how often the text was read and counted. Rows that cannot be
    used are set aside by the first reading, which every other is held against.
    """

    def __init__(self, work: Work, plans: Iterable[Plan], command: str) -> None:
        self._work, self._command = work, command
        self._plans: dict[str, list[Plan]] = {}
        for plan in plans:
            self._plans.setdefault(_counted_by(plan), []).append(plan)
        self._held: dict[str, tuple[int, LabelledCorpus, Answer]] = {}
        self.times = 0

    def of(self, plan: Plan) -> tuple[LabelledCorpus, Answer]:
        """As the plan counts it. Raises UsageProblem for several label columns, and for other documents than those of the first
        plan."""
        key = _counted_by(plan)
        least = min(map(least_documents, [plan, *self._plans.get(key, ())]))
        if key not in self._held or self._held[key][0] > least:
            aside = SetAside() if self._held else self._work.aside
            corpus = read_labelled_corpus(
                replace(self._work, plan=plan, aside=aside), Keeping(at_least=least, with_readers=True)
            )
            self.times += 1
            self._held[key] = (least, corpus, corpus.only_answer(self._command))
            self._hold_against_first(key)
        return self._held[key][1:]

    def rounds(self, tried: Mapping[int, Candidate], groups: Ints | None = None) -> list[Round]:
        """Candidates, by how they count the text. groups: (n,) of the documents."""
        alike: dict[str, list[int]] = {}
        for number, candidate in tried.items():
            alike.setdefault(_counted_by(candidate.plan), []).append(number)
        found = []
        for members in alike.values():
            corpus, answer = self.of(tried[members[0]].plan)
            methods = {number: corpus.method_of(tried[number].plan) for number in members}
            documents = replace(answer.documents, groups=groups) if groups is not None else answer.documents
            found.append(Round(corpus, documents, methods))
        return found

    @property
    def together(self) -> Answer:
        """The first answer, with the copies that plans of any text columns found."""
        answers = [answer for _, _, answer in self._held.values()]
        copied = reduce(joined, (answer.together.copied for answer in answers))
        return replace(answers[0], together=replace(answers[0].together, copied=copied))

    def _hold_against_first(self, key: str) -> None:
        _, first, first_answer = next(iter(self._held.values()))
        _, corpus, answer = self._held[key]
        if corpus.marks.ids != first.marks.ids or not np.array_equal(answer.rows, first_answer.rows):
            raise UsageProblem(
                "The candidates do not use the same documents, so that they cannot be compared.",
                "Patterns or columns of one candidate set rows aside that others use.",
            )


def rounds_of(work: Work, tried: Sequence[Candidate], command: str) -> tuple[list[Round], Prepared]:
    """All candidates by how they count the text, and the splits that the plan of the work asks for. command: which one asks.

    Raises UsageProblem where they do not use the same documents.
    """
    corpora = Corpora(work, [one.plan for one in tried], command)
    rounds = corpora.rounds(dict(enumerate(tried)))
    first = prepared(rounds[0].corpus, work.plan, corpora.together)
    return [replace(one, documents=replace(one.documents, groups=first.documents.groups)) for one in rounds], first


def shared_costs(rounds: Sequence[Round]) -> Costs | None:
    """The table of costs that the decisions of all candidates are judged by: the one that some of them decide by."""
    methods = [method for one in rounds for method in one.methods.values()]
    tables = [method.costs for method in methods if method.costs is not None]
    return tables[0] if tables and all(table == tables[0] for table in tables) else None


def judged_on(rounds: Sequence[Round], first: Prepared, work: Work) -> dict[int, tuple[CrossValidation, float]]:
    """Each candidate judged on all splits, with the seconds of its trainings; candidates and splits are one list of work, split
    by split, so that what a split is as numbers is learned once for all that count the text alike, and let go after them."""
    costs = shared_costs(rounds)
    held: dict[int, Parts] = {}
    splits = len(first.splits.each)
    pieces = [
        (split, place, number) for place, one in enumerate(rounds) for split in range(splits) for number in one.methods
    ]

    def of(piece: int) -> tuple[Outcome, float]:
        split, place, number = pieces[piece]
        began = time.perf_counter()
        parts = held.get(place)
        if parts is None:
            held.clear()
            parts = held[place] = Parts(rounds[place].documents, first.splits.each)
        found = outcome(parts, split, rounds[place].methods[number])
        return found, time.perf_counter() - began

    done = dict(zip(pieces, work.spread(rounds[0].documents)(of, len(pieces)), strict=True))
    results = {}
    for place, one in enumerate(rounds):
        for number, method in one.methods.items():
            found = [done[split, place, number] for split in range(splits)]
            outcomes = [each for each, _ in found]
            judged = judged_by(outcomes, one.documents, method, work.plan.judge.repeats, costs)
            results[number] = (judged, sum(seconds for _, seconds in found))
    return results


def _counted_by(plan: Plan) -> str:
    """What of a plan decides how the text is counted."""
    features = asdict(plan.features)
    return repr((plan.columns, plan.clean, [features[name] for name in _COUNTED_BY]))
