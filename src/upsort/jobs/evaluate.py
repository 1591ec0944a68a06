"""Judging a sorter on labelled documents it was not trained on."""

from collections.abc import Iterator, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from scipy.sparse import csr_array

from upsort.core import plan
from upsort.core.arrays import Bools, Floats, Ints
from upsort.core.errors import DataProblem
from upsort.core.judging.adding_up import added_up
from upsort.core.judging.deciding import Coverage, coverage, mean_cost
from upsort.core.judging.intervals import Rate, of_known, wilson
from upsort.core.judging.measures import Judgement, judge
from upsort.core.judging.probability_measures import ProbabilityMeasures, brier_terms, judge_probabilities, log_losses
from upsort.core.sorter import Decisions, Sorter
from upsort.files.columns import column_place
from upsort.files.documents import DocumentBlock, read_documents
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.files.tables_out import table_file
from upsort.jobs.corpus import set_of_labels
from upsort.jobs.progress import Advance, no_progress, nothing_usable
from upsort.jobs.score import output_columns
from upsort.jobs.scored_rows import decision_columns, decision_rows, given_labels, joined_labels, kept_columns

_PULLS = 3


@dataclass(frozen=True)
class Mistake:
    """One document that was given another label than its own. pulled_by: the terms that spoke most for the wrong label."""

    reference: str
    text: str
    true: str
    given: str
    probability: float
    own_probability: float
    pulled_by: tuple[str, ...]


@dataclass(frozen=True)
class Judged:
    """One answer.

    mistakes: the most confidently wrong documents, most confident first. unknown_labels: true labels that the sorter has
    never seen, with their documents; they count as wrong. by: for each value of a column, how many were right. known_words,
    new_words: documents all of whose words the sorter knows, and the others. not_copies: without near-copies of training
    documents, where those were given. before: log loss and Brier score without calibration, where there is one. cost: mean
    cost, where costs were given. true, given: (n,) label numbers in `judgement.labels`; probabilities: (n, k) in the sorter's
    labels.
    """

    sorter: Sorter
    judgement: Judgement
    probability: ProbabilityMeasures | None
    training_accuracy: Rate
    mistakes: list[Mistake]
    unknown_labels: dict[str, int]
    by: dict[str, Rate]
    known_words: Rate
    new_words: Rate
    not_copies: Rate | None
    before: tuple[float, float] | None
    cost: float | None
    undecided: Rate | None
    coverage: Coverage
    true: Ints
    given: Ints
    probabilities: Floats
    plain: Floats | None


@dataclass(frozen=True)
class Wanted:
    """What to judge beside the whole. by: a column. per_document: how to add up passages, of which `document_column` names the
    document. training: the documents that the sorter was trained on."""

    by: str = ""
    per_document: str = ""
    document_column: str = "document"
    training: Inputs | None = None


@dataclass
class _Gathered:
    """What is kept of each document of one answer until all are read."""

    true: list[str] = field(default_factory=list)
    given: list[str] = field(default_factory=list)
    probabilities: list[Floats] = field(default_factory=list)
    plain: list[Floats] = field(default_factory=list)
    unknown_share: list[Floats] = field(default_factory=list)
    values: list[str] = field(default_factory=list)
    documents: list[str] = field(default_factory=list)
    texts: list[str] = field(default_factory=list)
    undecided: list[bool] = field(default_factory=list)
    mistakes: list[Mistake] = field(default_factory=list)


def evaluate(
    sorters: Sequence[Sorter],
    inputs: Inputs,
    columns: plan.Columns,
    aside: SetAside,
    mistakes_file: Path | None = None,
    advance: Advance = no_progress,
    wanted: Wanted | None = None,
) -> list[Judged]:
    """Decide about every labelled document and compare, answer by answer; write the mistaken rows to `mistakes_file`."""
    wanted = wanted or Wanted()
    gathered = [_Gathered() for _ in sorters]
    first = sorters[0]
    added = [name for sorter in sorters for name in decision_columns(sorter)]
    with ExitStack() as stack:
        writer = None
        if mistakes_file is not None:
            heads = [*output_columns(inputs, sorters), "wrong_answers", "pulled_by"]
            writer = stack.enter_context(table_file(mistakes_file, heads))
        for block in read_documents(
            inputs, columns, aside, need_label=True, cleaning=first.cleaning, apart=first.plan.features.apart
        ):
            words = first.tokens_of(block.documents)
            wrong: dict[int, list[tuple[Sorter, Mistake]]] = {}
            decided = []
            for sorter, held, labels in zip(sorters, gathered, (block.labels, *block.also), strict=True):
                matrix, known = sorter.matrix(block.documents, words)
                scores = sorter.classifier.scores(matrix)
                decisions = sorter.decisions(scores, known.tokens, known.unknown_share())
                decided.append(decisions)
                for place, mistake in _gather(held, sorter, block, labels, matrix, scores, decisions, wanted):
                    wrong.setdefault(place, []).append((sorter, mistake))
            if writer is not None:
                kept = kept_columns(block.columns, added)
                cells = [decision_rows(sorter, decisions) for sorter, decisions in zip(sorters, decided, strict=True)]
                for place, found in sorted(wrong.items()):
                    row = [block.rows[place][column] for column in kept]
                    for decision in cells:
                        row += decision[place]
                    answers = ", ".join(sorter.answer or columns.label for sorter, _ in found)
                    writer.writerow([*row, answers, ", ".join(found[0][1].pulled_by)])
            advance(len(block.documents))
    if not any(held.true for held in gathered):
        raise DataProblem(f"No usable document: {nothing_usable(aside)}.", "Check --text, --label and --encoding.")
    copies = _copies_of_training(gathered[0].texts, wanted.training, columns) if wanted.training is not None else None
    return [_judged(sorter, held, wanted, copies) for sorter, held in zip(sorters, gathered, strict=True)]


def _gather(
    held: _Gathered,
    sorter: Sorter,
    block: DocumentBlock,
    labels: Sequence[str],
    matrix: csr_array,
    scores: Floats,
    decisions: Decisions,
    wanted: Wanted,
) -> Iterator[tuple[int, Mistake]]:
    """Keep what a block's documents were given; yields the mistaken ones."""
    labelled = [place for place, label in enumerate(labels) if label]
    by = column_place(wanted.by, block.columns, block.source) if wanted.by else None
    document = column_place(wanted.document_column, block.columns, block.source) if wanted.per_document else None
    held.probabilities.append(decisions.probabilities[labelled])
    held.plain.append(scores[labelled])
    labels_given = given_labels(sorter, decisions)
    held.unknown_share.append(decisions.unknown_share[labelled])
    for place in labelled:
        true, given = labels[place], labels_given[place]
        if decisions.sets is not None:
            true = joined_labels(set_of_labels(true, sorter.plan.columns.label_separator), sorter)
        undecided = decisions.undecided is not None and bool(decisions.undecided[place])
        right = true == given
        held.true.append(true)
        held.given.append(sorter.labels[int(decisions.best[place])] if undecided or decisions.sets is None else given)
        held.undecided.append(undecided)
        held.values.append(block.rows[place][by] if by is not None else "")
        held.documents.append(block.rows[place][document] if document is not None else "")
        if wanted.training is not None:
            held.texts.append(block.texts[place])
        if not right and not undecided:
            best = int(decisions.best[place])
            own = sorter.labels.index(true) if true in sorter.labels else None
            mistake = Mistake(
                block.ids[place],
                block.texts[place],
                true,
                given,
                float(decisions.probabilities[place, best]),
                float(decisions.probabilities[place, own]) if own is not None else 0.0,
                _pulled_by(sorter, matrix, place, best, own),
            )
            held.mistakes.append(mistake)
            yield place, mistake


def _pulled_by(sorter: Sorter, matrix: csr_array, place: int, given: int, own: int | None) -> tuple[str, ...]:
    """The terms of a document that speak most for the label given against its own, or against the mean where that is unknown."""
    rule = sorter.classifier.rule
    if rule is None:
        return ()
    begin, end = matrix.indptr[place : place + 2].tolist()
    terms = matrix.indices[begin:end]
    against = rule.weights[terms, own] if own is not None else rule.weights[terms].mean(axis=1)
    pulls = matrix.data[begin:end] * (rule.weights[terms, given] - against)
    order = np.argsort(-pulls, kind="stable")[:_PULLS]
    return tuple(sorter.space.terms[int(terms[at])] for at in order.tolist() if pulls[at] > 0)


def _copies_of_training(texts: list[str], training: Inputs, columns: plan.Columns) -> Bools:
    """(n,) which documents copy one that the sorter was trained on, exactly or nearly."""
    from upsort.core.judging.near_copies import find_copies, joined, prints_of

    parts = [prints_of(block.texts) for block in read_documents(training, plan.Columns(columns.text), SetAside())]
    before = sum(part.words.size for part in parts)
    copies = find_copies(joined([*parts, prints_of(texts)]), 0.8).of()[before:]
    return np.asarray((copies >= 0) & (copies < before))


def _judged(sorter: Sorter, held: _Gathered, wanted: Wanted, copies: Bools | None) -> Judged:
    probabilities = np.concatenate(held.probabilities)
    plain = np.concatenate(held.plain)
    unknown = np.nan_to_num(np.concatenate(held.unknown_share))
    true, given, values = held.true, held.given, held.values
    if wanted.per_document:
        probabilities, true, given, values, unknown = _per_document(sorter, held, wanted, probabilities, unknown)
        plain, copies = np.log(np.maximum(probabilities, 1e-300)), None
    separator = sorter.plan.columns.label_separator if sorter.thresholds is not None else ""
    right = np.array([a == b for a, b in zip(true, given, strict=True)], dtype=bool)
    names = tuple(sorted({*sorter.labels, *true, *given}))
    number = {name: place for place, name in enumerate(names)}
    majority = sorter.labels[sorter.majority]
    numbers = np.array([number[label] for label in true], dtype=np.int64)
    decided = np.array([number[label] for label in given], dtype=np.int64)
    judgement = judge(
        numbers,
        decided,
        names,
        baseline_right=true.count(majority),
        majority=majority,
        seed=sorter.plan.judge.seed,
        beta=sorter.plan.judge.beta,
    )
    if separator:
        judgement = _judged_sets(judgement, sorter, true, given, separator, right)
    own = np.array([sorter.labels.index(label) if label in sorter.labels else -1 for label in true])
    best = np.array([sorter.labels.index(label) if label in sorter.labels else 0 for label in given])
    probability, before, uncalibrated = None, None, None
    if not separator:
        probability = judge_probabilities(own, probabilities, best, sorter.plan.judge.seed)
        if sorter.calibration.kind != "none" and not wanted.per_document:
            from upsort.core.classifiers.calibration import softmax

            uncalibrated = softmax(plain)
            known = own >= 0
            losses = (log_losses(own[known], uncalibrated[known]), brier_terms(own[known], uncalibrated[known]))
            before = (float(losses[0].mean()), float(losses[1].mean())) if known.any() else None
    undecided = np.array(held.undecided, dtype=bool)
    by = {value: _rate(right[np.array(values) == value]) for value in sorted(set(values))} if wanted.by else {}
    costs = sorter.resources.costs
    cost = None
    if costs is not None and set(true) <= set(costs):
        matrix = np.array([[costs.get(a, {}).get(b, 0.0) for b in names] for a in names])
        cost = mean_cost(numbers, decided, matrix)
    return Judged(
        sorter,
        judgement,
        probability,
        of_known(sorter.trained.right, sorter.trained.documents),
        sorted(held.mistakes, key=lambda mistake: -mistake.probability),
        {label: true.count(label) for label in sorted(set(true) - set(sorter.labels))} if not separator else {},
        by,
        _rate(right[unknown == 0]),
        _rate(right[unknown > 0]),
        _rate(right[~copies]) if copies is not None else None,
        before,
        cost,
        _rate(right[~undecided]) if undecided.any() and not wanted.per_document else None,
        coverage(probabilities.max(axis=1), right),
        numbers,
        decided,
        probabilities,
        uncalibrated,
    )


def _judged_sets(
    judgement: Judgement, sorter: Sorter, true: list[str], given: list[str], separator: str, right: Bools
) -> Judgement:
    """The judgement where documents have sets of labels: right is a whole set; by label, having it is judged for itself."""
    from dataclasses import replace

    from upsort.core.judging.measures import LabelMeasures

    trues = [set_of_labels(cell, separator) for cell in true]
    givens = [set_of_labels(cell, separator) for cell in given]
    names = tuple(sorted({*sorter.labels, *(label for labels in trues for label in labels)}))
    measures = []
    for name in names:
        has = np.array([name in labels for labels in trues], dtype=np.int64)
        got = np.array([name in labels for labels in givens], dtype=np.int64)
        alone = judge(has, got, ("without", "with"), int((has == 0).sum()), "without", sorter.plan.judge.seed)
        measures.append(replace(alone.per_label[1], label=name))
    f1 = [found.f1.value for found in measures if found.f1.value is not None]
    macro = Rate(float(np.mean(f1)) if f1 else None, None, None)
    per_label: tuple[LabelMeasures, ...] = tuple(measures)
    return replace(
        judgement, accuracy=wilson(int(right.sum()), right.size), macro_f1=macro, others={}, per_label=per_label
    )


def _rate(right: Bools) -> Rate:
    return wilson(int(right.sum()), int(right.size))


def _per_document(
    sorter: Sorter, held: _Gathered, wanted: Wanted, probabilities: Floats, unknown: Floats
) -> tuple[Floats, list[str], list[str], list[str], Floats]:
    """The same lists with one entry a document in place of one a passage. A document's label is that of its first passage."""
    names, together = added_up(probabilities, held.documents, wanted.per_document)
    first = {name: held.documents.index(name) for name in names}
    given = [sorter.labels[best] for best in together.argmax(axis=1).tolist()]
    places = [first[name] for name in names]
    values = [held.values[place] for place in places]
    return together, [held.true[place] for place in places], given, values, unknown[places]
