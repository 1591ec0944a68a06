"""Labelled documents whose own label looks wrong to classifiers that never saw them.

What classifiers say of a document is one thing, how labels come to be wrong another. With q[t] the probability that the document
truly has label t, according to classifiers that never saw it, and ε the share of wrong labels, which fall on any of the k − 1
others alike, the label y that is there has the likelihood

(1 − ε) q[y] + ε (1 − q[y]) / (k − 1)

and is wrong with the probability w that the second term has of the whole (Bayes' rule; label noise at random: Angluin & Laird
1988). ε is estimated by expectation and maximisation (Dempster, Laird & Rubin 1977). Classifiers that learned from wrong labels
too are less sure than they could be: q is their probability, to a power that is chosen for the highest likelihood. Where two
classifiers judge, their mean is taken, weighted for the least log loss of the labels that are there.

A document is a suspect where its label is more likely wrong than right. How many of a list are wrong is then about Σ w, give or
take 1.96 √ Σ w (1 − w). `bench/suspects.py` shows how good lists are, and how true their expected shares."""

from collections.abc import Callable, Sequence
from math import sqrt

import numpy as np

from upsort.core.arrays import Bools, Floats, Ints
from upsort.core.evaluation.intervals import Z_95, Rate
from upsort.core.lazy import optimize, record

_MOST_ITERATIONS = 60
_EVERY = 5  # rounds, the power is chosen anew
_LIKELY = 0.5
_TINY = 1e-9


@record(frozen=True, kw_only=True)
class Suspects:
    """places: (m,) documents, most suspicious first. rather: (m,) label numbers. own, other: (m,) the probabilities of the own
    and of that label. wrong: (m,) the probability that the own label is wrong. noise: (k,) the share of wrong labels that is
    expected among the documents of each label."""

    places: Ints
    rather: Ints
    own: Floats
    other: Floats
    wrong: Floats
    noise: Floats

    @property
    def expected(self) -> Rate:
        """How many of them are wrong, with a 95% interval."""
        return expected_wrong(self.wrong)


def find_suspects(labels: Ints, predictions: Sequence[Floats], most: int | None = None) -> Suspects:
    """labels: (n,) own label numbers. predictions: by one or two classifiers that never saw the document, (n, k) probabilities.
    most: list so many, the most suspicious; None for those whose label is more likely wrong than right."""
    rows = np.arange(labels.size)
    probabilities = _combined(labels, predictions)
    wrong = wrong_labels(labels, probabilities)
    own = probabilities[rows, labels]
    rest = probabilities.copy()
    rest[rows, labels] = -1.0
    order = np.lexsort((own, -wrong))
    places = order[wrong[order] >= _LIKELY] if most is None else order[:most]
    rather = rest[places].argmax(axis=1).astype(np.int64)
    k = probabilities.shape[1]
    sizes = np.maximum(np.bincount(labels, minlength=k), 1)
    return Suspects(
        places=places,
        rather=rather,
        own=own[places],
        other=rest[places, rather],
        wrong=wrong[places],
        noise=np.bincount(labels, weights=wrong, minlength=k) / sizes,
    )


@record(frozen=True, kw_only=True)
class SetSuspects:
    """places: (m,) documents, most suspicious first. rather: (m, k) the better labels. turned: (m,) the label that is most
    probably wrong there, or wanting. own, other: (m,) the probabilities of the own set and of the other, and wrong: (m,) that
    some label is wrong or wanting, labels taken as independent. noise: (k,) the share of wrong ones among the documents that have
    each label."""

    places: Ints
    rather: Bools
    turned: Ints
    own: Floats
    other: Floats
    wrong: Floats
    noise: Floats


def find_wrong_sets(own: Bools, predictions: Sequence[Floats], most: int | None = None) -> SetSuspects:
    """The same where documents may have several labels: each label is a question of yes and no, and all are taken together to
    show how many are wrong.

    own: (n, k). predictions: (n, k) of each classifier, the probability of each label. most: see `find_suspects`."""
    n, k = own.shape
    questions = own.reshape(-1).astype(np.int64)
    probabilities = _combined(
        questions, [np.column_stack((1.0 - scores.reshape(-1), scores.reshape(-1))) for scores in predictions]
    )
    wrong = wrong_labels(questions, probabilities).reshape(n, k)
    chance = probabilities[:, 1].reshape(n, k)
    anywhere = 1.0 - np.prod(1.0 - wrong, axis=1)
    turned = wrong.argmax(axis=1)
    flipped = wrong >= _LIKELY
    flipped[np.arange(n), turned] = True
    rather = own ^ flipped
    order = np.argsort(-anywhere, kind="stable")
    places = order[anywhere[order] >= _LIKELY] if most is None else order[:most]

    def probability(sets: Bools) -> Floats:
        return np.asarray(np.prod(np.where(sets, chance, 1.0 - chance), axis=1)[places])

    return SetSuspects(
        places=places,
        rather=rather[places],
        turned=turned[places],
        own=probability(own),
        other=probability(rather),
        wrong=anywhere[places],
        noise=(wrong * own).sum(axis=0) / np.maximum(own.sum(axis=0), 1),
    )


def expected_wrong(wrong: Floats) -> Rate:
    """How many of a list are wrong, with a 95% interval. wrong: the probability of each."""
    value, half = float(wrong.sum()), Z_95 * sqrt(float((wrong * (1.0 - wrong)).sum()))
    return Rate(value=value, low=max(value - half, 0.0), high=min(value + half, float(wrong.size)))


def _combined(labels: Ints, predictions: Sequence[Floats]) -> Floats:
    """The mean of the classifiers' probabilities, weighted for the least log loss."""
    if len(predictions) == 1:
        return predictions[0]
    first, second = predictions
    rows = np.arange(labels.size)
    a, b = first[rows, labels], second[rows, labels]
    weight = _least(lambda share: -float(np.log(share * a + (1.0 - share) * b + _TINY).sum()), 0.0, 1.0)
    return weight * first + (1.0 - weight) * second


def wrong_labels(labels: Ints, probabilities: Floats) -> Floats:
    """(n,) the probability that each document's label is wrong."""
    n, k = probabilities.shape
    rows = np.arange(n)
    logs = np.log(np.maximum(probabilities, _TINY))

    def own_at(log_power: float) -> Floats:
        powers = np.exp(logs * np.exp(log_power))
        return np.asarray(powers[rows, labels] / powers.sum(axis=1))

    def likelihood(own: Floats, noise: float) -> tuple[Floats, Floats]:
        return (1.0 - noise) * own, noise * (1.0 - own) / max(k - 1, 1)

    noise, own, wrong = 0.03, own_at(0.0), np.zeros(n)
    for number in range(_MOST_ITERATIONS):
        if number % _EVERY == 0:

            def loss(log_power: float, now: float = noise) -> float:
                return -float(np.log(np.maximum(np.add(*likelihood(own_at(log_power), now)), 1e-300)).sum())

            own = own_at(_least(loss, -1.0, 2.0))
        right, otherwise = likelihood(own, noise)
        wrong = otherwise / np.maximum(right + otherwise, 1e-300)
        noise = float(wrong.mean())
    return wrong


def _least(loss: Callable[[float], float], low: float, high: float) -> float:
    return float(optimize.minimize_scalar(loss, bounds=(low, high), method="bounded").x)
