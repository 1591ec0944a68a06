"""Judging a sorter on labelled documents it was not trained on."""

from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from upsort.core import plan
from upsort.core.errors import DataProblem
from upsort.core.judging.intervals import Rate, of_known
from upsort.core.judging.measures import Judgement, judge
from upsort.core.sorter import Sorter
from upsort.files.documents import read_documents
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.files.tables_out import table_file
from upsort.jobs.progress import Advance, no_progress, nothing_usable
from upsort.jobs.score import output_columns
from upsort.jobs.scored_rows import decision_cells, decision_columns, kept_columns


@dataclass(frozen=True)
class Mistake:
    """One document that was given another label than its own."""

    reference: str
    text: str
    true: str
    given: str
    probability: float


@dataclass(frozen=True)
class EvaluateResult:
    """mistakes: the most confidently wrong documents, most confident first. unknown_labels: true labels that the sorter
    has never seen, with their documents; they count as wrong."""

    judgement: Judgement
    training_accuracy: Rate
    mistakes: list[Mistake]
    unknown_labels: dict[str, int]


def evaluate(
    sorter: Sorter,
    inputs: Inputs,
    columns: plan.Columns,
    aside: SetAside,
    mistakes_file: Path | None = None,
    advance: Advance = no_progress,
) -> EvaluateResult:
    """Decide about every labelled document and compare; write the mistaken rows to `mistakes_file`."""
    true: list[str] = []
    given: list[str] = []
    mistakes: list[Mistake] = []
    with ExitStack() as stack:
        writer = (
            stack.enter_context(table_file(mistakes_file, output_columns(inputs, [sorter]))) if mistakes_file else None
        )
        for block in read_documents(
            inputs, columns, aside, need_label=True, cleaning=sorter.cleaning, apart=sorter.plan.features.apart
        ):
            decisions = sorter.decide(block.documents)
            decided = [sorter.labels[best] for best in decisions.best.tolist()]
            kept = kept_columns(block.columns, decision_columns(sorter))
            for place in [place for place, label in enumerate(block.labels) if label != decided[place]]:
                probability = float(decisions.probabilities[place, decisions.best[place]])
                mistakes.append(
                    Mistake(block.ids[place], block.texts[place], block.labels[place], decided[place], probability)
                )
                if writer is not None:
                    row = block.rows[place]
                    cells = decision_cells(sorter, decisions, place)
                    writer.writerow([row[column] for column in kept] + cells)
            true.extend(block.labels)
            given.extend(decided)
            advance(len(block.documents))
    if not true:
        raise DataProblem(f"No usable document: {nothing_usable(aside)}.", "Check --text, --label and --encoding.")
    mistakes.sort(key=lambda mistake: -mistake.probability)
    return EvaluateResult(
        _judged(sorter, true, given),
        of_known(sorter.trained.right, sorter.trained.documents),
        mistakes,
        {label: true.count(label) for label in sorted(set(true) - set(sorter.labels))},
    )


def _judged(sorter: Sorter, true: list[str], given: list[str]) -> Judgement:
    names = tuple(sorted({*sorter.labels, *true}))
    number = {name: place for place, name in enumerate(names)}
    majority = sorter.labels[sorter.majority]
    return judge(
        np.array([number[label] for label in true], dtype=np.int64),
        np.array([number[label] for label in given], dtype=np.int64),
        names,
        baseline_right=true.count(majority),
        majority=majority,
        seed=sorter.plan.judge.seed,
    )
