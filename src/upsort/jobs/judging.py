"""What all judging jobs share: the labelled documents of one answer, and the splits that keep together what belongs together."""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from upsort.core.arrays import Floats, Ints
from upsort.core.dates import Dates, dates_of
from upsort.core.judging.protocol import SplitParts
from upsort.core.judging.splits import SplitOrder, Splits, splits
from upsort.core.learning.labelled import LabelledDocuments
from upsort.core.plan import Plan
from upsort.core.records import record
from upsort.jobs.corpus import LabelColumn, LabelledCorpus


@record(frozen=True, kw_only=True)
class DuplicateHandling:
    """How what belongs together was kept on one side. copies: documents that copy another one. taken_out: documents that
    training parts had to give up for it, over all splits. undated: documents without a date, in a split in time. groups:
    how many there are, where a column names them. dates: what is to be told about how they are written."""

    copies: int = 0
    excluded: int = 0
    undated: int = 0
    groups: int | None = None
    dates: str = ""


@record(frozen=True, kw_only=True)
class PreparedFolds:
    """documents: with their groups. splits: to judge by. name: of the answer. rows: (n,) which documents of the corpus they
    are."""

    documents: LabelledDocuments
    splits: Splits
    duplicates: DuplicateHandling
    name: str
    rows: Ints

    @property
    def parts(self) -> SplitParts:
        """The two sides of each split, not yet learned from."""
        return SplitParts(self.documents, self.splits.each)


def prepare_folds(
    corpus: LabelledCorpus, plan: Plan, answer: LabelColumn, allow_copies: bool | None = None
) -> PreparedFolds:
    """The splits that a plan asks for. allow_copies: otherwise than the plan says."""
    allowed = plan.judge.allow_copies if allow_copies is None else allow_copies
    groups = answer.groups
    documents = replace(answer.documents, groups=groups.named if allowed else groups.groups)
    metadata, rows = corpus.metadata, answer.rows.tolist()
    cells = [metadata.dates[row] for row in rows] if plan.columns.date else []
    dates = dates_of(cells, plan.columns.date_format)
    order = SplitOrder(
        day_numbers(cells, dates) if plan.columns.date else None,
        [metadata.folds[row] for row in rows] if plan.columns.fold else (),
    )
    made = splits(documents, plan.judge, order)
    named = np.unique(groups.named).size if groups.named is not None else None
    duplicates = DuplicateHandling(
        copies=groups.copies,
        excluded=sum(made.excluded),
        undated=made.undated,
        groups=named,
        dates=dates.description(plan.columns.date) if plan.judge.in_time else "",
    )
    return PreparedFolds(documents=documents, splits=made, duplicates=duplicates, name=answer.name, rows=answer.rows)


def day_numbers(cells: Sequence[str], dates: Dates) -> Floats:
    """(n,) numbers of days, NaN where a cell holds none."""
    days = [dates.day_number(cell) for cell in cells]
    return np.array([day.toordinal() if day is not None else np.nan for day in days], dtype=np.float64)
