"""Judging several plans on the same folds."""

import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from itertools import product
from typing import Any

import numpy as np

from upsort.core.errors import UsageProblem
from upsort.core.judging.cross_validation import CrossValidation, FoldSpaces, cross_validate
from upsort.core.judging.intervals import Rate, wilson
from upsort.core.judging.paired import corrected_t, disagreements, holm, mcnemar
from upsort.core.judging.splits import Split, splits
from upsort.core.plan import Judge, Plan
from upsort.core.text.word_steps import Resources
from upsort.core.training import INNER_FOLDS, Labelled, fit, represented
from upsort.files.plan_file import checked_plan
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.jobs.corpus import LabelledCorpus, read_labelled_corpus
from upsort.jobs.judging import prepared
from upsort.jobs.progress import Advance, no_progress

_SURE = 0.05
_COUNTED_BY = (
    "units", "lengths", "skip", "within_sentences", "apart", "measures", "hash_bits", "vectors_file", "vocabulary_file"
)  # fmt: skip


@dataclass(frozen=True)
class Candidate:
    """A plan to judge. name: what differs in it."""

    name: str
    plan: Plan


@dataclass(frozen=True)
class Compared:
    """One candidate, judged. against_best: documents only it, and only the best, gets right. mcnemar, folds: p values against the
    best, corrected for their number (Holm); no_worse: neither is below 0.05. bytes: of the classifier."""

    candidate: Candidate
    result: CrossValidation
    seconds: float
    against_best: tuple[int, int]
    mcnemar: float
    folds: float
    no_worse: bool
    bytes: int


@dataclass(frozen=True)
class CompareResult:
    """Best first. counted: how often the text was cleaned and counted. nested: the accuracy of choosing the best on the
    training part
    of each fold, where that was asked for."""

    compared: list[Compared]
    counted: int
    documents: int
    copies: int
    nested: Rate | None


def candidates(plan: Plan, tries: Sequence[str]) -> list[Candidate]:
    """The named candidates of the plan, and all combinations of `section.key=value,value` of `tries`."""
    found = [Candidate(name, changed(plan, sections)) for name, sections in plan.candidates.items()]
    grids = [_grid(text) for text in tries]
    if grids:
        for chosen in product(*(values for _, _, values in grids)):
            sections: dict[str, dict[str, Any]] = {}
            for (section, key, _), value in zip(grids, chosen, strict=True):
                sections.setdefault(section, {})[key] = value
            name = ", ".join(
                f"{key}={value if value != '' else 'none'}" for (_, key, _), value in zip(grids, chosen, strict=True)
            )
            found.append(Candidate(name, changed(plan, sections)))
    if len(found) < 2:
        raise UsageProblem(
            f"To compare takes at least two candidates; there {'is one' if found else 'are none'}.",
            "For example: --try classifier.kind=multinomial-nb,logistic,svm, or tables [try.NAME] in the plan.",
        )
    return found


def changed(plan: Plan, sections: Mapping[str, Mapping[str, Any]]) -> Plan:
    """The plan with some keys changed. Raises UsageProblem for a key or value that there is not."""
    values = {name: value for name, value in asdict(plan).items() if name != "candidates"}
    for section, keys in sections.items():
        values[section] = {**values.get(section, {}), **keys}
    return checked_plan(values, "--try")


def _grid(text: str) -> tuple[str, str, list[Any]]:
    name, equals, values = text.partition("=")
    section, dot, key = name.strip().partition(".")
    if not (equals and dot and section and key):
        raise UsageProblem(
            f"--try takes section.key=value,value, not {text!r}.", "For example: --try classifier.kind=logistic,svm"
        )
    # Where a value is a list itself, its parts are joined by +: clean.steps=lower+stem,lower+lemmas
    return section, key, [_value(section, key, part.strip()) for part in values.split(",")]


def _value(section: str, key: str, text: str) -> Any:
    from upsort.files.plan_file import parsed_value

    default = getattr(getattr(Plan(), section, None), key, None)
    if isinstance(default, tuple):
        return [parsed_value(part) for part in text.split("+") if part]
    return parsed_value(text)


def compare(
    inputs: Inputs,
    plan: Plan,
    tried: Sequence[Candidate],
    aside: SetAside,
    advance: Advance = no_progress,
    workers: int = 1,
    nested: bool = False,
    done: Callable[[str], None] | None = None,
) -> CompareResult:
    """Judge all candidates on the same folds. The text is counted once for all that share that part of the plan."""
    groups: dict[str, list[int]] = {}
    for number, candidate in enumerate(tried):
        groups.setdefault(_counting_key(candidate.plan), []).append(number)
    results: dict[int, tuple[CrossValidation, float]] = {}
    made: tuple[Split, ...] = ()
    labels = np.zeros(0, dtype=np.int64)
    copies = documents = 0
    corpora: list[tuple[Labelled, Resources, list[int]]] = []
    for round_number, members in enumerate(groups.values()):
        corpus = _counted(
            inputs, [tried[number].plan for number in members], SetAside() if round_number else aside, advance, workers
        )
        ready = prepared(corpus, tried[members[0]].plan)
        if not made:
            made, labels, copies = ready.splits, ready.documents.labels, ready.copies
            documents = ready.documents.measured.documents
        elif ready.documents.labels.size != labels.size:
            raise UsageProblem(
                "The candidates do not use the same documents, so that they cannot be compared.",
                "Patterns or columns of one candidate set rows aside that others use.",
            )
        spaces = FoldSpaces(ready.documents, made)
        for number in members:
            began = time.perf_counter()
            found = cross_validate(ready.documents, tried[number].plan, made, corpus.resources, None, spaces)
            results[number] = (found, time.perf_counter() - began)
            if done is not None:
                done(tried[number].name)
        corpora.append((ready.documents, corpus.resources, members))
    order = sorted(results, key=lambda number: -(results[number][0].overall.accuracy.value or 0.0))
    compared = _against_the_best(tried, results, order, labels, made)
    chosen = _nested(tried, corpora, made, plan.judge) if nested else None
    return CompareResult(compared, len(groups), documents, copies, chosen)


def _counting_key(plan: Plan) -> str:
    features = asdict(plan.features)
    return repr((plan.columns, plan.clean, [features[name] for name in _COUNTED_BY]))


def _counted(inputs: Inputs, plans: Sequence[Plan], aside: SetAside, advance: Advance, workers: int) -> LabelledCorpus:
    """The corpus counted once for all of some plans: with the terms that the most generous of them keeps."""
    from upsort.core.plan import NAIVE_BAYES_KINDS

    least = min(plan.features.in_at_least for plan in plans)
    whole = plans[0].features.vocabulary_file or plans[0].features.hash_bits
    keep_all = whole or any(plan.classifier.kind in NAIVE_BAYES_KINDS for plan in plans)
    return read_labelled_corpus(inputs, plans[0], aside, advance, workers, at_least=1 if keep_all else least)


def _against_the_best(
    tried: Sequence[Candidate],
    results: Mapping[int, tuple[CrossValidation, float]],
    order: Sequence[int],
    labels: np.ndarray[Any, Any],
    made: Sequence[Split],
) -> list[Compared]:
    best = results[order[0]][0]
    best_right = best.right(labels)
    tested = float(np.mean([split.held_out.size for split in made]))
    trained = float(np.mean([split.training.size for split in made]))
    pairs, exact, by_folds = [], [], []
    for number in order:
        result = results[number][0]
        only_it, only_best = disagreements(result.right(labels), best_right)
        pairs.append((only_it, only_best))
        exact.append(mcnemar(only_it, only_best))
        differences = np.array(best.accuracies()) - np.array(result.accuracies())
        by_folds.append(corrected_t(differences, tested, trained))
    exact_all = [1.0, *holm(np.array(exact[1:])).tolist()]
    folds_all = [1.0, *holm(np.array(by_folds[1:])).tolist()]
    return [
        Compared(
            tried[number],
            results[number][0],
            results[number][1],
            pairs[place],
            exact_all[place],
            folds_all[place],
            exact_all[place] >= _SURE,
            max(fold.bytes for fold in results[number][0].folds),
        )
        for place, number in enumerate(order)
    ]


def _nested(
    tried: Sequence[Candidate],
    corpora: Sequence[tuple[Labelled, Resources, list[int]]],
    made: Sequence[Split],
    settings: Judge,
) -> Rate:
    """In each fold, the candidate that is best on folds of its training part is trained there and judged on the rest."""
    right = judged = 0
    for split in made:
        best: tuple[float, int, int] | None = None
        for place, (documents, resources, members) in enumerate(corpora):
            part = documents.rows(split.training)
            inner = splits(
                part.labels, part.names, replace(settings, folds=INNER_FOLDS, repeats=1, in_time=False), part.groups
            )
            spaces = FoldSpaces(part, inner)
            for number in members:
                found = cross_validate(part, tried[number].plan, inner, resources, None, spaces)
                value = found.overall.accuracy.value or 0.0
                if best is None or value > best[0]:
                    best = (value, place, number)
        assert best is not None
        documents, resources, _ = corpora[best[1]]
        sorter, seen = fit(documents.rows(split.training), tried[best[2]].plan, resources)
        outside = documents.measured.rows(split.held_out)
        scores = sorter.classifier.scores(represented(seen.space, seen.kept, outside))
        best_labels = sorter.decisions(scores, outside.tokens, np.zeros(split.held_out.size)).best
        numbers = np.array([documents.names.index(label) for label in sorter.labels])
        right += int((numbers[best_labels] == documents.labels[split.held_out]).sum())
        judged += split.held_out.size
    return wilson(right, judged)
