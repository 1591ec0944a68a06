"""Gathering sources into one corpus: columns mapped, labels tidied, long documents cut, what is of no use set aside.

The sources are read once, or twice where something must be known of all documents before any is written (which labels are
rare, which documents are copies). Only prints of the documents are held in between.
"""

from collections import Counter
from dataclasses import field
from pathlib import Path

from upsort.core.names import nearest
from upsort.core.records import record
from upsort.core.text.labels import spellings
from upsort.core.text.lowercase import lower
from upsort.files.by_name import all_together
from upsort.files.columns import column_place
from upsort.files.format import RowWriter, TextWriter, text_maker
from upsort.files.formats import format_to_write
from upsort.files.set_aside import SetAside
from upsort.files.tables_out import table_file
from upsort.files.writing import check_writable
from upsort.jobs.corpus_rows import CorpusRows
from upsort.jobs.reading import RowReading, worked_on
from upsort.jobs.sifting import Gathering, Looked, Looking, Sifting
from upsort.jobs.work import Work

_CHARACTERS_AT_ONCE = 2_000_000


@record(kw_only=True)
class GatherResult:
    """documents: written (before cutting into passages). rows: written. marked: kept, but marked as to be set aside.

    per_source: rows read and documents written of each table. labels: documents of each. spellings: groups of labels that
    differ only in case, spaces or punctuation. conflicts: copies that stand under another label than what they copy.
    missing: for each table, the columns of the corpus that it lacks. unseen: labels that were chosen or renamed but stand
    nowhere, with the nearest that do.
    """

    documents: int = 0
    rows: int = 0
    marked: int = 0
    conflicts: int = 0
    per_source: dict[str, list[int]] = field(default_factory=dict)
    labels: Counter[str] = field(default_factory=Counter)
    spellings: list[list[tuple[str, int]]] = field(default_factory=list)
    missing: dict[str, list[str]] = field(default_factory=dict)
    unseen: dict[str, list[str]] = field(default_factory=dict)


def gather(work: Work, output: Path) -> GatherResult:
    """Write the corpus to `output`. Raises UsageProblem for columns that a source does not have."""
    format_to_write(output)
    check_writable(output)
    inputs, choices = work.inputs, work.plan
    every = [table.columns for table in inputs.tables]
    if choices.columns.id:  # one table may lack it, not all
        column_place(choices.columns.id, all_together(every), "None of the sources")
    rows = CorpusRows(every, choices, format_to_write(output).nested)
    sifting = Sifting(inputs.tables, choices, rows)
    result = GatherResult(per_source={table.name: [0, 0] for table in inputs.tables})
    for table in inputs.tables:
        lacking = [name for name in rows.taken if name not in table.columns]
        if lacking:
            result.missing[table.name] = lacking
    with table_file(output, rows.columns) as writer:
        _write(work, sifting, writer, result)
    return result


def _write(work: Work, sifting: Sifting, writer: RowWriter, result: GatherResult) -> None:
    reading = RowReading(work.inputs, _CHARACTERS_AT_ONCE)
    gathering = Gathering(sifting, _look(work, sifting, reading))
    gathering.text_of = text_maker(writer)
    spelt: Counter[str] = Counter()
    written: set[str] = set()
    for found in worked_on(reading, gathering, work.aside, work.engine, learns=False):
        for one in found.refused:
            work.aside.add(one)
        if found.text and isinstance(writer, TextWriter):
            writer.write(found.text)
        else:
            writer.writerows(found.rows)
        result.labels.update(found.labels)
        result.marked += found.marked
        result.conflicts += found.conflicts
        result.documents += found.documents
        result.rows += found.count
        counts = result.per_source[work.inputs.tables[found.table].name]
        counts[0] += found.read
        counts[1] += found.documents
        spelt.update(found.spelt)
        written |= found.written
        work.advance(found.read)
    result.spellings = spellings(spelt)
    settings, language = sifting.settings, work.plan.clean.language
    wanted = [label for label in settings.labels if label not in spelt]
    wanted += [
        label
        for label in settings.relabel
        if label not in written and label not in {lower(name, language) for name in written}
    ]
    result.unseen = {label: nearest(label, sorted(written - {""})) for label in wanted}


def _look(work: Work, sifting: Sifting, reading: RowReading) -> Looked | None:
    """The first pass, where one is needed."""
    settings = sifting.settings
    near = "near-copies" in settings.drop
    copies = near or "copies" in settings.drop
    if not copies and not settings.rare_below:
        return None
    looked = Looked(settings.similarity if near else None)
    for seen in worked_on(reading, Looking(sifting, copies, near), SetAside(), work.engine, learns=False):
        looked.add(seen)
    looked.finish()
    return looked
