"""Scoring new documents in bulk: every column kept, the decision added, block by block in bounded memory."""

from collections import Counter
from dataclasses import dataclass, replace

from upsort.core import plan
from upsort.core.errors import DataProblem
from upsort.core.sorter import Sorter
from upsort.files.documents import read_documents
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.files.tables_out import RowWriter
from upsort.jobs.progress import Advance, no_progress
from upsort.jobs.scored_rows import DECISION_COLUMNS, decision_cells, kept_columns


@dataclass(frozen=True)
class ScoreResult:
    """documents: rows written. without_tokens: those decided by the intercepts alone, having no word that could count."""

    documents: int
    labels: Counter[str]
    without_tokens: int
    unknown_share: float


def output_columns(inputs: Inputs) -> list[str]:
    """The columns of the scored table. Raises DataProblem when the inputs' columns differ."""
    columns = inputs.tables[0].columns
    for table in inputs.tables[1:]:
        if table.columns != columns:
            raise DataProblem(
                f"{table.name} has other columns than {inputs.tables[0].name}.", "Score them one at a time."
            )
    return [columns[place] for place in kept_columns(columns)] + list(DECISION_COLUMNS)


def score(
    sorter: Sorter,
    inputs: Inputs,
    columns: plan.Columns,
    writer: RowWriter,
    aside: SetAside,
    advance: Advance = no_progress,
) -> ScoreResult:
    """Write every usable row of `inputs`, under `output_columns`, with the sorter's decision."""
    labels: Counter[str] = Counter()
    documents = without_tokens = tokens = 0
    unknown = 0.0
    for block in read_documents(
        inputs, replace(columns, label=""), aside, cleaning=sorter.cleaning, apart=sorter.plan.features.apart
    ):
        decisions = sorter.decide(block.documents)
        kept = kept_columns(block.columns)
        writer.writerows(
            [
                [row[column] for column in kept] + decision_cells(decisions, sorter.labels, place)
                for place, row in enumerate(block.rows)
            ]
        )
        labels.update(sorter.labels[best] for best in decisions.best.tolist())
        documents += len(block.rows)
        has_tokens = decisions.tokens > 0
        without_tokens += int((~has_tokens).sum())
        tokens += int(decisions.tokens.sum())
        unknown += float((decisions.unknown_share[has_tokens] * decisions.tokens[has_tokens]).sum())
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
