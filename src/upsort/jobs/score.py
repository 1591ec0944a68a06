"""Scoring new documents in bulk: every column kept, the decision added, block by block in bounded memory."""

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace

from upsort.core import plan
from upsort.core.errors import DataProblem
from upsort.core.sorter import Sorter
from upsort.files.documents import read_documents
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.files.tables_out import RowWriter
from upsort.jobs.progress import Advance, no_progress
from upsort.jobs.scored_rows import decision_cells, decision_columns, given_label, kept_columns


@dataclass(frozen=True)
class ScoreResult:
    """documents: rows written. labels: how often each was given, for each answer. without_tokens: those decided by the
    intercepts alone, having no word that could count. unknown_share: of all words."""

    documents: int
    labels: tuple[Counter[str], ...]
    without_tokens: int
    unknown_share: float


def output_columns(inputs: Inputs, sorters: Sequence[Sorter], all_probabilities: bool = False) -> list[str]:
    """The columns of the scored table. Raises DataProblem when the inputs' columns differ."""
    columns = inputs.tables[0].columns
    for table in inputs.tables[1:]:
        if table.columns != columns:
            raise DataProblem(
                f"{table.name} has other columns than {inputs.tables[0].name}.", "Score them one at a time."
            )
    added = [name for sorter in sorters for name in decision_columns(sorter, all_probabilities)]
    return [columns[place] for place in kept_columns(columns, added)] + added


def score(
    sorters: Sequence[Sorter],
    inputs: Inputs,
    columns: plan.Columns,
    writer: RowWriter,
    aside: SetAside,
    advance: Advance = no_progress,
    all_probabilities: bool = False,
) -> ScoreResult:
    """Write every usable row of `inputs`, under `output_columns`, with the sorter's decisions."""
    labels: tuple[Counter[str], ...] = tuple(Counter() for _ in sorters)
    documents = without_tokens = tokens = 0
    unknown = 0.0
    first = sorters[0]
    added = [name for sorter in sorters for name in decision_columns(sorter, all_probabilities)]
    for block in read_documents(
        inputs, replace(columns, label="", also=()), aside, cleaning=first.cleaning, apart=first.plan.features.apart
    ):
        words = first.tokens_of(block.documents)
        decided = [sorter.decide(block.documents, words) for sorter in sorters]
        kept = kept_columns(block.columns, added)
        rows = []
        for place, row in enumerate(block.rows):
            cells = [row[column] for column in kept]
            for sorter, decisions in zip(sorters, decided, strict=True):
                cells += decision_cells(sorter, decisions, place, all_probabilities)
            rows.append(cells)
        writer.writerows(rows)
        for held, sorter, decisions in zip(labels, sorters, decided, strict=True):
            held.update(given_label(sorter, decisions, place) for place in range(len(block.rows)))
        documents += len(block.rows)
        has_tokens = decided[0].tokens > 0
        without_tokens += int((~has_tokens).sum())
        tokens += int(decided[0].tokens.sum())
        unknown += float((decided[0].unknown_share[has_tokens] * decided[0].tokens[has_tokens]).sum())
        advance(len(block.rows))
    return ScoreResult(documents, labels, without_tokens, unknown / tokens if tokens else 0.0)


def columns_for(sorter: Sorter, named: plan.Columns, inputs: Inputs) -> plan.Columns:
    """The columns to read: those named now, else those of the sorter's training; its identifier where every table has it."""
    trained = sorter.plan.columns
    everywhere = all(trained.id in table.columns for table in inputs.tables)
    return replace(
        trained,
        text=named.text or trained.text,
        label=named.label or trained.label,
        id=named.id or (trained.id if everywhere else ""),
        date=named.date,
        group=named.group,
        document_vectors=named.document_vectors,
    )
