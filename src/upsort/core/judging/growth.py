"""How the result grows with the number of labelled documents.

To the mean accuracies a(m) on m documents the curve a − b · m^(−c), b, c > 0, is fitted by least squares (the inverse power
law of learning curves; Figueroa et al. 2012).
"""

from dataclasses import dataclass
from math import inf

import numpy as np

from upsort.core.arrays import Floats


@dataclass(frozen=True)
class Growth:
    """ceiling, drop, rate: a, b and c. spread: the standard deviation of the points around the curve."""

    ceiling: float
    drop: float
    rate: float
    spread: float

    def at(self, documents: float) -> float:
        """The accuracy expected from so many documents."""
        return float(min(self.ceiling - self.drop * documents**-self.rate, 1.0))

    def between(self, documents: float) -> tuple[float, float]:
        """That accuracy, give or take two standard deviations."""
        middle = self.at(documents)
        return max(middle - 2 * self.spread, 0.0), min(middle + 2 * self.spread, 1.0)


def fitted_growth(documents: Floats, accuracies: Floats) -> Growth | None:
    """The curve through the points, or None where there are fewer than four or none fits."""
    if documents.size < 4:
        return None

    def curve(m: Floats, a: float, b: float, c: float) -> Floats:
        values: Floats = a - b * m**-c
        return values

    from scipy.optimize import curve_fit  # slow to load

    try:
        (a, b, c), _ = curve_fit(
            curve,
            documents,
            accuracies,
            p0=(float(accuracies.max()), 1.0, 0.5),
            bounds=((0.0, 0.0, 0.01), (1.0, inf, 3.0)),
            maxfev=5000,
        )
    except RuntimeError:
        return None
    spread = float(np.sqrt(((curve(documents, a, b, c) - accuracies) ** 2).sum() / max(documents.size - 3, 1)))
    return Growth(float(a), float(b), float(c), spread)
