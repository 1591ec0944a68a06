"""What decisions cost by a table of costs, beside what other ways of deciding would."""

import numpy as np

from upsort.core.arrays import Floats, Ints
from upsort.core.judging.intervals import Rate, student
from upsort.core.judging.probability_measures import mean_loss
from upsort.core.judging.sample import Sample
from upsort.core.records import record


@record(frozen=True, kw_only=True)
class CostSummary:
    """Mean costs of a document. mean: of the decisions. plain: of the most probable labels. constant: of always giving one label,
    the cheapest here. more: what the decisions cost more than the most probable labels, below 0 where they cost less."""

    mean: Rate
    plain: Rate
    constant: Rate
    constant_label: str
    more: Rate

    @property
    def is_worse(self) -> bool:
        """Whether the most probable labels would surely cost less."""
        return self.more.low is not None and self.more.low > 0


@record(frozen=True, kw_only=True)
class PricedDecisions:
    """m decisions with their prices. true, sorted_as, likeliest: (m,) label numbers into `labels`, the last those of the most
    probable labels. table: (k sorted as, k true). sample: which documents the decisions are about."""

    true: Ints
    sorted_as: Ints
    likeliest: Ints
    labels: tuple[str, ...]
    table: Floats
    sample: Sample


def summarise_costs(priced: PricedDecisions) -> CostSummary:
    """Work out the costs."""
    true, table, sample = priced.true, priced.table, priced.sample
    each, plain = table[priced.sorted_as, true], table[priced.likeliest, true]
    constant = int(np.argmin(table[:, true].mean(axis=1)))
    return CostSummary(
        mean=mean_loss(each, sample),
        plain=mean_loss(plain, sample),
        constant=mean_loss(table[constant, true], sample),
        constant_label=priced.labels[constant],
        more=_difference(each - plain, sample),
    )


def _difference(values: Floats, sample: Sample) -> Rate:
    """The mean of (m,) differences with Student's interval, groups as units."""
    mean, n = float(values.mean()), sample.documents
    residuals = sample.sum_per_document(sample.mean(values) - mean)
    units = residuals.size
    if units < 2:
        return Rate(value=mean, low=None, high=None, documents=n)
    half = student(units - 1) * float(np.sqrt(units / (units - 1) * (residuals**2).sum())) / n
    return Rate(value=mean, low=mean - half, high=mean + half, documents=n)
