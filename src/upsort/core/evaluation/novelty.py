"""How much documents resemble those that a sorter was trained on, and how accurate it is by that.

The similarity of two documents is that of `duplicates`: the share of their distinct pairs of neighbouring words that they have in
common. Here it is estimated from the least hashes of each (Broder 1997; Cohen & Kaplan 2007): below the smaller of the two
largest hashes that are kept, all pairs of words of both are known, so that the share in common there is an unbiased estimate;
its standard error is at most 0.09 where 32 hashes are kept, and short documents are known whole."""

from bisect import bisect_right
from collections import Counter
from collections.abc import Sequence
from functools import cached_property
from heapq import nsmallest
from itertools import pairwise

import numpy as np
from msgspec import Struct

from upsort.core.arrays import AnyArray, Bools, Floats
from upsort.core.distributions import normal_cdf
from upsort.core.evaluation.intervals import FEW, SURE, Rate, Sample, share_of
from upsort.core.features.fingerprints import Sketches
from upsort.core.lazy import kernels
from upsort.core.training.folds import Split

_MOST_WITH = 200  # documents that have a hash; what more have tells nothing of one
_CANDIDATES = 16  # that are compared at most
_WORTH_COMPILING = 1 << 20  # documents met with a hash
_SAME = 0.999  # estimates of 1 are exact up to rounding
_CLOSE = 0.5  # of the hashes that the closest candidate has in common, from which on a candidate is compared


class NearestTraining:
    """Finds the most similar of some training documents. sketches: of those. among_themselves: whether those that are
    compared are among them; a hash that only one has then finds nobody."""

    def __init__(self, sketches: Sketches, among_themselves: bool = False) -> None:
        self.sketches, self.until = sketches, _known_until(sketches)
        keys = sketches.hashes.astype(np.uint64)  # changed in place, since there are up to 16 million
        keys <<= np.uint64(32)
        keys |= np.repeat(np.arange(sketches.kept, dtype=np.uint32), np.diff(sketches.starts))
        keys.sort()
        hashes = (keys >> np.uint64(32)).astype(np.uint32)
        first = np.flatnonzero(np.append(True, hashes[1:] != hashes[:-1])[: hashes.size])
        times = np.diff(np.append(first, hashes.size))
        useful = (times <= _MOST_WITH) & (times > among_themselves)
        self.hashes, self.begins = hashes[first[useful]], np.append(0, np.cumsum(times[useful]))
        self.documents = keys[np.repeat(useful, times)].astype(np.uint32).astype(np.int32)

    def similarities(self, others: Sketches, allowed: Bools | None = None) -> Floats:
        """(m,) the similarity of other documents to the nearest; 0 where no training document has an uncommon pair of words in
        common. allowed: (n,) which training documents count."""
        allowed = np.ones(self.sketches.kept, dtype=bool) if allowed is None else allowed
        nearest, until = np.zeros(others.kept), _known_until(others)
        if (passes := kernels(self._work(others), _WORTH_COMPILING)) is not None:
            own, theirs = self.sketches, (others.hashes, others.starts, until)
            search = (own.hashes, own.starts, self.until, self.hashes, self.begins, self.documents)
            passes.nearest(search, theirs, allowed, _CANDIDATES, nearest)
            return nearest
        ends = until.tolist()
        for row, mine in enumerate(_lists(others)):
            for document in self._candidates(mine, allowed):
                limit = min(ends[row], self._ends[document])
                one, two = (set(hashes[: bisect_right(hashes, limit)]) for hashes in (mine, self._lists[document]))
                common = len(one & two)
                nearest[row] = max(nearest[row], common / max(len(one) + len(two) - common, 1))
        return nearest

    def _work(self, others: Sketches) -> int:
        """How many documents are met, with each of the hashes, as a rule."""
        sizes = np.diff(self.begins).astype(np.float64)
        return int((sizes**2).sum() / max(self.sketches.hashes.size, 1) * others.hashes.size)

    @cached_property
    def _lists(self) -> list[list[int]]:
        return _lists(self.sketches)

    @cached_property
    def _ends(self) -> list[int]:
        return list(self.until.tolist())

    @cached_property
    def _with_hash(self) -> dict[int, slice]:
        """Where the documents with each hash stand."""
        return dict(zip(self.hashes.tolist(), map(slice, self.begins[:-1].tolist(), self.begins[1:].tolist()), strict=True))

    def _candidates(self, hashes: Sequence[int], allowed: Bools) -> list[int]:
        """The documents that have most uncommon hashes in common with these."""
        met = [self.documents[self._with_hash[value]] for value in hashes if value in self._with_hash]
        times = Counter(np.concatenate(met).tolist()) if met else {}
        some = [(-often, document) for document, often in times.items() if allowed[document]]
        most = min(some, default=(0, 0))[0]
        return [document for often, document in nsmallest(_CANDIDATES, some) if often <= _CLOSE * most]


def _lists(sketches: Sketches) -> list[list[int]]:
    """The hashes of each document."""
    hashes, starts = sketches.hashes.tolist(), sketches.starts.tolist()
    return [hashes[begin:end] for begin, end in pairwise(starts)]


def _known_until(sketches: Sketches) -> AnyArray:
    """(n,) the largest hash up to which all of a document are kept."""
    counts = np.diff(sketches.starts)
    last = np.zeros(sketches.kept, dtype=np.int64)
    last[counts > 0] = sketches.hashes[sketches.starts[1:][counts > 0] - 1]
    return np.where(counts < sketches.sizes, last, 1 << 32)


def similarities_on_splits(sketches: Sketches, splits: Sequence[Split]) -> Floats:
    """(m,) the similarity of each held-out document, split by split, to the nearest document of the split's training part.
    sketches: of all documents."""
    search, each = NearestTraining(sketches, among_themselves=True), [np.zeros(0)]
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
