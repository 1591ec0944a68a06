"""The record that each measure fills in. What a measure is stands there, and everything that shows, compares or keeps it reads
it."""

from collections.abc import Callable
from enum import Enum

from upsort.core.judging.costs import CostSummary
from upsort.core.judging.intervals import Rate
from upsort.core.judging.measures import Judgement, LabelMeasures
from upsort.core.judging.probability_measures import ProbabilityMeasures
from upsort.core.judging.undecided import Undecided
from upsort.core.records import record


class Unit(Enum):
    """How a value is written."""

    PERCENT = "a share of documents, or a mean of shares"
    NUMBER = "a number"


@record(frozen=True)
class JudgedEvidence:
    """What a measure is made from. probability: None where only labels were given. costs: where a table of costs was.
    undecided: where some documents were left so."""

    judgement: Judgement
    probability: ProbabilityMeasures | None = None
    costs: CostSummary | None = None
    undecided: Undecided | None = None


@record(frozen=True, kw_only=True)
class Measure:
    """A measure of decisions as a whole.

    key: in JSON, in bounds and in the ledger. name: in tables and sentences. told: how it is worked out, in one line. of: the
    value with its interval; None where there is no such thing for these decisions. leading: whether it is told in every result,
    in a sentence. same_as: the key of the measure that it is equal to unless the plan asks for more; it is then shown for both.
    """

    key: str
    name: str
    summary: str
    of: Callable[[JudgedEvidence], Rate | None]
    unit: Unit = Unit.PERCENT
    more_is_better: bool = True
    leading: bool = False
    same_as: str = ""

    def better(self, value: float | None) -> float:
        """A number that is the larger the better the value is; the smallest of all where there is none."""
        if value is None:
            return float("-inf")
        return value if self.more_is_better else -value


@record(frozen=True, kw_only=True)
class LabelMeasure:
    """A measure of the decisions about one label. with_interval: whether the table by label shows its interval too."""

    key: str
    name: str
    summary: str
    of: Callable[[LabelMeasures], Rate]
    with_interval: bool = True
    shown: bool = True
