"""How much documents resemble those that a sorter was trained on, and how accurate it is by that.

The similarity of two documents is that of `duplicates`: the share of their distinct pairs of neighbouring words that they have in
common. Here it is estimated from the least hashes of each (Broder 1997; Cohen & Kaplan 2007): below the smaller of the two
largest hashes that are kept, all pairs of words of both are known, so that the share in common there is an unbiased estimate;
its standard error is at most 0.09 where 32 hashes are kept, and short documents are known whole."""

from collections.abc import Iterator, Sequence

import numpy as np
from msgspec import Struct
from scipy.sparse import csr_array

from upsort.core.arrays import AnyArray, Bools, Floats, Ints
from upsort.core.distributions import normal_cdf
from upsort.core.evaluation.intervals import FEW, SURE, Rate, Sample, share_of
from upsort.core.features.fingerprints import Sketches
from upsort.core.training.fold_data import Split

_ROWS = 2000  # documents at a time
_MOST_WITH = 200  # documents that have a hash; what more have tells nothing of one
_CANDIDATES = 16  # that are compared at most
_SAME = 0.999  # estimates of 1 are exact up to rounding
_CLOSE = 0.5  # of the hashes that the closest candidate has in common, from which on a candidate is compared


class NearestTraining:
    """Finds the most similar of some training documents. sketches: of those."""

    def __init__(self, sketches: Sketches) -> None:
        self.sketches = sketches
        self.hashes, column, times = np.unique(sketches.hashes, return_inverse=True, return_counts=True)
        rows = np.repeat(np.arange(sketches.kept), np.diff(sketches.starts))
        rare = times[column] <= _MOST_WITH
        ones = np.ones(int(rare.sum()), dtype=np.int32)
        self._documents = csr_array((ones, (column[rare], rows[rare])), shape=(self.hashes.size, sketches.kept))

    def similarities(self, others: Sketches, allowed: Bools | None = None) -> Floats:
        """(m,) the similarity of other documents to the nearest; 0 where no training document has an uncommon pair of words in
        common. allowed: (n,) which training documents count."""
        nearest = np.zeros(others.kept)
        for begin in range(0, others.kept, _ROWS):
            rows = np.arange(begin, min(begin + _ROWS, others.kept))
            for row, document in self._candidates(others.rows(rows), allowed):
                similarity = estimated_similarities(others, begin + row, self.sketches, document)
                np.maximum.at(nearest, begin + row, similarity)
        return nearest

    def _candidates(self, others: Sketches, allowed: Bools | None) -> Iterator[tuple[Ints, Ints]]:
        """Pairs of rows and training documents that have most uncommon hashes in common."""
        place = np.minimum(np.searchsorted(self.hashes, others.hashes), max(self.hashes.size - 1, 0))
        known = self.hashes[place] == others.hashes if self.hashes.size else np.zeros(others.hashes.size, dtype=bool)
        if not known.any():
            return
        rows = np.repeat(np.arange(others.kept), np.diff(others.starts))[known]
        ones = np.ones(rows.size, dtype=np.int32)
        shape = (others.kept, self.hashes.size)
        common = csr_array(csr_array((ones, (rows, place[known])), shape=shape) @ self._documents).tocoo()
        row, document, times = (values.astype(np.int64) for values in (common.row, common.col, common.data))
        if allowed is not None:
            inside = allowed[document]
            row, document, times = row[inside], document[inside], times[inside]
        most = np.repeat(np.maximum.reduceat(times, _begins(row)), _sizes(row)) if row.size else times
        close = times >= _CLOSE * most
        row, document, times = row[close], document[close], times[close]
        order = np.lexsort((document, -times, row))
        row, document = row[order], document[order]
        ranked = np.arange(row.size) - np.repeat(_begins(row), _sizes(row)) < _CANDIDATES
        yield row[ranked], document[ranked]


def _begins(row: Ints) -> Ints:
    """Where each of the rows, which are sorted, begins."""
    return np.flatnonzero(np.concatenate((np.ones(min(row.size, 1), dtype=bool), row[1:] != row[:-1])))


def _sizes(row: Ints) -> Ints:
    """How many entries each of the rows has."""
    return np.diff(np.append(_begins(row), row.size))


def estimated_similarities(one: Sketches, rows: Ints, other: Sketches, documents: Ints) -> Floats:
    """(p,) of pairs of documents: a row of `one` and a document of `other`."""
    limit = np.minimum(_known_until(one)[rows], _known_until(other)[documents])
    keys = []
    for sketches, chosen in ((one, rows), (other, documents)):
        some = sketches.rows(chosen)
        pair = np.repeat(np.arange(rows.size), np.diff(some.starts))
        known = some.hashes <= limit[pair]
        keys.append((pair[known].astype(np.uint64) << np.uint64(32)) | some.hashes[known])
    ordered = np.sort(np.concatenate(keys))
    both = ordered[1:][ordered[1:] == ordered[:-1]] >> np.uint64(32)
    in_common = np.bincount(both.astype(np.int64), minlength=rows.size)
    every = np.bincount((ordered >> np.uint64(32)).astype(np.int64), minlength=rows.size)
    return np.asarray(in_common / np.maximum(every - in_common, 1), dtype=np.float64)


def _known_until(sketches: Sketches) -> AnyArray:
    """(n,) the largest hash up to which all of a document are kept."""
    counts = np.diff(sketches.starts)
    last = np.zeros(sketches.kept, dtype=np.int64)
    last[counts > 0] = sketches.hashes[sketches.starts[1:][counts > 0] - 1]
    return np.where(counts < sketches.sizes, last, 1 << 32)


def similarities_on_splits(sketches: Sketches, splits: Sequence[Split]) -> Floats:
    """(m,) the similarity of each held-out document, split by split, to the nearest document of the split's training part.
    sketches: of all documents."""
    search, each = NearestTraining(sketches), [np.zeros(0)]
    for split in splits:
        allowed = np.zeros(sketches.kept, dtype=bool)
        allowed[split.training] = True
        each.append(search.similarities(sketches.rows(split.held_out), allowed))
    return np.concatenate(each)


class SimilarityRates(Struct, frozen=True, kw_only=True):
    """The accuracy on documents by their similarity to the nearest training document. near_from, new_below: bounds of the
    similarity, the share of word pairs in common. same: on documents with the very words of a training document. near: on
    near-duplicates, from near_from on, those included. similar: between the two. new:
    below new_below. without_near: similar and new ones. not_new: near and similar ones. p: of the test of new documents against
    all others; null where either are fewer than 10."""

    near_from: float
    new_below: float
    same: Rate
    near: Rate
    similar: Rate
    new: Rate
    without_near: Rate
    not_new: Rate
    p: float | None

    @property
    def differ(self) -> bool:
        """Whether new documents are surely decided with another accuracy than the others."""
        return self.p is not None and self.p < SURE


def rates_by_similarity(similarity: Floats, right: Bools, sample: Sample, near_from: float) -> SimilarityRates:
    """similarity, right: (m,) of decisions. near_from: the similarity from which documents are near-duplicates; new are those
    that have less than half of it."""
    new_below = near_from / 2
    near, new = similarity >= near_from, similarity < new_below

    def rate(among: Bools) -> Rate:
        return share_of((right & among).astype(np.float64), among.astype(np.float64), sample)

    enough = min(int(new.sum()), int((~new).sum())) >= FEW
    return SimilarityRates(
        near_from=near_from,
        new_below=new_below,
        same=rate(similarity > _SAME),
        near=rate(near),
        similar=rate(~near & ~new),
        new=rate(new),
        without_near=rate(~near),
        not_new=rate(~new),
        p=_p_of_difference(right, new, sample) if enough else None,
    )


def _p_of_difference(right: Bools, new: Bools, sample: Sample) -> float:
    """The two-sided p value of the difference of two shares, with groups as units (Cochran 1977, section 9.7), but not with less
    variance than independent documents have; with two documents more on either side, one of them right (Agresti & Caffo 2000)."""
    influences = np.zeros(right.size)
    shares, binomial = [], 0.0
    for side in (new, ~new):
        size = float(side.sum()) + 2.0
        share = (float((right & side).sum()) + 1.0) / size
        influences += np.where(side, right - share, 0.0) * (1.0 if side is new else -1.0) / size
        shares.append(share)
        binomial += share * (1.0 - share) / size
    sums = sample.sum_per_document(sample.mean(influences) * sample.repeats)
    groups = max(sums.size, 2)
    variance = max(float((sums**2).sum()) * groups / (groups - 1), binomial)
    return float(2.0 * normal_cdf(-abs(shares[0] - shares[1]) / np.sqrt(variance)))
