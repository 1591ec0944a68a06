"""Numbers for the distinct values of an array, in the order in which they come."""

from typing import Any

import numpy as np
import numpy.typing as npt

from upsort.core.arrays import AnyArray
from upsort.core.deferred import pandas

_LARGE = 400_000
"""Values from which a table of hashes is so much faster than sorting that loading the library for it pays."""


def factorize(values: AnyArray) -> tuple[npt.NDArray[np.intp], AnyArray]:
    """(n,) whole numbers → (n,) the number of each value, and the distinct values as they first come."""
    if values.size >= _LARGE:
        codes, distinct = pandas.factorize(values)
        return codes, np.asarray(distinct)
    distinct, first, inverse = np.unique(values, return_index=True, return_inverse=True)
    order = np.argsort(first)
    rank: Any = np.empty(order.size, dtype=np.intp)
    rank[order] = np.arange(order.size)
    return rank[inverse], distinct[order]
