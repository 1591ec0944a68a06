"""Dividing a corpus into a training and a held-out table, row for row as it was read."""

from collections.abc import Sequence
from pathlib import Path

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Bools, Keys
from upsort.core.dates import dates_of
from upsort.core.errors import DataProblem
from upsort.core.features.beside import no_cells
from upsort.core.features.measured import Measured
from upsort.core.features.prints import Prints, prints_of
from upsort.core.features.prints import joined as joined_prints
from upsort.core.judging.splits import hold_out, latest
from upsort.core.judging.together import Together, copy_groups, named_groups
from upsort.core.learning.dealing import document_keys, text_digests
from upsort.core.learning.labelled import Labelled
from upsort.core.records import record
from upsort.files.by_name import ByName, together
from upsort.files.document_blocks import Marks
from upsort.files.documents import Needs, Reader
from upsort.files.parts import HELD_OUT_NAME, TRAINING_NAME
from upsort.files.reasons import Reason, Why
from upsort.files.rows import Refused
from upsort.files.set_aside import SetAside
from upsort.files.tables_out import table_file
from upsort.files.writing import replacing_together
from upsort.jobs.corpus import labels_of
from upsort.jobs.judging import day_numbers
from upsort.jobs.progress import nothing_usable
from upsort.jobs.work import Work

_FAR = 0.03  # from the share that was asked for


@record(frozen=True, kw_only=True)
class SplitResult:
    """Where the parts are, and how many documents of each label each has. copies: rows that copy another one. taken_out: rows
    that may be learned from by nobody, belonging together with held-out ones. groups: of rows that stay together, where a
    column names them. far: labels whose held-out share is more than 3 points from what was asked for, and of all rows
    under an empty name."""

    training: Path
    held_out: Path
    labels: tuple[str, ...]
    training_rows: int
    held_out_rows: int
    training_labels: dict[str, int]
    held_out_labels: dict[str, int]
    copies: int
    taken_out: int
    undated: int
    dates: str
    groups: int | None
    far: dict[str, float]


def split(work: Work, share: float, folder: Path) -> SplitResult:
    """Hold out `share` of each label's documents. The inputs are read twice: once for the labels, once for the rows.

    Documents of one group, and copies of each other unless the plan allows them, stay on one side. In time the latest are held
    out; earlier rows that belong together with one of them go to neither part, but to `aside`, and so do rows without a date.
    Raises DataProblem when there are fewer than two labels or a label has a single document.
    """
    reader = Reader(work.plan.columns, needs=Needs(text=False, label=True))
    seen = _looked(work, reader)
    separator = work.plan.columns.label_separator
    names, numbers, sets = labels_of(seen.marks.labels, separator, work.plan.columns.label)
    if len(names) < 2 and sets is None:
        raise DataProblem(f"All rows have the label {names[0]!r}; there is nothing to sort.", "Check --label.")
    documents = Labelled(
        measured=not_counted(numbers.size),
        labels=numbers,
        names=names,
        groups=seen.together.groups,
        keys=seen.keys,
        sets=sets,
    )
    left_out: dict[int, Reason] = {}
    said = ""
    if work.plan.judge.in_time:
        dates = dates_of(seen.marks.dates, work.plan.columns.date_format)
        said = dates.said(work.plan.columns.date)
        days = day_numbers(seen.marks.dates, dates)
        held, taken = latest(days, share, documents.groups)
        left_out = {place: Reason(Why.NO_DATE) for place in np.flatnonzero(np.isnan(days)).tolist()}
        left_out |= {place: Reason(Why.HELD_OUT_TOGETHER) for place in np.flatnonzero(taken).tolist()}
    else:
        held = hold_out(documents, share, work.plan.judge.seed)
    paths = (folder / TRAINING_NAME, folder / HELD_OUT_NAME)
    _write(work, reader, paths, held, left_out)
    kept = np.array([place not in left_out for place in range(numbers.size)], dtype=bool)
    own = documents.own
    sides = [dict(zip(names, own[side & kept].sum(axis=0).tolist(), strict=True)) for side in (~held, held)]
    rows = [int((side & kept).sum()) for side in (~held, held)]
    named = seen.together.named
    return SplitResult(
        training=paths[0],
        held_out=paths[1],
        labels=names,
        training_rows=rows[0],
        held_out_rows=rows[1],
        training_labels=sides[0],
        held_out_labels=sides[1],
        copies=seen.together.copies,
        taken_out=sum(reason.why is Why.HELD_OUT_TOGETHER for reason in left_out.values()),
        dates=said,
        undated=sum(reason.why is Why.NO_DATE for reason in left_out.values()),
        groups=np.unique(named).size if named is not None else None,
        far={} if work.plan.judge.in_time else _far(rows, sides, share),
    )


@record(frozen=True)
class _Looked:
    """What the first reading tells of the rows."""

    marks: Marks
    keys: Keys
    together: Together


def _looked(work: Work, reader: Reader) -> _Looked:
    marks: list[Marks] = []
    digests: list[Keys] = []
    prints: list[Prints] = []
    copies_wanted = bool(work.plan.columns.text) and not work.plan.judge.allow_copies
    for block in reader.blocks(work.inputs, work.aside):
        marks.append(block.marks)
        texts = block.texts if work.plan.columns.text else ["\0".join(row) for row in block.rows]
        digests.append(text_digests(texts))
        if copies_wanted:
            prints.append(prints_of(texts))
    whole = Marks.joined(marks) if marks else None
    if whole is None or not whole.ids:
        raise DataProblem(f"No usable row: {nothing_usable(work.aside)}.", "Check --label and --encoding.")
    together_ = Together(
        named_groups(whole.groups) if work.plan.columns.group else None,
        copy_groups(joined_prints(prints)) if copies_wanted else None,
    )
    return _Looked(whole, document_keys(np.concatenate(digests), whole.ids), together_)


def not_counted(documents: int) -> Measured:
    """Documents whose words do not matter here."""
    return Measured(
        counts=csr_array(np.zeros((documents, 0), dtype=np.int32)),
        terms=[],
        tokens=np.zeros(documents, dtype=np.int64),
        cells=no_cells(documents),
    )


def _write(work: Work, reader: Reader, paths: Sequence[Path], held: Bools, left_out: dict[int, Reason]) -> None:
    """Write the rows of both parts; those of neither are set aside with their reason."""
    by_name = ByName(together(table.columns for table in work.inputs.tables))
    with (
        replacing_together(),
        table_file(paths[0], by_name.columns) as training,
        table_file(paths[1], by_name.columns) as held_out,
    ):
        place = 0
        for block in reader.blocks(work.inputs, SetAside()):
            for row, line, cells in zip(block.rows, block.lines, by_name.rows(block.columns, block.rows), strict=True):
                if place in left_out:
                    work.aside.add(Refused(block.source, line, left_out[place], tuple(row)))
                else:
                    (held_out if held[place] else training).writerow(cells)
                place += 1


def _far(rows: Sequence[int], sides: Sequence[dict[str, int]], share: float) -> dict[str, float]:
    """The held-out shares that are further from what was asked for than 3 points, and further than one document makes."""
    found = {}
    for name in (*sides[0], ""):
        kept, held = (side[name] if name else rows[place] for place, side in enumerate(sides))
        off = abs(held - share * (kept + held))
        if off > _FAR * (kept + held) and off >= 1:
            found[name] = held / (kept + held)
    return found
