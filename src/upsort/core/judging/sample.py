"""What was drawn independently: decisions are about documents, documents may be decided several times, and may belong together.

A document that is judged in every repeat of the folds is one document still, and passages of one book, or copies of one letter,
tell less than as many that have nothing to do with each other. Whatever has an interval or a test is computed from this.
"""

import numpy as np

from upsort.core.arrays import Bools, Floats, Ints
from upsort.core.records import record


@record(frozen=True, kw_only=True)
class Sample:
    """m decisions about n documents in g groups.

    document: (m,) the number of the document that each decision is about, from 0. repeats: how often each document was decided.
    group: (n,) the number of each document's group, from 0, or None where all stand alone.
    """

    document: Ints
    repeats: int = 1
    group: Ints | None = None

    @staticmethod
    def of(judged: Ints, repeats: int = 1, groups: Ints | None = None) -> "Sample":
        """judged: (m,) places of the decided documents among all. groups: of all; those that hold one document each are none."""
        places, document = np.unique(judged, return_inverse=True)
        group = None
        if groups is not None:
            distinct, number = np.unique(groups[places], return_inverse=True)
            group = number.astype(np.int64) if distinct.size < places.size else None
        return Sample(document=document.astype(np.int64), repeats=repeats, group=group)

    @property
    def plain(self) -> bool:
        """Whether each decision is about a document of its own that stands alone."""
        return self.repeats == 1 and self.group is None

    @property
    def documents(self) -> int:
        """n."""
        return int(self.document.max(initial=-1)) + 1

    @property
    def groups(self) -> int:
        """g; n where all stand alone."""
        return self.documents if self.group is None else int(self.group.max(initial=-1)) + 1

    def rows(self, chosen: Bools) -> "Sample":
        """Some of the decisions."""
        return Sample.of(self.document[chosen], self.repeats, self.group)

    def mean(self, values: Floats) -> Floats:
        """(n,) the mean of (m,) values over the decisions about each document."""
        if self.repeats == 1 and self.document.size == self.documents:
            averages = np.empty(self.documents)
            averages[self.document] = values
            return averages
        means: Floats = np.bincount(self.document, weights=values, minlength=self.documents) / self.repeats
        return means

    def sum_per_document(self, values: Floats) -> Floats:
        """(g,) the sum of (n,) values over the documents of each group."""
        if self.group is None:
            return values
        return np.asarray(np.bincount(self.group, weights=values, minlength=self.groups), dtype=np.float64)

    def differences(self, values: Floats) -> Ints:
        """(g,) the sums of (m,) whole numbers over the decisions about the documents of each group."""
        whole = self.sum_per_document(self.mean(values) * self.repeats)
        return np.rint(whole).astype(np.int64)

    def decided_once(self) -> list[Ints]:
        """The places of the decisions of each repeat: each document once."""
        if self.repeats == 1:
            return [np.arange(self.document.size)]
        order = np.argsort(self.document, kind="stable")
        return [np.sort(order[start :: self.repeats]) for start in range(self.repeats)]
