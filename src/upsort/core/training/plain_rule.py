"""What a linear sorter comes to, in numbers alone, for programs that are not this one: from the tokens of a text to its label."""

from collections.abc import Callable

import numpy as np

from upsort.core.arrays import Floats, Ints
from upsort.core.classifiers import families
from upsort.core.classifiers.calibration import Calibration
from upsort.core.errors import UsageProblem
from upsort.core.features.corpus_counts import suffixes
from upsort.core.features.documents import Documents
from upsort.core.lazy import record
from upsort.core.plan import Features
from upsort.core.training.sorter import TrainedSorter

BETWEEN_SENTENCES = ""
"""What stands between the tokens of two sentences where n-grams end with a sentence; no token is empty."""


@record(frozen=True, kw_only=True)
class PlainRule:
    """From the counts of terms in a text to probabilities and a label, in the order of the fields.

    labels: k. terms: (v,) the tokens of each, one after the other. lengths: of the shortest and the longest. sentences: whether
    none goes beyond a sentence. term_frequency: `n`, `b`, `l`, `a` or `s`, see `features.weighting`, or `bm25` by `saturation`:
    k, b and the mean length. factors: (v,) that the term frequencies are multiplied by. length: `n`, `c` or `s`. on_presence:
    every value but 0 is then 1. weights: (v, k), intercept: (k,). calibration: from scores to probabilities, each label for
    itself where there are thresholds. shares: (k,) the probabilities of a text without any term, None where it has none of its
    own. thresholds: (k,) from which probability on each label is given, None where there is one label. decision: (k, k) what the
    probabilities are multiplied by to decide, None where the largest score does, or with by_probabilities the largest
    probability. order: (k,) the labels, of equals the first is taken. undecided_below: a largest probability below it gives no
    label."""

    labels: tuple[str, ...]
    terms: list[tuple[str, ...]]
    lengths: tuple[int, int]
    sentences: bool
    term_frequency: str
    saturation: tuple[float, float, float]
    factors: Floats
    length: str
    on_presence: bool
    weights: Floats
    intercept: Floats
    calibration: Calibration
    shares: Floats | None
    thresholds: Floats | None
    decision: Floats | None
    by_probabilities: bool
    order: Ints
    undecided_below: float


def plain_rule(sorter: TrainedSorter) -> PlainRule:
    """The rule of a sorter. Raises UsageProblem, with the reason, for one that cannot be said so."""
    _check(sorter)
    space, plan = sorter.space, sorter.plan
    rule = sorter.classifier.rule
    assert rule is not None
    lengths = plan.features.lengths
    terms = [tuple(term.split(" ")) if lengths[1] > 1 else (term,) for term in space.terms]
    shares = None
    if sorter.predictions_by_share:
        shares = sorter.trained.label_documents / sorter.trained.label_documents.sum()
    weighting = space.weighting
    return PlainRule(
        labels=sorter.labels,
        terms=terms,
        lengths=(lengths[0], lengths[1]),
        sentences=plan.features.within_sentences and lengths[1] > 1,
        term_frequency=weighting.term_frequency,
        saturation=(plan.features.bm25_k, plan.features.bm25_b, space.mean_length or 1.0),
        factors=weighting.factors,
        length=weighting.length,
        on_presence=families.family(plan.classifier).on_presence,
        weights=rule.weights,
        intercept=rule.intercept,
        calibration=sorter.calibration,
        shares=shares,
        thresholds=sorter.thresholds,
        decision=sorter.decision if sorter.thresholds is None else None,
        by_probabilities=not sorter.calibration.keeps_order,
        order=np.argsort(-sorter.trained.label_documents, kind="stable"),
        undecided_below=plan.decide.undecided_below if sorter.thresholds is None else 0.0,
    )


def tokens_for(sorter: TrainedSorter, documents: Documents) -> list[list[str]]:
    """The tokens of each document as the rule takes them."""
    (tokens,) = sorter.tokens_of(documents)
    separate_sentences = sorter.plan.features.within_sentences and sorter.plan.features.lengths[1] > 1
    token_lists = []
    for begin, end in zip(tokens.starts[:-1].tolist(), tokens.starts[1:].tolist(), strict=True):
        mine: list[str] = []
        for place in range(begin, end):
            if separate_sentences and place > begin and tokens.sentences[place] != tokens.sentences[place - 1]:
                mine.append(BETWEEN_SENTENCES)
            mine.append(tokens.words[tokens.codes[place]])
        token_lists.append(mine)
    return token_lists


def _check(sorter: TrainedSorter) -> None:
    """Raises UsageProblem for the first obstacle of a sorter."""
    for holds, why, other in _OBSTACLES:
        if holds(sorter):
            reason = why.format(kind=sorter.plan.classifier.kind)
            raise UsageProblem(f"The sorter cannot be exported: {reason}.", f"Train another sorter, with --set {other}.")


def _features(sorter: TrainedSorter) -> Features:
    return sorter.plan.features


def _reads_more_than_terms(sorter: TrainedSorter) -> bool:
    return sorter.space.counted < len(sorter.space.terms)


def _pools_probabilities(sorter: TrainedSorter) -> bool:
    by_scores = sorter.thresholds is None and sorter.plan.decide.rank_by != "probabilities"
    return by_scores and not sorter.calibration.keeps_order


_OBSTACLES: tuple[tuple[Callable[[TrainedSorter], bool], str, str], ...] = (
    (lambda sorter: sorter.classifier.rule is None, "{kind} has no linear rule", "classifier.kind=logistic"),
    (lambda sorter: sorter.space.hashed is not None, "its terms are hashed, and have no names", "features.hashed_columns=0"),
    (lambda sorter: sorter.space.vectors is not None, "it reads word vectors", "features.vectors_file="),
    (
        lambda sorter: _reads_more_than_terms(sorter) and bool(_features(sorter).measures),
        "it reads other columns or measures",
        "features.measures=",
    ),
    (_reads_more_than_terms, "it reads other columns or measures", "columns.numbers= and --set columns.categories="),
    (lambda sorter: _features(sorter).units != "words", "its terms are of letters", "features.units=words"),
    (lambda sorter: _features(sorter).skip, "its n-grams leave words out", "features.skip=false"),
    (
        lambda sorter: len(suffixes(sorter.plan.columns, _features(sorter))) > 1,
        "it counts each text column apart",
        "features.apart=false",
    ),
    (
        lambda sorter: _features(sorter).lengths[1] > 1 and bool(sorter.plan.clean.tokens_by),
        "its tokens may hold spaces, so that its n-grams have no plain parts",
        "clean.tokens_by=",
    ),
    (
        lambda sorter: sorter.calibration.kind == "isotonic",
        "its probabilities are step functions",
        "classifier.calibrate=temperature",
    ),
    (_pools_probabilities, "its probabilities are pooled to the order of its scores", "classifier.calibrate=temperature"),
)
"""What a rule in numbers alone cannot do, in words, and the setting of a sorter that can be exported."""
