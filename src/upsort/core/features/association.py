"""How strongly a term and a label go together, from the four counts of documents with and without each.

n11: documents of the label with the term; n10: other documents with it; n01: documents of the label without it; n00: neither
(Manning, Raghavan & Schütze 2008, section 13.5).
"""

import numpy as np

from upsort.core.arrays import Floats


def chi_square(n11: Floats, n10: Floats, n01: Floats, n00: Floats) -> Floats:
    """(…) the statistic N (n11 n00 − n10 n01)² / ((n11 + n01)(n11 + n10)(n10 + n00)(n01 + n00)); 0 where a margin is empty."""
    total = n11 + n10 + n01 + n00
    denominator = (n11 + n01) * (n11 + n10) * (n10 + n00) * (n01 + n00)
    above = total * (n11 * n00 - n10 * n01) ** 2
    statistic: Floats = np.divide(above, denominator, out=np.zeros_like(above), where=denominator > 0)
    return statistic


def mutual_information(n11: Floats, n10: Floats, n01: Floats, n00: Floats) -> Floats:
    """(…) the expected mutual information in bits: Σ over the four cells of n/N · log2(N n / (row · column))."""
    total = n11 + n10 + n01 + n00
    information = np.zeros_like(total)
    for cell, row, column in (
        (n11, n11 + n10, n11 + n01),
        (n10, n11 + n10, n10 + n00),
        (n01, n01 + n00, n11 + n01),
        (n00, n01 + n00, n10 + n00),
    ):
        ratio = np.divide(total * cell, row * column, out=np.ones_like(total), where=(row * column > 0) & (cell > 0))
        information += cell / total * np.log2(ratio)
    return information
