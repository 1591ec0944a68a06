"""The decisions about the passages of a document, added up to one about the document."""

from collections.abc import Sequence

import numpy as np

from upsort.core.arrays import Floats, Ints
from upsort.core.errors import UsageProblem

WAYS = ("mean", "median", "trimmed", "product")
_TRIMMED = 0.1  # share of the passages left out at either end


def aggregate_passages(
    probabilities: Floats, documents: Sequence[str], way: str, exclusive: bool = True
) -> tuple[list[str], Ints, Floats]:
    """The documents in the order of their first passages, (n,) which of them each passage is of, and (d, k) their
    probabilities.

    probabilities: (n, k) of passages. documents: (n,) whose passage each is. way: the mean, the median, the mean without the
    highest and lowest tenth, or the product of the passages' probabilities (which takes them for independent). exclusive:
    whether a document has one label, so that the probabilities are made to sum to 1.
    """
    if way not in WAYS:
        raise UsageProblem(f"Passages cannot be added up by {way!r}.", f"Use one of {', '.join(WAYS)}.")
    names = list(dict.fromkeys(documents))
    number = {name: place for place, name in enumerate(names)}
    owner = np.array([number[name] for name in documents], dtype=np.int64)
    order = np.argsort(owner, kind="stable")
    ends = np.cumsum(np.bincount(owner, minlength=len(names)))
    sums = np.array([_combined(part, way, exclusive) for part in np.split(probabilities[order], ends[:-1])])
    sums = sums.reshape(len(names), probabilities.shape[1])
    if not exclusive:
        return names, owner, sums
    totals = sums.sum(axis=1, keepdims=True)
    return names, owner, np.where(totals > 0, sums / np.where(totals > 0, totals, 1.0), 1.0 / probabilities.shape[1])


def _combined(passages: Floats, way: str, exclusive: bool) -> Floats:
    match way:
        case "median":
            return np.asarray(np.median(passages, axis=0))
        case "trimmed":
            cut = int(_TRIMMED * len(passages))
            return np.asarray(np.sort(passages, axis=0)[cut : len(passages) - cut].mean(axis=0))
        case "product":
            logs = np.log(np.maximum(passages, 1e-300)).sum(axis=0)
            if not exclusive:  # of each label for itself: having it against not having it
                against = np.log(np.maximum(1.0 - passages, 1e-300)).sum(axis=0)
                return np.asarray(1.0 / (1.0 + np.exp(np.clip(against - logs, -700, 700))))
            return np.asarray(np.exp(logs - logs.max()))
        case "mean":
            return np.asarray(passages.mean(axis=0))
        case _:
            raise ValueError(f"there is no way {way!r} of adding up")
