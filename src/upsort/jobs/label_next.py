"""Choosing which unlabelled documents to label next, and writing them as a table to fill in."""

from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from scipy.sparse import csr_array

from upsort.core import plan
from upsort.core.arrays import Floats
from upsort.core.errors import DataProblem
from upsort.core.insight.label_next import choose, entropies
from upsort.core.sorter import Sorter
from upsort.core.sparse import one_below_the_other
from upsort.files.documents import read_documents
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.files.tables_out import table_file
from upsort.jobs.progress import Advance, no_progress, nothing_usable

GUESS = "guessed_label"


@dataclass(frozen=True)
class ToLabel:
    """One document. guess, probability: what the sorter would give it. second: the next label. entropy: in bits."""

    reference: str
    text: str
    guess: str
    second: str
    probability: float
    entropy: float


def label_next(
    sorter: Sorter,
    inputs: Inputs,
    columns: plan.Columns,
    aside: SetAside,
    most: int,
    seed: int,
    output: Path | None = None,
    advance: Advance = no_progress,
) -> tuple[list[ToLabel], int]:
    """Choose; `output` gets the rows with an empty label column, to be filled in and given to train or extend.

    Returns also how many documents there were.
    """
    matrices: list[csr_array] = []
    chances: list[Floats] = []
    rows: list[list[str]] = []
    held: list[tuple[str, str]] = []
    names = inputs.tables[0].columns
    for block in read_documents(
        inputs, replace(columns, label="", also=()), aside, cleaning=sorter.cleaning, apart=sorter.plan.features.apart
    ):
        matrix, known = sorter.matrix(block.documents)
        matrices.append(matrix)
        decisions = sorter.decisions(sorter.classifier.scores(matrix), known.tokens, known.unknown_share())
        chances.append(decisions.probabilities)
        rows += block.rows
        held += list(zip(block.ids, block.texts, strict=True))
        advance(len(block.rows))
    if not held:
        raise DataProblem(f"No usable document: {nothing_usable(aside)}.", "Check --text and --encoding.")
    probabilities = np.concatenate(chances)
    chosen = choose(one_below_the_other(matrices), probabilities, most, seed)
    uncertain = entropies(probabilities)
    found = []
    for place in chosen.tolist():
        order = np.argsort(-probabilities[place], kind="stable")
        reference, text = held[place]
        found.append(
            ToLabel(
                reference,
                text,
                sorter.labels[int(order[0])],
                sorter.labels[int(order[min(1, order.size - 1)])],
                float(probabilities[place, order[0]]),
                float(uncertain[place]),
            )
        )
    if output is not None:
        label = sorter.answer or sorter.plan.columns.label
        kept = [place for place, name in enumerate(names) if name != label]
        with table_file(output, [*(names[place] for place in kept), label, GUESS]) as writer:
            for place, one in zip(chosen.tolist(), found, strict=True):
                writer.writerow([*(rows[place][column] for column in kept), "", one.guess])
    return found, len(held)
