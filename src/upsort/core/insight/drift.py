"""Whether new documents are like those that a sorter was trained on: its known words, its labels, their lengths."""

from dataclasses import dataclass

import numpy as np

from upsort.core.arrays import Floats, Ints
from upsort.core.learning.sorter import Sorter

_LEAST = 50  # documents, of fewer nothing is said
_MORE_UNKNOWN = 0.10  # of the words, beyond what was unknown in training
_LABELS_APART = 0.20  # of the documents, that would have to change their label for the shares to be the same
_LENGTHS_APART = 0.30


@dataclass(frozen=True)
class Drift:
    """What is different. Each pair is of training and of the new documents; None where it is not much.

    unknown: shares of unknown words. labels: how far the shares of labels are apart (half the sum of differences), and the
    label whose share changed most with both shares. lengths: median words, to a power of two.
    """

    unknown: tuple[float, float] | None
    labels: tuple[float, str, float, float] | None
    lengths: tuple[int, int] | None

    @property
    def any(self) -> bool:
        """Whether anything is different."""
        return (self.unknown, self.labels, self.lengths) != (None, None, None)


@dataclass(frozen=True)
class NewDocuments:
    """label_counts: (k,) labels given. lengths: (32,) as of training. words, unknown_words: of all of them."""

    label_counts: Ints
    lengths: Ints
    words: int
    unknown_words: float


def drift(sorter: Sorter, new: NewDocuments) -> Drift:
    """Compare new documents with those of training."""
    label_counts, lengths, words, unknown_words = new.label_counts, new.lengths, new.words, new.unknown_words
    documents = int(lengths.sum())
    if documents < _LEAST:
        return Drift(None, None, None)
    trained = sorter.trained
    unknown = None
    if trained.known_words and words:
        before, now = 1.0 - trained.known_words / max(trained.words, 1), unknown_words / words
        unknown = (before, now) if now > before + _MORE_UNKNOWN else None
    labels = None
    if label_counts.sum() and sorter.thresholds is None:
        was, is_now = _shares(trained.label_documents), _shares(label_counts)
        apart = float(np.abs(was - is_now).sum() / 2)
        most = int(np.abs(was - is_now).argmax())
        labels = (apart, sorter.labels[most], float(was[most]), float(is_now[most])) if apart > _LABELS_APART else None
    shape = float(np.abs(_shares(trained.lengths) - _shares(lengths)).sum() / 2)
    medians = (_median(trained.lengths), _median(lengths))
    return Drift(unknown, labels, medians if shape > _LENGTHS_APART and medians[0] != medians[1] else None)


def _shares(counts: Ints) -> Floats:
    shares: Floats = counts / max(float(counts.sum()), 1.0)
    return shares


def _median(lengths: Ints) -> int:
    """About how many words the middle document has: the middle of its class of lengths."""
    place = int(np.searchsorted(np.cumsum(lengths), lengths.sum() / 2))
    return 0 if place == 0 else round(1.5 * 2 ** (place - 1)) if place > 1 else 1
