"""Whether a sorter is right as often as it says.

Documents are put into ten bins by the probability of the label they were given. The calibration error is the mean over the
documents of the distance between a bin's mean probability and its share right (Naeini, Cooper & Hauskrecht 2015). It is above 0
for perfect probabilities too, since shares of few documents vary: by about √(2 p (1 − p) / (π n)) in a bin of n documents, the
mean distance of a normal variable.
"""

import numpy as np

from upsort.core.arrays import Bools, Floats
from upsort.core.judging.intervals import Rate, share_of
from upsort.core.judging.sample import Sample
from upsort.core.records import record

_BINS = 10


@record(frozen=True, kw_only=True)
class Bin:
    """Documents whose given label has a probability from `low` on, below `high`. probability: the mean. right: how many of
    them are."""

    low: float
    high: float
    probability: float
    right: Rate

    @property
    def documents(self) -> float:
        """How many."""
        return self.right.of or 0.0


@record(frozen=True)
class Reliability:
    """The bins that hold documents, lowest first."""

    bins: tuple[Bin, ...]

    @property
    def error(self) -> float:
        """The calibration error."""
        return self._mean(
            np.array(
                [
                    abs(reliability_bin.probability - (reliability_bin.right.value or 0.0))
                    for reliability_bin in self.bins
                ]
            )
        )

    @property
    def by_chance(self) -> float:
        """What perfect probabilities would show on as many documents."""
        p = np.array([reliability_bin.probability for reliability_bin in self.bins])
        n = np.array([max(reliability_bin.documents, 1.0) for reliability_bin in self.bins])
        return self._mean(np.sqrt(2.0 * p * (1.0 - p) / (np.pi * n)))

    @property
    def fullest(self) -> Bin | None:
        """The bin with most documents; of equals the lower."""
        return max(self.bins, key=lambda reliability_bin: reliability_bin.documents, default=None)

    def _mean(self, of_bins: Floats) -> float:
        weights = np.array([reliability_bin.documents for reliability_bin in self.bins])
        return float((weights * of_bins).sum() / max(weights.sum(), 1.0))


def reliability(probability: Floats, right: Bools, sample: Sample) -> Reliability:
    """probability: (m,) of the given label. right: (m,) whether it is the document's own."""
    place = np.minimum((np.round(probability, 12) * _BINS).astype(np.int64), _BINS - 1)
    bins = []
    for number in np.unique(place).tolist():
        among = place == number
        bins.append(
            Bin(
                low=number / _BINS,
                high=(number + 1) / _BINS,
                probability=float(probability[among].mean()),
                right=share_of((right & among).astype(np.float64), among.astype(np.float64), sample),
            )
        )
    return Reliability(tuple(bins))
