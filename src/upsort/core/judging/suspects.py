"""Labelled documents whose own label looks wrong to classifiers that never saw them.

Confident learning (Northcutt, Jiang & Chuang 2021, sections 3.1 and 4): a label's usual confidence is the mean probability
that the documents of the label get for it, out of fold. A document is a suspect when a label other than its own reaches that
label's usual confidence, and is the most probable of those that do. Suspects are ranked by how much more probable the
suggested label is.
"""

from dataclasses import dataclass

import numpy as np

from upsort.core.arrays import Floats, Ints


@dataclass(frozen=True, kw_only=True)
class Suspects:
    """places: (m,) documents, most suspicious first. suggested: (m,) label numbers. own, other: (m,) the probabilities of the
    own and of the suggested label. usual: (k,) usual confidence of each label, NaN for a label without documents."""

    places: Ints
    suggested: Ints
    own: Floats
    other: Floats
    usual: Floats


def find_suspects(labels: Ints, probabilities: Floats) -> Suspects:
    """labels: (n,) own label numbers. probabilities: (n, k), by classifiers that never saw the document."""
    n, k = probabilities.shape
    own = probabilities[np.arange(n), labels]
    sums = np.bincount(labels, weights=own, minlength=k)
    sizes = np.bincount(labels, minlength=k)
    usual = np.divide(sums, sizes, out=np.full(k, np.nan), where=sizes > 0)
    confident = probabilities >= np.where(np.isnan(usual), np.inf, usual)
    ranked = np.where(confident, probabilities, -1.0)
    suggested = ranked.argmax(axis=1)
    is_suspect = confident.any(axis=1) & (suggested != labels)
    places = np.flatnonzero(is_suspect)
    other = probabilities[places, suggested[places]]
    order = np.argsort(own[places] - other, kind="stable")
    places = places[order]
    return Suspects(
        places=places, suggested=suggested[places].astype(np.int64), own=own[places], other=other[order], usual=usual
    )
