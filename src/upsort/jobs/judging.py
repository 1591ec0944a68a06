"""What all judging jobs share: the labelled documents of one answer, and the splits that keep together what belongs together."""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from upsort.core.arrays import Floats, Ints
from upsort.core.dates import Dates, dates_of
from upsort.core.judging.protocol import Parts
from upsort.core.judging.splits import Order, Splits, splits
from upsort.core.learning.labelled import Labelled
from upsort.core.plan import Plan
from upsort.core.records import record
from upsort.jobs.corpus import Answer, LabelledCorpus


@record(frozen=True, kw_only=True)
class Kept:
    """How what belongs together was kept on one side. copies: documents that copy another one. taken_out: documents that
    training parts had to give up for it, over all splits. undated: documents without a date, in a split in time. groups:
    how many there are, where a column names them. dates: what is to be told about how they are written."""

    copies: int = 0
    taken_out: int = 0
    undated: int = 0
    groups: int | None = None
    dates: str = ""


@record(frozen=True, kw_only=True)
class Prepared:
    """documents: with their groups. splits: to judge by. name: of the answer. rows: (n,) which documents of the corpus they
    are."""

    documents: Labelled
    splits: Splits
    kept: Kept
    name: str
    rows: Ints

    @property
    def parts(self) -> Parts:
        """The two sides of each split, not yet learned from."""
        return Parts(self.documents, self.splits.each)


def prepared(corpus: LabelledCorpus, plan: Plan, answer: Answer, allow_copies: bool | None = None) -> Prepared:
    """The splits that a plan asks for. allow_copies: otherwise than the plan says."""
    allowed = plan.judge.allow_copies if allow_copies is None else allow_copies
    together = answer.together
    documents = replace(answer.documents, groups=together.named if allowed else together.groups)
    marks, rows = corpus.marks, answer.rows.tolist()
    cells = [marks.dates[row] for row in rows] if plan.columns.date else []
    dates = dates_of(cells, plan.columns.date_format)
    order = Order(
        day_numbers(cells, dates) if plan.columns.date else None,
        [marks.folds[row] for row in rows] if plan.columns.fold else (),
    )
    made = splits(documents, plan.judge, order)
    named = np.unique(together.named).size if together.named is not None else None
    kept = Kept(
        copies=together.copies,
        taken_out=sum(made.taken_out),
        undated=made.undated,
        groups=named,
        dates=dates.said(plan.columns.date) if plan.judge.in_time else "",
    )
    return Prepared(documents=documents, splits=made, kept=kept, name=answer.name, rows=answer.rows)


def day_numbers(cells: Sequence[str], dates: Dates) -> Floats:
    """(n,) numbers of days, NaN where a cell holds none."""
    days = [dates.day(cell) for cell in cells]
    return np.array([day.toordinal() if day is not None else np.nan for day in days], dtype=np.float64)
