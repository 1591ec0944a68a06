"""Choosing which unlabelled documents to label next, and writing them as a table to fill in."""

from collections.abc import Sequence
from pathlib import Path

from msgspec import Struct
from scipy.sparse import csr_array

from upsort.core.analysis.next_documents import Why, choose, contents, entropies
from upsort.core.errors import DataProblem, Problem
from upsort.core.evaluation.cross_validation import SplitParts
from upsort.core.evaluation.learning_curve import fit_learning_curve, measure_learning_curve
from upsort.core.evaluation.splits import SplitOrder, splits
from upsort.core.features.distributed_vocabulary import HashedCounting
from upsort.core.plan import Features
from upsort.core.training.decision import PlanWithResources
from upsort.core.training.sorter import Decisions, TrainedSorter
from upsort.io.outputs.table_file import table_file
from upsort.io.sources.inputs import Inputs
from upsort.io.tables.columns import ColumnMapper, merged_columns
from upsort.workflows.extend import labelled_documents_of
from upsort.workflows.score import joined_decisions
from upsort.workflows.shared.context import ScoringContext, nothing_usable

GUESS = "guessed_label"
_CONTENTS = Features(hashed_columns=1 << 14)
_MOST_GROWN = 3_000  # kept documents, of which growth is worked out


class LabelSuggestion(Struct, frozen=True, kw_only=True):
    """One document. guess, probability: what the sorter would give it. second: the next label. entropy: in bits. why: the reason
    for labelling."""

    reference: str
    text: str
    guess: str
    second: str
    probability: float
    entropy: float
    why: Why


class LabellingBenefit(Struct, frozen=True):
    """What labelling brings, by folds of what the sorter keeps. now: documents, and the share right. more, twice: documents, and
    the ends of the 95% prediction interval."""

    now: tuple[int, float]
    more: tuple[int, float, float]
    twice: tuple[int, float, float]


class NextResult(Struct, frozen=True, kw_only=True):
    """upsort next. worth: what labelling more is expected to bring; null for a sorter that keeps none of its documents, or too
    many for that to be worked out. written: the table to fill in."""

    documents: list[LabelSuggestion]
    worth: LabellingBenefit | None
    written: str | None


def suggest_documents(
    sorter: TrainedSorter, incoming: ScoringContext, most: int, seed: int, output: Path | None = None
) -> tuple[NextResult, int]:
    """Choose; `output` gets the rows with an empty label column, to be filled in and given to train or extend.

    Returns also how many documents there were."""
    counting = [HashedCounting(_CONTENTS) for _ in incoming.reader.columns.text if sorter.plan.features.apart] or [
        HashedCounting(_CONTENTS)
    ]
    decided: list[Decisions] = []
    rows: list[tuple[tuple[str, ...], list[str]]] = []
    references: list[tuple[str, str]] = []
    for block in incoming.blocks():
        tokens = sorter.tokens_of(block.documents)
        for part, counted in zip(tokens, counting, strict=True):
            counted.add(part)
        decided.append(sorter.decide(block.documents, tokens))
        rows += [(block.columns, row) for row in block.rows]
        references += list(zip(block.ids, block.texts, strict=True))
        incoming.advance(len(block.rows))
    if not references:
        raise DataProblem(f"No usable document: {nothing_usable(incoming.rejects)}.", "Check --text and --encoding.")
    decisions = joined_decisions(decided)
    picked = choose(_rows(counting), decisions.probabilities, sorter.trained.documents, most, seed)
    chosen = [pick.place for pick in picked]
    uncertain = entropies(decisions.probabilities)
    sorted_as = sorter.sorted_as(decisions)
    suggestions = [
        LabelSuggestion(
            reference=references[place][0],
            text=references[place][1],
            guess=sorted_as[place],
            second=sorter.labels[int(decisions.second[place])],
            probability=float(decisions.probabilities[place, decisions.best[place]]),
            entropy=float(uncertain[place]),
            why=pick.why,
        )
        for place, pick in zip(chosen, picked, strict=True)
    ]
    if output is not None:
        _write(
            sorter,
            incoming.inputs,
            output,
            [(*rows[place], suggestion.guess) for place, suggestion in zip(chosen, suggestions, strict=True)],
        )
    benefit = _labelling_benefit(sorter, len(suggestions))
    return NextResult(documents=suggestions, worth=benefit, written=str(output) if output is not None else None), len(references)


def _labelling_benefit(sorter: TrainedSorter, more: int) -> LabellingBenefit | None:
    """What so many more labelled documents are expected to bring."""
    stored = sorter.stored
    if stored is None or stored.documents > _MOST_GROWN or stored.sets is not None:
        return None
    documents = labelled_documents_of(stored, sorter.plan, sorter)
    try:
        parts = SplitParts(documents, splits(documents, sorter.plan.judge, SplitOrder()).each)
    except Problem:  # too few documents for folds
        return None
    grown_curve = measure_learning_curve(parts, PlanWithResources(sorter.plan, sorter.resources, sorter.costs))
    growth = fit_learning_curve(grown_curve.sizes, grown_curve.held_out, grown_curve.judged) if grown_curve.sizes.size else None
    if growth is None:
        return None
    n = stored.documents
    return LabellingBenefit(
        (n, float(grown_curve.held_out[:, -1].mean())),
        (n + more, *growth.between(float(n + more))),
        (2 * n, *growth.between(2.0 * n)),
    )


def _rows(counting: Sequence[HashedCounting]) -> csr_array:
    """The contents of all documents, whatever part of the text they are in."""
    return contents(
        csr_array(sum((counting_part.counts(1).matrix for counting_part in counting[1:]), counting[0].counts(1).matrix))
    )


def _write(sorter: TrainedSorter, inputs: Inputs, output: Path, rows: list[tuple[tuple[str, ...], list[str], str]]) -> None:
    """Rows with their columns and what the sorter guesses, under the columns of all tables and an empty label column."""
    label = sorter.answer or sorter.plan.columns.label
    by_name = ColumnMapper(
        [name for name in merged_columns(table.columns for table in inputs.tables) if name not in (label, GUESS)]
    )
    with table_file(output, [*by_name.columns, label, GUESS]) as writer:
        for columns, row, guess in rows:
            writer.writerow([*by_name.row(columns, row), "", guess])
