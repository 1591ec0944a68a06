"""Gather sources into one corpus: map columns, tidy labels, cut long documents, set aside what is unusable.

Sources are read once, or twice if a rule needs all documents first (rare labels, duplicates). Only fingerprints are kept between.
"""

from collections import Counter
from dataclasses import field
from pathlib import Path
from typing import Annotated

from upsort.core.errors import nearest
from upsort.core.lazy import record
from upsort.core.text.characters import lower, spellings
from upsort.io.outputs.atomic import check_writable
from upsort.io.outputs.rejects import RejectedRows
from upsort.io.outputs.table_file import table_file
from upsort.io.tables.columns import column_place, merged_columns_nested
from upsort.io.tables.formats import format_to_write
from upsort.io.tables.rows import RowWriter, TextWriter, text_maker
from upsort.workflows.shared.context import RunContext
from upsort.workflows.shared.reading import RowReading, map_blocks
from upsort.workflows.shared.results import Result, described
from upsort.workflows.shared.row_filter import CorpusRows, FirstPass, RowFilter, RowGatherer, RowInspector

_CHARACTERS_AT_ONCE = 2_000_000


@record(kw_only=True)
class GatherResult:
    """documents: written (before cutting into passages). rows: written. marked: kept, but marked as to be set aside.

    per_source: rows read and documents written of each table. labels: documents of each. spellings: groups of labels that differ
    only in case, spaces or punctuation. conflicts: copies that are under another label than what they copy. missing: for each
    table, the columns of the corpus that it lacks. unseen: labels that were chosen or renamed but stand nowhere, with the nearest
    that do."""

    documents: int = 0
    rows: int = 0
    marked: int = 0
    conflicts: int = 0
    per_source: dict[str, list[int]] = field(default_factory=dict)
    labels: Counter[str] = field(default_factory=Counter)
    spellings: list[list[tuple[str, int]]] = field(default_factory=list)
    missing: dict[str, list[str]] = field(default_factory=dict)
    unseen: dict[str, list[str]] = field(default_factory=dict)


def gather(work: RunContext, output: Path) -> GatherResult:
    """Write the corpus to `output`. Raises UsageProblem for columns that a source does not have."""
    format_to_write(output)
    check_writable(output)
    inputs, choices = work.inputs, work.plan
    every = [table.columns for table in inputs.tables]
    if choices.columns.id:  # one table may lack it, not all
        column_place(choices.columns.id, merged_columns_nested(every), "None of the sources")
    rows = CorpusRows(every, choices, format_to_write(output).nested)
    row_filter = RowFilter(inputs.tables, choices, rows)
    result = GatherResult(per_source={table.name: [0, 0] for table in inputs.tables})
    for table in inputs.tables:
        lacking = [name for name in rows.source_columns if name not in table.columns]
        if lacking:
            result.missing[table.name] = lacking
    with table_file(output, rows.columns) as writer:
        _write(work, row_filter, writer, result)
    return result


def _write(work: RunContext, row_filter: RowFilter, writer: RowWriter, result: GatherResult) -> None:
    reading = RowReading(work.inputs, _CHARACTERS_AT_ONCE)
    gathering = RowGatherer(row_filter, _first_pass(work, row_filter, reading))
    gathering.text_of = text_maker(writer)
    spelt: Counter[str] = Counter()
    written: set[str] = set()
    for gathered in map_blocks(reading, gathering, work.rejects, work.engine, learns=False):
        for rejected in gathered.refused:
            work.rejects.add(rejected)
        if gathered.text and isinstance(writer, TextWriter):
            writer.write(gathered.text)
        else:
            writer.writerows(gathered.rows)
        result.labels.update(gathered.labels)
        result.marked += gathered.marked
        result.conflicts += gathered.conflicts
        result.documents += gathered.documents
        result.rows += gathered.count
        counts = result.per_source[work.inputs.tables[gathered.table].name]
        counts[0] += gathered.read
        counts[1] += gathered.documents
        spelt.update(gathered.spelt)
        written |= gathered.written
        work.advance(gathered.read)
    result.spellings = spellings(spelt)
    settings, language = row_filter.settings, work.plan.clean.language
    unmatched = [label for label in settings.labels if label not in spelt]
    unmatched += [
        label for label in settings.relabel if label not in written and label not in {lower(name, language) for name in written}
    ]
    result.unseen = {label: nearest(label, sorted(written - {""})) for label in unmatched}


def _first_pass(work: RunContext, row_filter: RowFilter, reading: RowReading) -> FirstPass | None:
    """The first pass, where one is needed."""
    settings = row_filter.settings
    near = "near-copies" in settings.drop
    copies = near or "copies" in settings.drop
    if not copies and not settings.rare_below:
        return None
    first_pass = FirstPass(settings.similarity if near else None)
    for seen in map_blocks(reading, RowInspector(row_filter, copies, near), RejectedRows(), work.engine, learns=False):
        first_pass.add(seen)
    first_pass.finish()
    return first_pass


class GatherJson(Result):
    """upsort gather"""

    corpus: str
    documents: int
    rows_written: int
    marked: Annotated[int, described("kept, and marked as to be set aside")]
    conflicts: Annotated[int, described("copies under another label than what they copy")]
    sources: dict[str, dict[str, int]]
    labels: dict[str, int]
    spellings: Annotated[list[dict[str, int]], described("labels that differ only in case, spaces or punctuation")]
    missing_columns: dict[str, list[str]]
    unseen_labels: Annotated[dict[str, list[str]], described("asked for and not there, each with the nearest")]
