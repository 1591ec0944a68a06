"""What all judging jobs share: the labelled documents, who must stay together, and the splits."""

from dataclasses import dataclass, replace

import numpy as np

from upsort.core.arrays import Floats, Ints
from upsort.core.errors import UsageProblem
from upsort.core.judging.copies_together import copy_groups, one_side
from upsort.core.judging.splits import Split, splits
from upsort.core.plan import Plan
from upsort.core.training import Labelled
from upsort.files.dates import as_day
from upsort.jobs.corpus import LabelledCorpus


@dataclass(frozen=True)
class Prepared:
    """documents: with their groups. splits: to judge by. copies: documents that copy another one. name: of the answer.

    rows: (n,) which documents of the corpus they are.
    """

    documents: Labelled
    splits: tuple[Split, ...]
    copies: int
    name: str
    rows: Ints


def prepared(corpus: LabelledCorpus, plan: Plan, answer: int = 0) -> Prepared:
    """Find the copies and make the splits that a plan asks for. Raises UsageProblem where a cell may hold several labels."""
    found = corpus.answers[answer]
    if found.documents.sets is not None:
        raise UsageProblem(
            "Cells with several labels are not judged by folds.",
            "Hold documents out (upsort split), train on the rest, and judge with upsort evaluate.",
        )
    documents, groups, copies = found.documents, found.documents.groups, 0
    if not plan.judge.allow_copies:
        together = copy_groups(documents.measured.counts)
        copies = int(together.size - np.unique(together).size)
        groups = one_side(groups, together)
    documents = replace(documents, groups=groups)
    dates = day_numbers([corpus.dates[row] for row in found.rows.tolist()]) if plan.columns.date else None
    given = [corpus.folds[row] for row in found.rows.tolist()] if plan.columns.fold else []
    made = splits(documents.labels, documents.names, plan.judge, groups, dates, given)
    return Prepared(documents, made, copies, found.name, found.rows)


def day_numbers(cells: list[str]) -> Floats:
    """(n,) numbers of days, NaN where a cell holds none."""
    days = [as_day(cell) for cell in cells]
    return np.array([day.toordinal() if day is not None else np.nan for day in days], dtype=np.float64)
