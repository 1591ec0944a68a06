"""Gather sources into one corpus: map columns, tidy labels, cut long documents, set aside what is unusable.

Sources are read once, or twice if a rule needs all documents first (rare labels, duplicates). Only fingerprints are kept between.
"""

from collections import Counter
from pathlib import Path

from msgspec import Struct

from upsort.core.errors import DataProblem, nearest
from upsort.core.text.characters import lower, spellings
from upsort.io.notices import RejectedRows
from upsort.io.outputs.table_file import table_file
from upsort.io.tables.columns import column_place, merged_columns_nested
from upsort.io.tables.formats import format_to_write
from upsort.io.tables.rows import RowWriter, text_maker, write_made
from upsort.workflows.shared.context import CHARACTERS_AT_ONCE, RowReading, RunContext, map_blocks, nothing_usable
from upsort.workflows.shared.row_filter import CorpusRows, FirstPass, RowFilter, RowGatherer, RowInspector


class SourceCounts(Struct):
    """Rows that were read of a table, and documents that were written."""

    rows: int = 0
    documents: int = 0


class GatherResult(Struct, kw_only=True):
    """upsort gather. documents: written, before cutting into passages. marked: kept, and marked as to be set aside. conflicts:
    copies under another label than what they copy. similar: documents that are no copies and resemble another, where near copies
    were looked for. labels: documents of each. spellings: labels that differ only in case, spaces or punctuation.
    missing_columns: for each table, the columns of the corpus that it lacks. unseen_labels: asked for and not there, each with
    the nearest."""

    corpus: str
    documents: int = 0
    rows_written: int = 0
    marked: int = 0
    conflicts: int = 0
    similar: int | None = None
    sources: dict[str, SourceCounts]
    labels: dict[str, int] = {}
    spellings: list[dict[str, int]] = []
    missing_columns: dict[str, list[str]] = {}
    unseen_labels: dict[str, list[str]] = {}


def gather(work: RunContext, output: Path) -> GatherResult:
    """Write the corpus to `output`. Raises UsageProblem for columns that a source does not have."""
    format_to_write(output)
    inputs, choices = work.inputs, work.plan
    every = [table.columns for table in inputs.tables]
    if choices.columns.id:  # one table may lack it, not all
        column_place(choices.columns.id, merged_columns_nested(every), "None of the sources")
    rows = CorpusRows(every, choices, format_to_write(output).nested)
    row_filter = RowFilter(inputs.tables, choices, rows)
    result = GatherResult(corpus=str(output), sources={table.name: SourceCounts() for table in inputs.tables})
    for table in inputs.tables:
        lacking = [name for name in rows.source_columns if name not in table.columns]
        if lacking:
            result.missing_columns[table.name] = lacking
    with table_file(output, rows.columns) as writer:
        _write(work, row_filter, writer, result)
    return result


def _write(work: RunContext, row_filter: RowFilter, writer: RowWriter, result: GatherResult) -> None:
    reading = RowReading(work.inputs, CHARACTERS_AT_ONCE)
    first_pass = _first_pass(work, row_filter, reading)
    gathering = RowGatherer(row_filter, first_pass)
    gathering.text_of = text_maker(writer)
    spelt: Counter[str] = Counter()
    labels: Counter[str] = Counter()
    written: set[str] = set()
    for gathered in map_blocks(reading, gathering, work.rejects, work.engine):
        for rejected in gathered.refused:
            work.rejects.add(rejected)
        write_made(writer, gathered.text, gathered.columns)
        labels.update(gathered.labels)
        result.marked += gathered.marked
        result.conflicts += gathered.conflicts
        result.documents += gathered.documents
        result.rows_written += gathered.count
        counts = result.sources[work.inputs.tables[gathered.table].name]
        counts.rows += gathered.read
        counts.documents += gathered.documents
        spelt.update(gathered.spelt)
        written |= gathered.written
        work.advance(gathered.read)
    result.labels = dict(labels.most_common())
    result.similar = first_pass.similar if first_pass is not None else None
    result.spellings = [dict(group) for group in spellings(spelt)]
    settings, language = row_filter.settings, work.plan.clean.language
    if not result.rows_written:
        raise DataProblem(f"No document is kept: {nothing_usable(work.rejects)}.", "Check the options; nothing was written.")
    unmatched = [label for label in settings.labels if (lower(label, language) if settings.fold_case else label) not in spelt]
    unmatched += [
        label for label in settings.relabel if label not in written and label not in {lower(name, language) for name in written}
    ]
    result.unseen_labels = {label: nearest(label, sorted(written - {""})) for label in unmatched}


def _first_pass(work: RunContext, row_filter: RowFilter, reading: RowReading) -> FirstPass | None:
    """The first pass, where one is needed."""
    settings = row_filter.settings
    near = "near-copies" in settings.drop
    copies = near or "copies" in settings.drop
    if not copies and not settings.rare_below:
        return None
    first_pass = FirstPass(settings.similarity if near else None)
    for seen in map_blocks(reading, RowInspector(row_filter, copies, near), RejectedRows(), work.engine):
        first_pass.add(seen)
    first_pass.finish(work.plan.judge.similarity)
    return first_pass
