"""How much the text tells about a column: for guessing which column is the label."""

from collections.abc import Sequence

import numpy as np

from upsort.core.classifiers.naive_bayes import counts as on_counts
from upsort.core.classifiers.naive_bayes.sums import label_totals
from upsort.core.classifiers.targets import Targets
from upsort.core.features.counting import count
from upsort.core.learning.labelled import numbered
from upsort.core.plan import Clean
from upsort.core.text.cleaning import cleaner


def predictability_by_text(texts: Sequence[str], values: Sequence[str]) -> float:
    """By what share a naive Bayes classifier, trained on half of the rows, is better than the commonest value on the rest.

    0 where the text tells nothing (or less), 1 where it tells all.
    """
    _, numbers = numbered(values)
    training = np.random.default_rng(0).random(len(values)) < 0.5  # a table may have a rhythm
    if len(set(numbers[training].tolist())) < 2 or training.all():
        return 0.0
    counts = count(texts, cleaner(Clean())).matrix
    present = np.unique(numbers[training])
    known = np.searchsorted(present, numbers[training]).astype(np.int64)
    targets = Targets(known, present.size, np.ones(known.size))
    prior = np.log(label_totals(targets) / known.size)
    fitted = on_counts.train(counts[training].astype(np.float64), targets, prior, smoothing=1.0)
    sorted_as = present[fitted.scores(counts[~training].astype(np.float64)).argmax(axis=1)]
    true = numbers[~training]
    baseline = float((true == present[int(np.argmax(np.bincount(known)))]).mean())
    right = float((sorted_as == true).mean())
    return max(0.0, (right - baseline) / (1.0 - baseline)) if baseline < 1.0 else 0.0
