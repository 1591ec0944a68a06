"""What the folds inside a training tell of documents that their classifiers never saw."""

from collections.abc import Iterable
from dataclasses import field

import numpy as np

from upsort.core.arrays import Floats, Ints
from upsort.core.records import record


@record(frozen=True, kw_only=True)
class HeldOut:
    """documents: that were held out; groups: how many of them do not belong together. right: how many were given their own
    label, None where that would not tell what new documents get. labels: (k,) how many were given each label; none where there
    were no folds. words, unknown: of them, and those that the fold's training side does not know; 0 where terms are not words.
    decided, decided_right: how many are above the bound that was chosen on them, and right; None where none was chosen."""

    documents: int = 0
    groups: int = 0
    right: int | None = None
    labels: Ints = field(default_factory=lambda: np.zeros(0, dtype=np.int64))
    words: int = 0
    unknown: int = 0
    decided: int | None = None
    decided_right: int | None = None


@record(frozen=True)
class UnknownWords:
    """Sums over documents, for the share of unknown words and its standard error. words, unknown: w and u; squares: Σ w², Σ w u,
    Σ u². documents: with any words."""

    documents: int = 0
    words: float = 0.0
    unknown: float = 0.0
    squares: tuple[float, float, float] = (0.0, 0.0, 0.0)

    @staticmethod
    def of(words: Ints, share: Floats) -> "UnknownWords":
        """words: (n,) of each document. share: (n,) unknown of them, NaN where there are none."""
        w = words.astype(np.float64)
        u = np.nan_to_num(share) * w
        squares = (float((w * w).sum()), float((w * u).sum()), float((u * u).sum()))
        return UnknownWords(int((words > 0).sum()), float(w.sum()), float(u.sum()), squares)

    @staticmethod
    def summed(parts: Iterable["UnknownWords"]) -> "UnknownWords":
        """Of all documents together."""
        whole = UnknownWords()
        for part in parts:
            a, b, c = (x + y for x, y in zip(whole.squares, part.squares, strict=True))
            whole = UnknownWords(
                whole.documents + part.documents, whole.words + part.words, whole.unknown + part.unknown, (a, b, c)
            )
        return whole

    @property
    def share(self) -> float:
        """Unknown words of all words."""
        return self.unknown / self.words if self.words else 0.0

    @property
    def error(self) -> float:
        """The standard error of the share, with documents as units (Cochran 1977, section 2.11)."""
        if self.documents < 2 or not self.words:
            return 0.0
        s, (ww, wu, uu) = self.share, self.squares
        residuals = max(uu - 2.0 * s * wu + s * s * ww, 0.0)
        return float(np.sqrt(self.documents / (self.documents - 1) * residuals) / self.words)
