"""Names for the kinds of array that signatures speak of; the docstrings give the shapes."""

from typing import Any

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
Codes = npt.NDArray[np.int32]
Places = npt.NDArray[np.intp]
Bools = npt.NDArray[np.bool_]
Bytes = npt.NDArray[np.uint8]
Keys = npt.NDArray[np.uint64]
AnyArray = npt.NDArray[Any]
