"""Dividing a corpus into a training and a held-out table, row for row as it was read."""

from collections.abc import Sequence
from pathlib import Path

import numpy as np
from msgspec import Struct
from scipy.sparse import csr_array

from upsort.core.arrays import Bools, Keys, numbered
from upsort.core.dates import dates_of
from upsort.core.errors import DataProblem
from upsort.core.evaluation.duplicates import find_duplicates
from upsort.core.evaluation.splits import Groups, hold_out, latest, named_groups
from upsort.core.features.corpus_counts import CorpusCounts
from upsort.core.features.documents import no_cells
from upsort.core.features.fingerprints import Fingerprints, fingerprints_of
from upsort.core.features.fingerprints import joined as join_fingerprints
from upsort.core.lazy import record
from upsort.core.training.labelled import LabelledDocuments
from upsort.core.training.stratified_split import document_keys, text_digests
from upsort.io.notices import RejectedRows
from upsort.io.outputs.atomic import replacing_all
from upsort.io.outputs.registry import HELD_OUT_NAME, TRAINING_NAME
from upsort.io.outputs.table_file import table_file
from upsort.io.tables.columnar import chosen_rows
from upsort.io.tables.columns import ColumnMapper, merged_columns
from upsort.io.tables.document_blocks import RowMetadata, large_blocks
from upsort.io.tables.documents import DocumentReader, RowRequirement
from upsort.io.tables.rows import ReasonKind, RejectedRow, RejectionReason, write_columns
from upsort.workflows.cross_validate import day_numbers
from upsort.workflows.shared.context import CHARACTERS_AT_ONCE, RunContext, nothing_usable
from upsort.workflows.shared.corpus import check_labels, labels_of

_FAR = 0.03  # from the share that was asked for


class SplitPart(Struct, frozen=True):
    """One side of a split."""

    file: str
    documents: int


class PartCounts(Struct, frozen=True):
    """Documents of a label on each side."""

    training: int
    held_out: int


class SplitResult(Struct, frozen=True, kw_only=True):
    """upsort split. copies: rows that resemble an earlier one. divided: rows in sets of similar ones that are too large to be
    kept together, or that hold all rows of a label. groups: of rows that stay together, where a column names them.
    taken_out_of_training: rows that may be learned from by nobody, belonging together with held-out ones. off_the_share: labels
    whose held-out share is more than 3 points from what was asked for, and `all` for all rows. dates: how dates were read."""

    training: SplitPart
    held_out: SplitPart
    labels: dict[str, PartCounts]
    copies: int
    divided: int
    groups: int | None
    taken_out_of_training: int
    without_date: int
    off_the_share: dict[str, float]
    seed: int | None
    dates: str


def split(work: RunContext, share: float, folder: Path) -> SplitResult:
    """Hold out `share` of each label's documents. The inputs are read twice: once for the labels, once for the rows.

    Documents of one group, and copies of each other unless the plan allows them, stay on one side. In time the latest are held
    out; earlier rows that belong together with one of them go to neither part, but to `rejects`, and so do rows without a date.
    Raises DataProblem when there are fewer than two labels or a label has a single document."""
    reader = DocumentReader(work.plan.columns, needs=RowRequirement(text=False, label=True))
    seen = _split_input(work, reader)
    separator, (cells, of_rows) = work.plan.columns.label_separator, numbered(seen.metadata.labels)
    check_labels(cells, of_rows.size, separator, work.plan.columns.label)
    names, numbers, sets = labels_of(cells, of_rows, separator)
    if len(names) < 2 and sets is None:
        raise DataProblem(f"All rows have the label {names[0]!r}; there is nothing to sort.", "Check --label.")
    groups = seen.groups.splittable(numbers, sets)
    documents = LabelledDocuments(
        measured=not_counted(numbers.size), labels=numbers, names=names, groups=groups.groups, keys=seen.keys, sets=sets
    )
    left_out: dict[int, RejectionReason] = {}
    message = ""
    if work.plan.judge.in_time:
        dates = dates_of(seen.metadata.dates, work.plan.columns.date_format)
        message = dates.description(work.plan.columns.date)
        days = day_numbers(seen.metadata.dates, dates)
        held_out, excluded = latest(days, share, documents.groups)
        left_out = {place: RejectionReason(ReasonKind.NO_DATE) for place in np.flatnonzero(np.isnan(days)).tolist()}
        left_out |= {place: RejectionReason(ReasonKind.HELD_OUT_GROUP) for place in np.flatnonzero(excluded).tolist()}
    else:
        held_out = hold_out(documents, share, work.plan.judge.seed)
    paths = (folder / TRAINING_NAME, folder / HELD_OUT_NAME)
    included = np.ones(numbers.size, dtype=bool)
    included[list(left_out)] = False
    _write(work, reader, paths, (held_out, included), left_out)
    own = documents.own
    label_counts = [
        dict(zip(names, own[side_rows & included].sum(axis=0).tolist(), strict=True)) for side_rows in (~held_out, held_out)
    ]
    rows = [int((side_rows & included).sum()) for side_rows in (~held_out, held_out)]
    named = groups.named
    judge, reasons = work.plan.judge, [reason.why for reason in left_out.values()]
    return SplitResult(
        training=SplitPart(str(paths[0]), rows[0]),
        held_out=SplitPart(str(paths[1]), rows[1]),
        labels={name: PartCounts(label_counts[0][name], label_counts[1][name]) for name in names},
        copies=groups.copies,
        divided=groups.divided,
        groups=np.unique(named).size if named is not None else None,
        taken_out_of_training=reasons.count(ReasonKind.HELD_OUT_GROUP),
        without_date=reasons.count(ReasonKind.NO_DATE),
        off_the_share={} if judge.in_time else _far(rows, label_counts, share),
        seed=None if judge.in_time else judge.seed,
        dates=message,
    )


@record(frozen=True)
class _SplitInput:
    """What the first reading says of the rows."""

    metadata: RowMetadata
    keys: Keys
    groups: Groups


def _split_input(work: RunContext, reader: DocumentReader) -> _SplitInput:
    metadata: list[RowMetadata] = []
    digests: list[Keys] = []
    fingerprints: list[Fingerprints] = []
    copies_matter = bool(work.plan.columns.text) and not work.plan.judge.allow_copies
    for block in large_blocks(reader.blocks(work.inputs, work.rejects), CHARACTERS_AT_ONCE):
        metadata.append(block.metadata)
        texts = block.texts if work.plan.columns.text else ["\0".join(row) for row in block.rows]
        digests.append(text_digests(texts))
        if copies_matter:
            fingerprints.append(fingerprints_of(texts))
    whole = RowMetadata.joined(metadata) if metadata else None
    if whole is None or not whole.ids:
        raise DataProblem(f"No usable row: {nothing_usable(work.rejects)}.", "Check --label and --encoding.")
    all_groups = Groups.of(
        named_groups(whole.groups) if work.plan.columns.group else None,
        find_duplicates(join_fingerprints(fingerprints), work.plan.judge.similarity, work.engine.threads)
        if copies_matter
        else None,
    )
    return _SplitInput(whole, document_keys(np.concatenate(digests), whole.ids), all_groups)


def not_counted(documents: int) -> CorpusCounts:
    """Documents whose words do not matter here."""
    return CorpusCounts(
        counts=csr_array(np.zeros((documents, 0), dtype=np.int32)),
        terms=[],
        tokens=np.zeros(documents, dtype=np.int64),
        cells=no_cells(documents),
    )


def _write(
    work: RunContext,
    reader: DocumentReader,
    paths: Sequence[Path],
    sides: tuple[Bools, Bools],
    left_out: dict[int, RejectionReason],
) -> None:
    """Write the rows of both parts; those of neither are set aside with their reason. sides: which rows are held out, and which
    are in one of the parts."""
    held_out_rows, included = sides
    by_name = ColumnMapper(merged_columns(table.columns for table in work.inputs.tables))
    with replacing_all(), table_file(paths[0], by_name.columns) as training, table_file(paths[1], by_name.columns) as held_out:
        first = 0
        for block in large_blocks(reader.blocks(work.inputs, RejectedRows()), CHARACTERS_AT_ONCE):
            held, written = held_out_rows[first:][: len(block.rows)], included[first:][: len(block.rows)]
            for writer, chosen in ((training, ~held & written), (held_out, held & written)):
                rows = chosen_rows(block.rows, np.flatnonzero(chosen).tolist())
                write_columns(writer, by_name.cells(block.columns, rows))
            for row in np.flatnonzero(~written).tolist():
                work.rejects.add(RejectedRow(block.source, block.lines[row], left_out[first + row], tuple(block.rows[row])))
            first += len(block.rows)


def _far(rows: Sequence[int], label_counts: Sequence[dict[str, int]], share: float) -> dict[str, float]:
    """The held-out shares that are further from what was asked for than 3 points, and further than one document makes."""
    differences = {}
    for name in (*label_counts[0], ""):
        training_count, held_out_count = (counts[name] if name else rows[place] for place, counts in enumerate(label_counts))
        off = abs(held_out_count - share * (training_count + held_out_count))
        if off > _FAR * (training_count + held_out_count) and off >= 1:
            differences[name or "all"] = held_out_count / (training_count + held_out_count)
    return differences
