"""Judging several plans on the same folds."""

from collections.abc import Mapping, Sequence
from dataclasses import replace
from itertools import product
from operator import attrgetter
from typing import Any

import numpy as np
from msgspec import UNSET, Struct, UnsetType, structs

from upsort.core.arrays import Bools, Ints
from upsort.core.errors import DataProblem, UsageProblem, parts
from upsort.core.evaluation import intervals
from upsort.core.evaluation.cross_validation import CrossValidation, SplitParts, outcome, outcome_of
from upsort.core.evaluation.intervals import Comparison, DifferenceToBest, Rate
from upsort.core.evaluation.measure_list import MEASURES, Measure
from upsort.core.evaluation.novelty import SimilarityRates, rates_by_similarity
from upsort.core.features.corpus_counts import CorpusCounter
from upsort.core.lazy import record
from upsort.core.plan import Plan
from upsort.core.text.cleaning import cleaner
from upsort.core.training.decision import PlanWithResources
from upsort.core.training.folds import INNER_FOLDS, usable_splits
from upsort.io.notices import RejectedRows
from upsort.io.plan.plan_file import changed_plan, parsed_value
from upsort.io.plan.resources import resources_for
from upsort.io.tables.documents import DocumentReader
from upsort.workflows.cross_validate import PreparedFolds
from upsort.workflows.shared.candidates import Candidate, PlanBatch, judge_batches, plan_batches
from upsort.workflows.shared.context import RunContext
from upsort.workflows.shared.corpus import count_blocks, counts_by_plan
from upsort.workflows.shared.results import Rated, SplitCounts

MARGIN = 0.01
_A_GRID = 3  # values of a key, from which on the best one says whether more should be tried


@record(frozen=True, kw_only=True)
class ComparedPlan:
    """One candidate, judged. against_best: documents only it, and only the best, gets right (means over the repeats). difference:
    by how much it is behind the best. exact, folds: p values against the best, corrected for their number (Holm). training: the
    accuracy on the training parts, None where that is not known. bytes: of the classifier. distinct_terms: in the corpus, counted
    its way."""

    candidate: Candidate
    result: CrossValidation
    seconds: float
    against_best: tuple[float, float]
    exact: float
    folds: float
    difference: intervals.DifferenceToBest
    comparison: intervals.Comparison
    training: float | None
    bytes: int
    distinct_terms: int


@record(frozen=True, kw_only=True)
class CompareResult:
    """Best by a measure first; distances are to the most accurate. by: the measure's key. counted: how often the text was cleaned
    and counted. duplicates: how copies and groups were kept on one side. nested: the accuracy of choosing the best on the
    training part of each fold, where that was asked for; nested_by_similarity: the same by similarity. at_the_end: keys whose
    best value is the lowest or the highest of at least three that were tried."""

    compared: list[ComparedPlan]
    by: str
    counted: int
    documents: int
    duplicates: SplitCounts
    nested: intervals.Rate | None
    nested_by_similarity: SimilarityRates | None
    at_the_end: list["RangeEnd"]


@record(frozen=True)
class RangeEnd:
    """The best value of a key is the lowest or the highest that was tried."""

    key: str
    value: float
    lowest: bool


def named_candidates(plan: Plan) -> list[Candidate]:
    """Those of the plan's tables [try.NAME]."""
    return [Candidate(name, changed_plan(plan, sections, f"[try.{name}]")) for name, sections in plan.candidates.items()]


def candidates(plan: Plan, tries: Sequence[str]) -> list[Candidate]:
    """The named candidates of the plan, and all combinations of `section.key=value,value` of `tries`."""
    listed = named_candidates(plan)
    grids = [_grid(text) for text in tries]
    if grids:
        for chosen in product(*(values for _, _, values in grids)):
            sections: dict[str, dict[str, Any]] = {}
            for (section, key, _), value in zip(grids, chosen, strict=True):
                sections.setdefault(section, {})[key] = value
            name = ", ".join(f"{key}={_written(value)}" for (_, key, _), value in zip(grids, chosen, strict=True))
            values = {f"{section}.{key}": value for (section, key, _), value in zip(grids, chosen, strict=True)}
            listed.append(Candidate(name, changed_plan(plan, sections, "--try"), values))
    if len(listed) < 2:
        raise UsageProblem(
            f"To compare takes at least two candidates; there {'is one' if listed else 'are none'}.",
            "For example: --try classifier.kind=naive-bayes,logistic,svm, or tables [try.NAME] in the plan.",
        )
    return listed


def _written(value: Any) -> str:
    """A value as `--try` takes it."""
    parts_of_value = value if isinstance(value, list) else [value]
    return "+".join(map(str, parts_of_value)) if parts_of_value not in ([], [""]) else "none"


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
class ComparisonRequest:
    """nested: choose anew in each fold. command: which one asks. margin: by how large a share of the documents a candidate may be
    behind the best and count as no worse. by: the measure that orders them."""

    nested: bool = False
    command: str = "compare"
    margin: float = MARGIN
    by: Measure = MEASURES["accuracy"]


def compare(work: RunContext, tried: Sequence[Candidate], how: ComparisonRequest | None = None) -> CompareResult:
    """Judge all candidates on the same folds. The text is counted once for all that share that part of the plan."""
    how = how or ComparisonRequest()
    batches, first = plan_batches(work, tried, how.command)
    results = judge_batches(batches, first, work)
    distinct = {number: batch.corpus.measured.distinct for batch in batches for number in batch.methods}
    compared = _compared_to_best(tried, results, distinct, first, how.margin)
    if any(how.by.of(compared_plan.result.evidence) is None for compared_plan in compared):
        remedies = {
            "cost": "Give a table of costs: --set decide.cost_file=FILE, the same for all candidates that have one.",
            "top2_accuracy": "With two labels the own one is always among two.",
        }
        raise UsageProblem(f"Here there is no {how.by.name} to compare by.", remedies.get(how.by.key, "Choose another measure."))
    compared.sort(key=lambda compared_plan: -how.by.better((how.by.of(compared_plan.result.evidence) or intervals.UNKNOWN).value))
    nested = _nested(batches, first, work) if how.nested else None
    return CompareResult(
        compared=compared,
        by=how.by.key,
        counted=len(batches),
        documents=first.documents.documents,
        duplicates=first.duplicates,
        nested=nested[0] if nested is not None else None,
        nested_by_similarity=nested[1] if nested is not None else None,
        at_the_end=_at_the_end([compared_plan.candidate.values for compared_plan in compared]),
    )


def _compared_to_best(
    tried: Sequence[Candidate],
    results: Mapping[int, tuple[CrossValidation, float]],
    distinct: Mapping[int, int],
    judged: PreparedFolds,
    margin: float,
) -> list[ComparedPlan]:
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
                intervals.whole_or_mean(float(np.maximum(difference, 0).sum()) / sample.repeats),
                intervals.whole_or_mean(float(np.maximum(-difference, 0).sum()) / sample.repeats),
            )
        )
        behinds.append(intervals.difference_to_best(-difference / sample.repeats, sample, len(order)))
        exact.append(intervals.sign_test(np.rint(sample.sum_per_document(difference.astype(np.float64))).astype(np.int64)))
        by_folds.append(intervals.corrected_t(np.array(best.accuracies()) - np.array(result.accuracies()), tested, trained))
    exact_all = [1.0, *intervals.holm(np.array(exact[1:])).tolist()]
    folds_all = [1.0, *intervals.holm(np.array(by_folds[1:])).tolist()]
    return [
        ComparedPlan(
            candidate=tried[number],
            result=results[number][0],
            seconds=results[number][1],
            against_best=pairs[place],
            exact=exact_all[place],
            folds=folds_all[place],
            difference=behinds[place],
            comparison=behinds[place].comparison(margin) if place else intervals.Comparison.BEST,
            training=_on_training_parts(results[number][0]),
            bytes=max(fold.bytes for fold in results[number][0].folds),
            distinct_terms=distinct[number],
        )
        for place, number in enumerate(order)
    ]


def _on_training_parts(validation: CrossValidation) -> float | None:
    values = [fold.training_accuracy.value for fold in validation.folds]
    return float(np.mean([value for value in values if value is not None])) if None not in values else None


def _at_the_end(tried: Sequence[Mapping[str, Any]]) -> list[RangeEnd]:
    """tried: the values of each candidate, best first."""
    effects = []
    for key, best in tried[0].items():
        numbers = {values[key] for values in tried if isinstance(values.get(key), int | float)}
        if len(numbers) >= _A_GRID and best in numbers and all(key in values for values in tried):
            lowest, highest = best == min(numbers), best == max(numbers)
            if lowest or highest:
                effects.append(RangeEnd(key, best, lowest))
    return effects


def _nested(
    batches: Sequence[PlanBatch], judged: PreparedFolds, work: RunContext
) -> tuple[intervals.Rate, SimilarityRates | None]:
    """The accuracy, and that by similarity. In each fold, the candidate that is best on folds of its training part is trained
    there and judged on the rest."""
    settings = work.plan.judge

    def of(number: int) -> tuple[Bools, Ints]:
        split = judged.splits.each[number]
        inner = usable_splits(judged.documents.rows(split.training), INNER_FOLDS, settings.seed)
        if not inner:
            raise DataProblem("Too few documents are left inside a fold to choose on.", "Use fewer folds, or leave --nested out.")
        best: tuple[float, PlanBatch, PlanWithResources] | None = None
        for batch in batches:
            parts = SplitParts(batch.documents.rows(split.training), inner)
            for method in (plan_method.for_labels() for plan_method in batch.methods.values()):
                value = sum(outcome(parts, number, method).right(parts.documents) for number in range(len(inner)))
                if best is None or value > best[0]:
                    best = (value, batch, method)
        assert best is not None
        _, batch, method = best
        prediction = outcome_of(batch.documents, split, method)
        return batch.documents.right(prediction.held_out, prediction.sorted_as, prediction.sets), prediction.held_out

    trainings = INNER_FOLDS * sum(len(batch.methods) for batch in batches)
    predictions = work.parallel(judged.documents, "nested cross-validation", trainings)(of, len(judged.splits.each))
    right = np.concatenate([fold_right for fold_right, _ in predictions])
    sample = intervals.Sample.of(np.concatenate([places for _, places in predictions]), settings.repeats, judged.documents.groups)
    similarity = judged.similarity
    by_similarity = rates_by_similarity(similarity, right, sample, settings.similarity) if similarity is not None else None
    return intervals.share_of(right.astype(np.float64), np.ones(right.size), sample), by_similarity


class CandidateResult(Rated, kw_only=True):
    """A candidate. only_it: documents that it alone gets right, and not the most accurate. seconds: of all its trainings, added
    up, whichever process did them."""

    name: str
    only_it: float
    only_the_best: float
    p_exact: float
    p_folds: float
    behind_the_best: intervals.DifferenceToBest
    by_similarity: SimilarityRates | None
    standing: intervals.Comparison
    on_training_parts: float | None
    seconds: float
    bytes: int


class ComparedPlans(SplitCounts, frozen=True, kw_only=True):
    """upsort compare. by: the measure that orders the candidates. counted: how often the text was cleaned and counted."""

    by: str
    candidates: list[CandidateResult]
    counted: int
    at_the_end: list[RangeEnd]
    nested: intervals.Rate | None
    nested_by_similarity: SimilarityRates | None


class StepsResult(Struct, frozen=True, kw_only=True):
    """A list of steps. distinct: terms. p_exact, behind_the_best, standing: on the same folds with the other lists, where there
    are labels."""

    steps: tuple[str, ...]
    distinct: int
    accuracy: Rate | None = None
    p_exact: float | None = None
    behind_the_best: DifferenceToBest | None = None
    standing: Comparison | None = None


class StepsCompared(Struct, frozen=True, kw_only=True):
    """upsort clean --compare-steps. steps: best first, or in the order in which they were asked for where there are no labels."""

    steps: list[StepsResult]
    copies: int | UnsetType = UNSET
    largest_set: int | UnsetType = UNSET
    divided: int | UnsetType = UNSET
    group_count: int | UnsetType | None = UNSET
    taken_out_of_training: int | UnsetType = UNSET
    without_date: int | UnsetType = UNSET
    dates: str | UnsetType = UNSET


def compare_steps(
    work: RunContext, lists: Sequence[tuple[str, ...]], margin: float = MARGIN
) -> tuple[StepsCompared, CompareResult | None]:
    """For each list of steps the size of the vocabulary and, where there are labels, what `compare` says of them, whole."""
    tried = [
        Candidate(", ".join(steps) or "none", replace(work.plan, clean=replace(work.plan.clean, steps=steps))) for steps in lists
    ]
    if not work.plan.columns.label:
        step_results = [
            StepsResult(steps=steps, distinct=_distinct_terms(_spare(work, candidate.plan, number)))
            for number, (steps, candidate) in enumerate(zip(lists, tried, strict=True))
        ]
        return StepsCompared(steps=step_results), None
    whole = compare(work, tried, ComparisonRequest(command="clean --compare-steps", margin=margin))
    results = [
        StepsResult(
            steps=compared.candidate.plan.clean.steps,
            distinct=compared.distinct_terms,
            accuracy=compared.result.overall.accuracy,
            p_exact=compared.exact,
            behind_the_best=compared.difference,
            standing=compared.comparison,
        )
        for compared in whole.compared
    ]
    return StepsCompared(steps=results, **structs.asdict(whole.duplicates)), whole


def _spare(work: RunContext, choices: Plan, number: int) -> RunContext:
    """The same work by another plan; rows are set aside the first time alone."""
    return replace(work, plan=choices, rejects=RejectedRows() if number else work.rejects)


def _distinct_terms(work: RunContext) -> int:
    """How many terms there are."""
    resources = resources_for(work.plan.clean, work.plan.features)
    cleaning = cleaner(work.plan.clean, resources, work.plan.features.within_sentences)
    measuring = CorpusCounter(work.plan.columns, work.plan.features, cleaning.forms)
    for _ in count_blocks(work, DocumentReader.of_plan(work.plan, cleaning), measuring, cleaning, attrgetter("lines")):
        pass
    return counts_by_plan(measuring, work.plan, at_least=1).distinct
