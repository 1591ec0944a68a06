"""Judging several plans on the same folds."""

import time
from collections.abc import Mapping, Sequence
from dataclasses import asdict, field, replace
from functools import reduce
from itertools import product
from typing import Any

import numpy as np

from upsort.core.arrays import Bools, Ints
from upsort.core.classifiers.families import family
from upsort.core.errors import DataProblem, UsageProblem
from upsort.core.judging.behind import Behind, Standing, behind
from upsort.core.judging.cross_validation import CrossValidation, judged_by
from upsort.core.judging.intervals import UNKNOWN, Rate, share_of, whole_or_mean
from upsort.core.judging.measure import Measure
from upsort.core.judging.measure_list import MEASURES
from upsort.core.judging.paired import corrected_t, holm, sign_test
from upsort.core.judging.protocol import Outcome, Parts, outcome, outcome_of
from upsort.core.judging.sample import Sample
from upsort.core.judging.together import joined
from upsort.core.learning.inner import INNER_FOLDS, dealt_splits
from upsort.core.learning.labelled import Labelled
from upsort.core.learning.method import Costs, Method
from upsort.core.lists import parts
from upsort.core.plan import Plan
from upsort.core.records import record
from upsort.files.plan_file import changed_plan, parsed_value
from upsort.files.set_aside import SetAside
from upsort.jobs.corpus import Answer, Keeping, LabelledCorpus, read_labelled_corpus
from upsort.jobs.judging import Kept, Prepared, prepared
from upsort.jobs.work import Work

MARGIN = 0.01
_A_GRID = 3  # values of a key, from which on the best one tells whether more should be tried
_COUNTED_BY = (
    "units", "lengths", "skip", "within_sentences", "apart", "measures", "hash_bits", "vectors_file", "vocabulary_file"
)  # fmt: skip


@record(frozen=True)
class Candidate:
    """A plan to judge. name: what differs in it. values: of the keys that were tried, by name."""

    name: str
    plan: Plan
    values: Mapping[str, Any] = field(default_factory=dict)


@record(frozen=True, kw_only=True)
class Compared:
    """One candidate, judged. against_best: documents only it, and only the best, gets right (means over the repeats). behind: by
    how much it is behind the best. exact, folds: p values against the best, corrected for their number (Holm). training: the
    accuracy on the training parts, None where that is not known. bytes: of the classifier. distinct_terms: in the corpus,
    counted its way."""

    candidate: Candidate
    result: CrossValidation
    seconds: float
    against_best: tuple[float, float]
    exact: float
    folds: float
    behind: Behind
    standing: Standing
    training: float | None
    bytes: int
    distinct_terms: int


@record(frozen=True, kw_only=True)
class CompareResult:
    """Best by a measure first; distances are to the most accurate. by: the measure's key. counted: how often the text was cleaned
    and counted. kept: how copies and groups were kept on one side. nested: the accuracy of choosing the best on the training part
    of each fold, where that was asked for. at_the_end: keys whose best value is the lowest or the highest of at least three that
    were tried."""

    compared: list[Compared]
    by: str
    counted: int
    documents: int
    kept: Kept
    nested: Rate | None
    at_the_end: list["AtTheEnd"]


@record(frozen=True)
class AtTheEnd:
    """The best value of a key is the lowest or the highest that was tried."""

    key: str
    value: float
    lowest: bool


def named_candidates(plan: Plan) -> list[Candidate]:
    """Those of the plan's tables [try.NAME]."""
    return [
        Candidate(name, changed_plan(plan, sections, f"[try.{name}]")) for name, sections in plan.candidates.items()
    ]


def candidates(plan: Plan, tries: Sequence[str]) -> list[Candidate]:
    """The named candidates of the plan, and all combinations of `section.key=value,value` of `tries`."""
    found = named_candidates(plan)
    grids = [_grid(text) for text in tries]
    if grids:
        for chosen in product(*(values for _, _, values in grids)):
            sections: dict[str, dict[str, Any]] = {}
            for (section, key, _), value in zip(grids, chosen, strict=True):
                sections.setdefault(section, {})[key] = value
            name = ", ".join(
                f"{key}={value if value != '' else 'none'}" for (_, key, _), value in zip(grids, chosen, strict=True)
            )
            values = {f"{section}.{key}": value for (section, key, _), value in zip(grids, chosen, strict=True)}
            found.append(Candidate(name, changed_plan(plan, sections, "--try"), values))
    if len(found) < 2:
        raise UsageProblem(
            f"To compare takes at least two candidates; there {'is one' if found else 'are none'}.",
            "For example: --try classifier.kind=naive-bayes,logistic,svm, or tables [try.NAME] in the plan.",
        )
    return found


def _grid(text: str) -> tuple[str, str, list[Any]]:
    name, equals, values = text.partition("=")
    section, dot, key = name.strip().partition(".")
    if not (equals and dot and section and key):
        raise UsageProblem(
            f"--try takes section.key=value,value, not {text!r}.", "For example: --try classifier.kind=logistic,svm"
        )
    # Where a value is a list itself, its parts are joined by +: clean.steps=lower+stem,lower+lemmas
    return section, key, [_value(section, key, part) for part in parts(values)]


def _value(section: str, key: str, text: str) -> Any:
    default = getattr(getattr(Plan(), section, None), key, None)
    if isinstance(default, tuple):
        return [parsed_value(part) for part in text.split("+") if part]
    return parsed_value(text)


@record(frozen=True, kw_only=True)
class Comparing:
    """nested: choose anew in each fold. command: which one asks. margin: by how large a
    share of the documents a candidate may be behind the best and count as no worse. by: the measure that orders them."""

    nested: bool = False
    command: str = "compare"
    margin: float = MARGIN
    by: Measure = MEASURES["accuracy"]


def compare(work: Work, tried: Sequence[Candidate], how: Comparing | None = None) -> CompareResult:
    """Judge all candidates on the same folds. The text is counted once for all that share that part of the plan."""
    how = how or Comparing()
    rounds: list[_Round] = []
    answers: list[Answer] = []
    for members in _counted_alike(tried).values():
        spare = replace(work, aside=SetAside()) if rounds else work
        corpus = _counted(spare, [tried[number].plan for number in members])
        answers.append(corpus.only_answer(how.command))
        methods = {number: corpus.method_of(tried[number].plan) for number in members}
        rounds.append(_Round(corpus, answers[-1].documents, methods))
    first = prepared(rounds[0].corpus, work.plan, _together(rounds, answers))
    rounds = [replace(one, documents=replace(one.documents, groups=first.documents.groups)) for one in rounds]
    costs = _shared_costs([method for one in rounds for method in one.methods.values()])
    results = _judged(rounds, first, costs, work)
    distinct = {number: one.corpus.measured.distinct for one in rounds for number in one.methods}
    compared = _against_the_best(tried, results, distinct, first, how.margin)
    if any(how.by.of(one.result.evidence) is None for one in compared):
        remedies = {
            "cost": "Give a table of costs: --set decide.cost_file=FILE, the same for all candidates that have one.",
            "top2_accuracy": "With two labels the own one is always among two.",
        }
        raise UsageProblem(
            f"Here there is no {how.by.name} to compare by.", remedies.get(how.by.key, "Choose another measure.")
        )
    compared.sort(key=lambda one: -how.by.better((how.by.of(one.result.evidence) or UNKNOWN).value))
    return CompareResult(
        compared=compared,
        by=how.by.key,
        counted=len(rounds),
        documents=first.documents.documents,
        kept=first.kept,
        nested=_nested(rounds, first, work) if how.nested else None,
        at_the_end=_at_the_end([one.candidate.values for one in compared]),
    )


def _shared_costs(methods: Sequence[Method]) -> Costs | None:
    """The table of costs that the decisions of all candidates are judged by: the one that some of them decide by."""
    tables = [method.costs for method in methods if method.costs is not None]
    return tables[0] if tables and all(table == tables[0] for table in tables) else None


@record(frozen=True)
class _Round:
    """The candidates that count the text alike. methods: by their numbers."""

    corpus: LabelledCorpus
    documents: Labelled
    methods: Mapping[int, Method]


def _judged(
    rounds: Sequence[_Round], first: Prepared, costs: Costs | None, work: Work
) -> dict[int, tuple[CrossValidation, float]]:
    """Each candidate judged on all splits, with the seconds of its trainings; candidates and splits are one list of work, split
    by split, so that what a split is as numbers is learned once for all that count the text alike, and let go after them."""
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


def _together(rounds: Sequence[_Round], answers: Sequence[Answer]) -> Answer:
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


def _against_the_best(
    tried: Sequence[Candidate],
    results: Mapping[int, tuple[CrossValidation, float]],
    distinct: Mapping[int, int],
    judged: Prepared,
    margin: float,
) -> list[Compared]:
    order = sorted(results, key=lambda number: -(results[number][0].overall.accuracy.value or 0.0))
    best = results[order[0]][0]
    best_right, sample = best.times_right(), best.sample
    tested = float(np.mean([split.held_out.size for split in judged.splits.each]))
    trained = float(np.mean([split.training.size for split in judged.splits.each]))
    pairs, exact, by_folds, behinds = [], [], [], []
    for number in order:
        result = results[number][0]
        difference = result.times_right() - best_right
        pairs.append(
            (
                whole_or_mean(float(np.maximum(difference, 0).sum()) / sample.repeats),
                whole_or_mean(float(np.maximum(-difference, 0).sum()) / sample.repeats),
            )
        )
        behinds.append(behind(-difference / sample.repeats, sample, len(order)))
        exact.append(sign_test(np.rint(sample.summed(difference.astype(np.float64))).astype(np.int64)))
        by_folds.append(corrected_t(np.array(best.accuracies()) - np.array(result.accuracies()), tested, trained))
    exact_all = [1.0, *holm(np.array(exact[1:])).tolist()]
    folds_all = [1.0, *holm(np.array(by_folds[1:])).tolist()]
    return [
        Compared(
            candidate=tried[number],
            result=results[number][0],
            seconds=results[number][1],
            against_best=pairs[place],
            exact=exact_all[place],
            folds=folds_all[place],
            behind=behinds[place],
            standing=behinds[place].standing(margin) if place else Standing.BEST,
            training=_on_training_parts(results[number][0]),
            bytes=max(fold.bytes for fold in results[number][0].folds),
            distinct_terms=distinct[number],
        )
        for place, number in enumerate(order)
    ]


def _on_training_parts(found: CrossValidation) -> float | None:
    values = [fold.training_accuracy.value for fold in found.folds]
    return float(np.mean([value for value in values if value is not None])) if None not in values else None


def _at_the_end(tried: Sequence[Mapping[str, Any]]) -> list[AtTheEnd]:
    """tried: the values of each candidate, best first."""
    found = []
    for key, best in tried[0].items():
        numbers = {values[key] for values in tried if isinstance(values.get(key), int | float)}
        if len(numbers) >= _A_GRID and best in numbers and all(key in values for values in tried):
            lowest, highest = best == min(numbers), best == max(numbers)
            if lowest or highest:
                found.append(AtTheEnd(key, best, lowest))
    return found


def _nested(rounds: Sequence[_Round], judged: Prepared, work: Work) -> Rate:
    """In each fold, the candidate that is best on folds of its training part is trained there and judged on the rest."""
    settings = work.plan.judge

    def of(number: int) -> tuple[Bools, Ints]:
        split = judged.splits.each[number]
        inner = dealt_splits(judged.documents.rows(split.training), INNER_FOLDS, settings.seed)
        if not inner:
            raise DataProblem(
                "Too few documents are left inside a fold to choose on.", "Use fewer folds, or leave --nested out."
            )
        best: tuple[float, _Round, Method] | None = None
        for one in rounds:
            parts = Parts(one.documents.rows(split.training), inner)
            for method in (asked.for_labels() for asked in one.methods.values()):
                value = sum(outcome(parts, number, method).right(parts.documents) for number in range(len(inner)))
                if best is None or value > best[0]:
                    best = (value, one, method)
        assert best is not None
        _, one, method = best
        found = outcome_of(one.documents, split, method)
        return one.documents.right(found.held_out, found.sorted_as, found.sets), found.held_out

    trainings = INNER_FOLDS * sum(len(one.methods) for one in rounds)
    found = work.spread(judged.documents, trainings)(of, len(judged.splits.each))
    every = np.concatenate([right for right, _ in found]).astype(np.float64)
    sample = Sample.of(np.concatenate([places for _, places in found]), settings.repeats, judged.documents.groups)
    return share_of(every, np.ones(every.size), sample)
