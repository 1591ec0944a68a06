"""Dividing a corpus into a training and a held-out table, row for row as it was read."""

from collections import Counter
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from upsort.core import plan
from upsort.core.arrays import Bools, Ints
from upsort.core.errors import DataProblem
from upsort.core.features.counting import TermCounting
from upsort.core.judging.copies_together import copy_groups, one_side
from upsort.core.judging.folds import stratified_hold_out
from upsort.core.judging.splits import hold_out
from upsort.core.text.cleaning import cleaner
from upsort.core.training import numbered
from upsort.files.documents import read_documents
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.files.tables_out import table_file
from upsort.jobs.judging import day_numbers
from upsort.jobs.progress import nothing_usable

TRAINING_NAME = "train.csv"
HELD_OUT_NAME = "held-out.csv"


@dataclass(frozen=True)
class SplitResult:
    """Where the parts are, and how many documents of each label each has. copies: rows that copy another one."""

    training: Path
    held_out: Path
    labels: tuple[str, ...]
    training_labels: Counter[str]
    held_out_labels: Counter[str]
    copies: int


def split(
    inputs: Inputs,
    columns: plan.Columns,
    share: float,
    seed: int,
    folder: Path,
    aside: SetAside,
    allow_copies: bool = False,
    in_time: bool = False,
) -> SplitResult:
    """Hold out `share` of each label's documents. The inputs are read twice: once for the labels, once for the rows.

    Documents of one group, and copies of each other unless they are allowed, stay on one side. in_time: hold out the latest
    instead.

    Raises DataProblem when there are fewer than two labels or a label has a single document.
    """
    first = inputs.tables[0].columns
    for table in inputs.tables[1:]:
        if table.columns != first:
            raise DataProblem(
                f"{table.name} has other columns than {inputs.tables[0].name}.", "Split them one at a time."
            )
    labels: list[str] = []
    groups: list[str] = []
    dates: list[str] = []
    cleaning = cleaner(plan.Clean())
    counting, memory = TermCounting(plan.Features(), forms=cleaning.forms), cleaning.memory()
    for block in read_documents(inputs, columns, aside, need_label=True, need_text=False):
        labels += block.labels
        groups += block.groups
        dates += block.dates
        if columns.text and not allow_copies:
            counting.add(cleaning.words_of(block.texts, memory))
    if not labels:
        raise DataProblem(f"No usable row: {nothing_usable(aside)}.", "Check --label and --encoding.")
    names, numbers = numbered(labels)
    if len(names) < 2:
        raise DataProblem(f"All rows have the label {names[0]!r}; there is nothing to sort.", "Check --label.")
    copies = copy_groups(counting.counts().matrix) if columns.text and not allow_copies else None
    together = one_side(copies, numbered(groups)[1] if columns.group else None)
    held = _held_out(numbers, names, share, seed, together, dates if in_time else None)
    copied = int(copies.size - np.unique(copies).size) if copies is not None else 0
    training, held_out = folder / TRAINING_NAME, folder / HELD_OUT_NAME
    place = 0
    with table_file(training, first) as into_training, table_file(held_out, first) as into_held_out:
        for block in read_documents(inputs, columns, SetAside(), need_label=True, need_text=False):
            for row in block.rows:
                (into_held_out if held[place] else into_training).writerow(row)
                place += 1
    return SplitResult(
        training,
        held_out,
        names,
        Counter(label for label, out in zip(labels, held.tolist(), strict=True) if not out),
        Counter(label for label, out in zip(labels, held.tolist(), strict=True) if out),
        copied,
    )


def _held_out(
    labels: Ints, names: tuple[str, ...], share: float, seed: int, groups: Ints | None, dates: list[str] | None
) -> Bools:
    """(n,) which rows are held out."""
    if dates is not None:
        days = day_numbers(dates)
        known = days[~np.isnan(days)]
        if np.unique(known).size < 2:
            raise DataProblem("To split in time, rows need dates.", "Name their column with --set columns.date=COLUMN.")
        bound = np.sort(known)[int(np.floor((1.0 - share) * known.size))]
        return np.asarray(days >= bound)
    if groups is None or np.unique(groups).size == groups.size:
        return stratified_hold_out(labels, names, share, seed)
    out = np.zeros(labels.size, dtype=bool)
    out[hold_out(labels, share, seed, groups)] = True
    return out
