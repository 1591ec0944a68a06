"""Dividing a corpus into a training and a held-out table, row for row as it was read."""

from collections import Counter
from dataclasses import dataclass
from pathlib import Path

from upsort.core import plan
from upsort.core.errors import DataProblem
from upsort.core.judging.folds import stratified_hold_out
from upsort.core.training import numbered
from upsort.files.documents import read_documents
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.files.tables_out import table_file
from upsort.jobs.progress import nothing_usable

TRAINING_NAME = "train.csv"
HELD_OUT_NAME = "held-out.csv"


@dataclass(frozen=True)
class SplitResult:
    """Where the parts are, and how many documents of each label each has."""

    training: Path
    held_out: Path
    labels: tuple[str, ...]
    training_labels: Counter[str]
    held_out_labels: Counter[str]


def split(inputs: Inputs, columns: plan.Columns, share: float, seed: int, folder: Path, aside: SetAside) -> SplitResult:
    """Hold out `share` of each label's documents. The inputs are read twice: once for the labels, once for the rows.

    Raises DataProblem when there are fewer than two labels or a label has a single document.
    """
    first = inputs.tables[0].columns
    for table in inputs.tables[1:]:
        if table.columns != first:
            raise DataProblem(
                f"{table.name} has other columns than {inputs.tables[0].name}.", "Split them one at a time."
            )
    need_text = bool(columns.text)
    labels = [
        label
        for block in read_documents(inputs, columns, aside, need_label=True, need_text=need_text)
        for label in block.labels
    ]
    if not labels:
        raise DataProblem(f"No usable row: {nothing_usable(aside)}.", "Check --label and --encoding.")
    names, numbers = numbered(labels)
    if len(names) < 2:
        raise DataProblem(f"All rows have the label {names[0]!r}; there is nothing to sort.", "Check --label.")
    held = stratified_hold_out(numbers, names, share, seed)
    training, held_out = folder / TRAINING_NAME, folder / HELD_OUT_NAME
    place = 0
    with table_file(training, first) as into_training, table_file(held_out, first) as into_held_out:
        for block in read_documents(inputs, columns, SetAside(), need_label=True, need_text=need_text):
            for row in block.rows:
                (into_held_out if held[place] else into_training).writerow(row)
                place += 1
    return SplitResult(
        training,
        held_out,
        names,
        Counter(label for label, out in zip(labels, held.tolist(), strict=True) if not out),
        Counter(label for label, out in zip(labels, held.tolist(), strict=True) if out),
    )
