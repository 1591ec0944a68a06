"""Choosing which unlabelled documents to label next, and writing them as a table to fill in."""

from collections.abc import Sequence
from pathlib import Path

from scipy.sparse import csr_array

from upsort.core.errors import DataProblem, Problem
from upsort.core.features.hashing import HashedCounting
from upsort.core.insight.label_next import Why, choose, contents, entropies
from upsort.core.judging.growing import grown
from upsort.core.judging.growth import fitted_growth
from upsort.core.judging.protocol import Parts
from upsort.core.judging.splits import Order, splits
from upsort.core.learning.method import Method
from upsort.core.learning.sorter import Decisions, Sorter
from upsort.core.plan import Features
from upsort.core.records import record
from upsort.files.by_name import ByName, together
from upsort.files.sources import Inputs
from upsort.files.tables_out import table_file
from upsort.jobs.kept import labelled
from upsort.jobs.progress import nothing_usable
from upsort.jobs.score import Incoming, joined_decisions

GUESS = "guessed_label"
_CONTENTS = Features(hash_bits=14)
_MOST_GROWN = 3_000  # kept documents, of which growth is worked out


@record(frozen=True, kw_only=True)
class ToLabel:
    """One document. guess, probability: what the sorter would give it. second: the next label. entropy: in bits. why: it is worth
    labelling."""

    reference: str
    text: str
    guess: str
    second: str
    probability: float
    entropy: float
    why: Why


@record(frozen=True)
class Worth:
    """What labelling brings, by folds of what the sorter keeps. now: documents, and the share right. more, twice: documents, and
    the ends of the 95 % prediction interval."""

    now: tuple[int, float]
    more: tuple[int, float, float]
    twice: tuple[int, float, float]


def label_next(
    sorter: Sorter, incoming: Incoming, most: int, seed: int, output: Path | None = None
) -> tuple[list[ToLabel], int]:
    """Choose; `output` gets the rows with an empty label column, to be filled in and given to train or extend.

    Returns also how many documents there were.
    """
    counting = [HashedCounting(_CONTENTS) for _ in incoming.reader.columns.text if sorter.plan.features.apart] or [
        HashedCounting(_CONTENTS)
    ]
    decided: list[Decisions] = []
    rows: list[tuple[tuple[str, ...], list[str]]] = []
    held: list[tuple[str, str]] = []
    for block in incoming.blocks():
        tokens = sorter.tokens_of(block.documents)
        for part, counted in zip(tokens, counting, strict=True):
            counted.add(part)
        decided.append(sorter.decide(block.documents, tokens))
        rows += [(block.columns, row) for row in block.rows]
        held += list(zip(block.ids, block.texts, strict=True))
        incoming.advance(len(block.rows))
    if not held:
        raise DataProblem(f"No usable document: {nothing_usable(incoming.aside)}.", "Check --text and --encoding.")
    decisions = joined_decisions(decided)
    picked = choose(_rows(counting), decisions.probabilities, sorter.trained.documents, most, seed)
    chosen = [one.place for one in picked]
    uncertain = entropies(decisions.probabilities)
    sorted_as = sorter.sorted_as(decisions)
    found = [
        ToLabel(
            reference=held[place][0],
            text=held[place][1],
            guess=sorted_as[place],
            second=sorter.labels[int(decisions.second[place])],
            probability=float(decisions.probabilities[place, decisions.best[place]]),
            entropy=float(uncertain[place]),
            why=one.why,
        )
        for place, one in zip(chosen, picked, strict=True)
    ]
    if output is not None:
        _write(
            sorter,
            incoming.inputs,
            output,
            [(*rows[place], one.guess) for place, one in zip(chosen, found, strict=True)],
        )
    return found, len(held)


def worth_of(sorter: Sorter, more: int) -> Worth | None:
    """What so many more labelled documents are expected to bring; None for a sorter that keeps none of its own, or too many for
    that to be worked out on the way."""
    kept = sorter.kept
    if kept is None or kept.documents > _MOST_GROWN or kept.sets is not None:
        return None
    documents = labelled(kept, sorter.plan, sorter)
    try:
        parts = Parts(documents, splits(documents, sorter.plan.judge, Order()).each)
    except Problem:  # too few documents for folds
        return None
    found = grown(parts, Method(sorter.plan, sorter.resources, sorter.costs))
    growth = fitted_growth(found.sizes, found.held_out, found.judged) if found.sizes.size else None
    if growth is None:
        return None
    n = kept.documents
    return Worth(
        (n, float(found.held_out[:, -1].mean())),
        (n + more, *growth.between(float(n + more))),
        (2 * n, *growth.between(2.0 * n)),
    )


def _rows(counting: Sequence[HashedCounting]) -> csr_array:
    """The contents of all documents, whatever part of the text they stand in."""
    return contents(csr_array(sum((one.counts(1).matrix for one in counting[1:]), counting[0].counts(1).matrix)))


def _write(sorter: Sorter, inputs: Inputs, output: Path, rows: list[tuple[tuple[str, ...], list[str], str]]) -> None:
    """Rows with their columns and what the sorter guesses, under the columns of all tables and an empty label column."""
    label = sorter.answer or sorter.plan.columns.label
    by_name = ByName(
        [name for name in together(table.columns for table in inputs.tables) if name not in (label, GUESS)]
    )
    with table_file(output, [*by_name.columns, label, GUESS]) as writer:
        for columns, row, guess in rows:
            writer.writerow([*by_name.row(columns, row), "", guess])
