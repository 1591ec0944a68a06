"""The decisions about the passages of a document, added up to one about the document."""

from collections.abc import Sequence

import numpy as np

from upsort.core.arrays import Floats
from upsort.core.errors import UsageProblem

WAYS = ("mean", "median", "trimmed", "product")
_TRIMMED = 0.1  # share of the passages left out at either end


def added_up(probabilities: Floats, documents: Sequence[str], way: str) -> tuple[list[str], Floats]:
    """The documents in the order of their first passages, and (d, k) their probabilities, whose rows sum to 1.

    probabilities: (n, k) of passages. documents: (n,) whose passage each is. way: the mean, the median, the mean without the
    highest and lowest tenth, or the product of the passages' probabilities (which takes them for independent).
    """
    if way not in WAYS:
        raise UsageProblem(f"Passages cannot be added up by {way!r}.", f"Use one of {', '.join(WAYS)}.")
    names = list(dict.fromkeys(documents))
    number = {name: place for place, name in enumerate(names)}
    owner = np.array([number[name] for name in documents])
    sums = np.empty((len(names), probabilities.shape[1]))
    for place in range(len(names)):
        sums[place] = _together(probabilities[owner == place], way)
    totals = sums.sum(axis=1, keepdims=True)
    return names, np.where(totals > 0, sums / np.where(totals > 0, totals, 1.0), 1.0 / probabilities.shape[1])


def _together(passages: Floats, way: str) -> Floats:
    match way:
        case "median":
            return np.asarray(np.median(passages, axis=0))
        case "trimmed":
            cut = int(_TRIMMED * len(passages))
            return np.asarray(np.sort(passages, axis=0)[cut : len(passages) - cut].mean(axis=0))
        case "product":
            logs = np.log(np.maximum(passages, 1e-300)).sum(axis=0)
            return np.asarray(np.exp(logs - logs.max()))
        case _:
            return np.asarray(passages.mean(axis=0))
