"""Choosing which unlabelled documents to label next, and writing them as a table to fill in."""

from dataclasses import dataclass
from pathlib import Path

from scipy.sparse import csr_array

from upsort.core.errors import DataProblem
from upsort.core.insight.label_next import choose, entropies
from upsort.core.learning.sorter import Decisions, Sorter
from upsort.core.sparse import one_below_the_other
from upsort.files.by_name import ByName, together
from upsort.files.sources import Inputs
from upsort.files.tables_out import table_file
from upsort.jobs.progress import nothing_usable
from upsort.jobs.score import Incoming, joined_decisions

GUESS = "guessed_label"


@dataclass(frozen=True, kw_only=True)
class ToLabel:
    """One document. guess, probability: what the sorter would give it. second: the next label. entropy: in bits."""

    reference: str
    text: str
    guess: str
    second: str
    probability: float
    entropy: float


def label_next(
    sorter: Sorter, incoming: Incoming, most: int, seed: int, output: Path | None = None
) -> tuple[list[ToLabel], int]:
    """Choose; `output` gets the rows with an empty label column, to be filled in and given to train or extend.

    Returns also how many documents there were.
    """
    matrices: list[csr_array] = []
    decided: list[Decisions] = []
    rows: list[tuple[tuple[str, ...], list[str]]] = []
    held: list[tuple[str, str]] = []
    for block in incoming.blocks():
        matrix, known = sorter.matrix(block.documents)
        matrices.append(matrix)
        decided.append(sorter.decide_matrix(matrix, known))
        rows += [(block.columns, row) for row in block.rows]
        held += list(zip(block.ids, block.texts, strict=True))
        incoming.advance(len(block.rows))
    if not held:
        raise DataProblem(f"No usable document: {nothing_usable(incoming.aside)}.", "Check --text and --encoding.")
    decisions = joined_decisions(decided)
    chosen = choose(one_below_the_other(matrices), decisions.probabilities, most, seed).tolist()
    uncertain = entropies(decisions.probabilities)
    given = sorter.given(decisions)
    found = [
        ToLabel(
            reference=held[place][0],
            text=held[place][1],
            guess=given[place],
            second=sorter.labels[int(decisions.second[place])],
            probability=float(decisions.probabilities[place, decisions.best[place]]),
            entropy=float(uncertain[place]),
        )
        for place in chosen
    ]
    if output is not None:
        _write(
            sorter,
            incoming.inputs,
            output,
            [(*rows[place], one.guess) for place, one in zip(chosen, found, strict=True)],
        )
    return found, len(held)


def _write(sorter: Sorter, inputs: Inputs, output: Path, rows: list[tuple[tuple[str, ...], list[str], str]]) -> None:
    """Rows with their columns and what the sorter guesses, under the columns of all tables and an empty label column."""
    label = sorter.answer or sorter.plan.columns.label
    by_name = ByName(
        [name for name in together(table.columns for table in inputs.tables) if name not in (label, GUESS)]
    )
    with table_file(output, [*by_name.columns, label, GUESS]) as writer:
        for columns, row, guess in rows:
            writer.writerow([*by_name.row(columns, row), "", guess])
