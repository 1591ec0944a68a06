"""Prepare folds for every command that evaluates, cross-validate a plan, and measure the learning curve."""

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Annotated

import numpy as np
from msgspec import UNSET, Struct, UnsetType

from upsort.core.arrays import Floats, Ints
from upsort.core.dates import Dates, dates_of
from upsort.core.errors import DataProblem
from upsort.core.evaluation import cross_validation
from upsort.core.evaluation.cross_validation import SplitParts
from upsort.core.evaluation.intervals import Rate, Sample, share_of
from upsort.core.evaluation.leaks import Leak
from upsort.core.evaluation.learning_curve import LearningCurve, PowerLaw, fit_learning_curve, measure_learning_curve
from upsort.core.evaluation.novelty import SimilarityRates, rates_by_similarity, similarities_on_splits
from upsort.core.evaluation.splits import SplitOrder, Splits, splits
from upsort.core.features.fingerprints import TO_JUDGE, Sketches
from upsort.core.lazy import record
from upsort.core.plan import Plan
from upsort.core.text.characters import joined_labels
from upsort.core.training.labelled import LabelledDocuments
from upsort.io.outputs.table_file import table_file
from upsort.plots.evaluation_figures import GrowthPoint, growth_figure
from upsort.workflows.shared.context import RunContext
from upsort.workflows.shared.corpus import CorpusOptions, LabelColumn, LabelledCorpus, read_labelled_corpus
from upsort.workflows.shared.figures import save
from upsort.workflows.shared.results import JudgementResult, SplitCounts, described


@record(frozen=True, kw_only=True)
class PreparedFolds:
    """documents: with their groups. splits: to judge by. name: of the answer. rows: (n,) their places in the corpus. sketches:
    of the documents, where all are known."""

    documents: LabelledDocuments
    splits: Splits
    duplicates: SplitCounts
    name: str
    rows: Ints
    sketches: Sketches | None

    @property
    def similarity(self) -> Floats | None:
        """(m,) of the held-out documents, split by split, to the nearest training document; None where that is not known."""
        return similarities_on_splits(self.sketches, self.splits.each) if self.sketches is not None else None

    @property
    def parts(self) -> SplitParts:
        """The two sides of each split, not yet learned from."""
        return SplitParts(self.documents, self.splits.each)


def prepare_folds(corpus: LabelledCorpus, plan: Plan, answer: LabelColumn, allow_copies: bool | None = None) -> PreparedFolds:
    """The splits that a plan asks for. allow_copies: otherwise than the plan says."""
    allowed = plan.judge.allow_copies if allow_copies is None else allow_copies
    groups = answer.groups
    documents = replace(answer.documents, groups=groups.named if allowed else groups.groups)
    metadata, rows = corpus.metadata, answer.rows.tolist()
    cells = [metadata.dates[row] for row in rows] if plan.columns.date else []
    dates = dates_of(cells, plan.columns.date_format)
    order = SplitOrder(
        day_numbers(cells, dates) if plan.columns.date else None,
        [metadata.folds[row] for row in rows] if plan.columns.fold else (),
    )
    made = splits(documents, plan.judge, order)
    named = np.unique(groups.named).size if groups.named is not None else None
    sketches = corpus.sketches_of(answer)
    duplicates = SplitCounts(
        copies=groups.copies,
        largest_set=groups.largest,
        divided=0 if allowed else groups.divided,
        taken_out_of_training=sum(made.excluded),
        without_date=made.undated,
        group_count=named,
        dates=dates.description(plan.columns.date) if plan.judge.in_time else "",
    )
    return PreparedFolds(
        documents=documents,
        splits=made,
        duplicates=duplicates,
        name=answer.name,
        rows=answer.rows,
        sketches=sketches if sketches is not None and sketches.kept == documents.documents else None,
    )


def day_numbers(cells: Sequence[str], dates: Dates) -> Floats:
    """(n,) numbers of days, NaN where a cell holds none."""
    days = [dates.day_number(cell) for cell in cells]
    return np.array([day.toordinal() if day is not None else np.nan for day in days], dtype=np.float64)


@record(frozen=True, kw_only=True)
class CrossValidateResult:
    """One answer. duplicates: how similar documents and groups were kept on one side; other: the result when similar documents
    may be on both sides, or where they are allowed to, when they may not; None where that makes no difference. copied: the
    accuracy on documents that resemble another, apart and together. trained_on: mean number of documents that a fold's sorter
    was trained on."""

    name: str
    result: cross_validation.CrossValidation
    other: cross_validation.CrossValidation | None
    copied: tuple[Rate, Rate] | None
    duplicates: SplitCounts
    documents: int
    trained_on: int
    distinct_terms: int
    leaks: list[Leak]


def cross_validate(work: RunContext, output: Path | None = None) -> list[CrossValidateResult]:
    """Read and count once, then train and judge fold by fold, answer by answer. output: a table of what each got."""
    corpus_options = CorpusOptions(sketches=TO_JUDGE, numbers=True, ids=output is not None, with_readers=True)
    corpus = read_labelled_corpus(work, corpus_options)
    method, repeats = corpus.method_of(work.plan), work.plan.judge.repeats
    results = []
    for answer in corpus.answers:
        ready = prepare_folds(corpus, work.plan, answer)
        parallel = work.parallel(ready.documents, "cross-validation")
        result = cross_validation.judge_by_folds(ready.parts, method, repeats, ready.similarity, parallel)
        other, copied, allowed = None, None, work.plan.judge.allow_copies
        if ready.duplicates.copies >= _NOTICEABLE * ready.documents.documents:
            with suppress(DataProblem):  # where nothing is left to learn from without copies, there is nothing to compare
                otherwise = prepare_folds(corpus, work.plan, answer, allow_copies=not allowed)
                other = cross_validation.judge_by_folds(otherwise.parts, method.for_labels(), repeats, parallel=parallel)
                apart, together = (result, other) if allowed else (other, result)
                whole = otherwise.documents if allowed else ready.documents
                copied = (_on_duplicates(apart, whole), _on_duplicates(together, whole))
        results.append(
            CrossValidateResult(
                name=ready.name,
                result=result,
                other=other,
                copied=copied,
                duplicates=ready.duplicates,
                documents=ready.documents.documents,
                trained_on=round(float(np.mean([split.training.size for split in ready.splits.each]))),
                distinct_terms=corpus.measured.distinct,
                leaks=corpus.leaks(answer),
            )
        )
        if output is not None:
            path = output if len(corpus.answers) == 1 else output.with_stem(f"{output.stem}-{ready.name}")
            _write(path, corpus, ready, result, work.plan.columns.label_separator)
    return results


_NOTICEABLE = 0.01
"""Share of documents that resemble another, from which it may matter whether splits keep them together."""


def _on_duplicates(result: cross_validation.CrossValidation, documents: LabelledDocuments) -> Rate:
    """The accuracy on documents that belong together with another."""
    groups = documents.groups if documents.groups is not None else np.arange(documents.documents)
    _, number, times = np.unique(groups, return_inverse=True, return_counts=True)
    among = (times[number] > 1)[result.judged].astype(np.float64)
    right = result.right * among
    return share_of(right, among, result.sample)


def _write(
    path: Path, corpus: LabelledCorpus, ready: PreparedFolds, result: cross_validation.CrossValidation, separator: str
) -> None:
    """What each document was given, and the probabilities. separator: between the labels of a cell, where it may hold several; no
    single probability is then that of the cell."""
    names = ready.documents.names
    own_sets, given_sets = ready.documents.sets, result.sets
    if own_sets is not None and given_sets is not None:
        of_sets = ("document", "fold", "label", "sorted_label")
        with table_file(path, [*of_sets, *(f"probability: {name}" for name in names)]) as writer:
            for place, judged in enumerate(result.judged.tolist()):
                cells = [
                    joined_labels((name for name, has in zip(names, label_sets[at].tolist(), strict=True) if has), separator)
                    for label_sets, at in ((own_sets, judged), (given_sets, place))
                ]
                chances = [f"{chance:.6f}" for chance in result.probabilities[place].tolist()]
                fold = str(int(result.fold[place]) + 1)
                writer.writerow([corpus.metadata.ids[int(ready.rows[judged])], fold, *cells, *chances])
        return
    columns = ("document", "fold", "label", "sorted_label", "sorted_probability", "own_probability")
    with table_file(path, [*columns, *(f"probability: {name}" for name in names)]) as writer:
        for place, judged in enumerate(result.judged.tolist()):
            own, sorted_as = int(ready.documents.labels[judged]), int(result.sorted_as[place])
            chances = result.probabilities[place].tolist()
            writer.writerow(
                [
                    corpus.metadata.ids[int(ready.rows[judged])],
                    str(int(result.fold[place]) + 1),
                    names[own],
                    names[sorted_as],
                    f"{chances[sorted_as]:.6f}",
                    f"{chances[own]:.6f}",
                    *(f"{chance:.6f}" for chance in chances),
                ]
            )


@record(frozen=True, kw_only=True)
class CurveResult:
    """growth: the curve fitted to the points, where there are enough. labelled: all documents that there are. duplicates: how
    copies and groups were kept on one side. by_similarity: the last point, by similarity to the nearest training document."""

    points: list[GrowthPoint]
    growth: LearningCurve | None
    labelled: int
    duplicates: SplitCounts
    by_similarity: SimilarityRates | None


def curve(work: RunContext) -> CurveResult:
    """Train on growing parts of each fold's training documents, drawn at random, and judge on its held-out ones."""
    corpus = read_labelled_corpus(work, CorpusOptions(sketches=TO_JUDGE, at_least=1, with_readers=True))
    ready = prepare_folds(corpus, work.plan, corpus.only_answer("curve"))
    ready.documents.present()  # with fewer than two labels there is nothing to grow
    curve_data = measure_learning_curve(
        ready.parts, corpus.method_of(work.plan), work.parallel(ready.documents, "learning curve")
    )
    if not curve_data.sizes.size:
        raise DataProblem(
            "In every fold the documents to learn from are of one label.", "Use fewer folds, or give more documents."
        )
    points = [
        GrowthPoint(
            documents=round(float(size)),
            held_out=float(held_out.mean()),
            lowest=float(held_out.min()),
            highest=float(held_out.max()),
            training=float(training.mean()),
        )
        for size, held_out, training in zip(curve_data.sizes, curve_data.held_out.T, curve_data.training.T, strict=True)
    ]
    growth = fit_learning_curve(curve_data.sizes, curve_data.held_out, curve_data.judged)
    by_similarity = None
    if (similarity := ready.similarity) is not None:
        judged = np.concatenate([split.held_out for split in ready.splits.each])
        sample = Sample.of(judged, work.plan.judge.repeats, ready.documents.groups)
        by_similarity = rates_by_similarity(similarity, curve_data.right, sample, work.plan.judge.similarity)
    return CurveResult(
        points=points, growth=growth, labelled=ready.documents.documents, duplicates=ready.duplicates, by_similarity=by_similarity
    )


def draw_curve(result: CurveResult, path: Path) -> Path:
    """The figure of a curve, with the prediction interval from the last point to twice as many documents."""
    last = result.points[-1].documents
    wedge: list[tuple[float, float, float]] = []
    if result.growth is not None:
        now = result.points[-1].held_out
        wedge = _wedge(result.growth, last, now)
    return save(partial(growth_figure, result.points, wedge), path)


def _wedge(growth: LearningCurve, last: int, now: float) -> list[tuple[float, float, float]]:
    """Documents, low and high from what was found at the last point to the prediction interval of twice as many: the middle goes
    over to the curve, the width grows with the square root."""
    low, high = growth.between(2.0 * last)
    end, at_end = growth.at(2.0 * last), now - growth.at(float(last))
    intervals = []
    for share in np.linspace(0.0, 1.0, 25).tolist():
        size = last * 2.0**share
        middle = growth.at(size) + at_end * (1.0 - share)
        intervals.append((size, middle - (end - low) * share**0.5, middle + (high - end) * share**0.5))
    return intervals


class FoldSummary(Struct, frozen=True, kw_only=True):
    """One fold."""

    fold: int
    accuracy: Rate
    baseline: Rate
    training_accuracy: Rate
    terms: int
    reached: bool


class CopiedDocuments(Struct, frozen=True):
    """The accuracy on documents that resemble another, which may be on the other side of a split or not."""

    copies_apart: Rate | None
    copies_together: Rate | None


class CrossValidated(JudgementResult, kw_only=True):
    """upsort cross-validate. trained_on: the mean number of documents that a fold's sorter was trained on. spread: the standard
    deviation of the folds' accuracies. by_similarity: of held-out documents to the training documents of their fold; null where
    there are too many to compare. copies_together: where similar documents may be on both sides, the result when they may not;
    copies_apart: where they may not, the result when they may. Both are left out where fewer than one document in a hundred
    resembles another."""

    folds: list[FoldSummary]
    trained_on: int
    spread: float | None
    copies: int
    largest_set: int
    divided: int
    group_count: int | None
    taken_out_of_training: int
    without_date: int
    dates: str
    by_similarity: SimilarityRates | None
    leaks: Annotated[list[Leak], described("what gives away labels by itself")]
    copies_together: JudgementResult | UnsetType = UNSET
    copies_apart: JudgementResult | UnsetType = UNSET
    copied_documents: CopiedDocuments | UnsetType = UNSET


class CrossValidatedSeveral(Struct):
    """upsort cross-validate, with several answers"""

    answers: dict[str, CrossValidated]


class Expected(Struct, frozen=True):
    """The expected result of training on a number of documents."""

    documents: int
    value: float
    low: float
    high: float


class CurveOf(SplitCounts, frozen=True, kw_only=True):
    """upsort curve"""

    points: list[GrowthPoint]
    growth: PowerLaw | None
    twice_as_many: Expected | None
    by_similarity: Annotated[SimilarityRates | None, described("of the last point; null where documents are too many to compare")]
    written: str | None
