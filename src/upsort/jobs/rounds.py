"""Plans judged on the same documents: the text is counted once for all that share that part of the plan."""

import time
from collections.abc import Mapping, Sequence
from dataclasses import asdict, field, replace
from functools import reduce
from typing import Any

import numpy as np

from upsort.core.arrays import Ints
from upsort.core.classifiers.families import family
from upsort.core.errors import UsageProblem
from upsort.core.judging.cross_validation import CrossValidation, judged_by
from upsort.core.judging.protocol import Outcome, Parts, outcome
from upsort.core.judging.together import joined
from upsort.core.learning.labelled import Labelled
from upsort.core.learning.method import Costs, Method
from upsort.core.plan import Plan
from upsort.core.records import record
from upsort.files.set_aside import SetAside
from upsort.jobs.corpus import Answer, Keeping, LabelledCorpus, read_labelled_corpus
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


def rounds_of(work: Work, tried: Sequence[Candidate], command: str) -> tuple[list[Round], Prepared]:
    """All candidates by how they count the text, and the splits that the plan of the work asks for. command: which one asks.

    Raises UsageProblem where they do not use the same documents.
    """
    rounds: list[Round] = []
    answers: list[Answer] = []
    for members in _counted_alike(tried).values():
        spare = replace(work, aside=SetAside()) if rounds else work
        corpus = _counted(spare, [tried[number].plan for number in members])
        answers.append(corpus.only_answer(command))
        methods = {number: corpus.method_of(tried[number].plan) for number in members}
        rounds.append(Round(corpus, answers[-1].documents, methods))
    first = prepared(rounds[0].corpus, work.plan, _together(rounds, answers))
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
        if place not in held:
            held.clear()
            held[place] = Parts(rounds[place].documents, first.splits.each)
        found = outcome(held[place], split, rounds[place].methods[number])
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


def _together(rounds: Sequence[Round], answers: Sequence[Answer]) -> Answer:
    """The first answer, with the copies that candidates of any text columns find. Raises UsageProblem for other documents."""
    first = answers[0]
    for one, answer in zip(rounds, answers, strict=True):
        if one.corpus.marks.ids != rounds[0].corpus.marks.ids or not np.array_equal(answer.rows, first.rows):
            raise UsageProblem(
                "The candidates do not use the same documents, so that they cannot be compared.",
                "Patterns or columns of one candidate set rows aside that others use.",
            )
    copied = reduce(joined, (answer.together.copied for answer in answers))
    return replace(first, together=replace(first.together, copied=copied))


def _counted_alike(tried: Sequence[Candidate]) -> dict[str, list[int]]:
    groups: dict[str, list[int]] = {}
    for number, candidate in enumerate(tried):
        features = asdict(candidate.plan.features)
        key = repr((candidate.plan.columns, candidate.plan.clean, [features[name] for name in _COUNTED_BY]))
        groups.setdefault(key, []).append(number)
    return groups


def _counted(work: Work, plans: Sequence[Plan]) -> LabelledCorpus:
    """The corpus counted once for all of some plans: with the terms that the most generous of them keeps."""
    least = min(plan.features.in_at_least for plan in plans)
    whole = plans[0].features.vocabulary_file or plans[0].features.hash_bits
    keep_all = whole or any(family(plan.classifier).additive for plan in plans)
    keeping = Keeping(at_least=1 if keep_all else least)
    return read_labelled_corpus(replace(work, plan=plans[0]), keeping)
