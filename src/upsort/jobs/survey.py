"""Looking at a corpus before anything is trained: labels, lengths, the shortest documents."""

from collections import Counter
from dataclasses import dataclass
from heapq import nsmallest

import numpy as np

from upsort.core.errors import DataProblem
from upsort.core.features.counting import tokens_of
from upsort.core.plan import Plan
from upsort.files.documents import read_documents
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.jobs.corpus import Advance, no_progress, nothing_usable


@dataclass(frozen=True)
class Lengths:
    """Five numbers and the mean of a set of lengths."""

    least: int
    lower_quartile: float
    median: float
    mean: float
    upper_quartile: float
    most: int


@dataclass(frozen=True)
class ShortDocument:
    """One of the shortest documents."""

    reference: str
    words: int
    text: str
    label: str


@dataclass(frozen=True)
class SurveyResult:
    """labels: documents of each label, commonest first; empty without a label column. unlabelled: documents without one."""

    documents: int
    labels: list[tuple[str, int]]
    unlabelled: int
    characters: Lengths
    words: Lengths
    shortest: list[ShortDocument]


def survey(
    inputs: Inputs, plan: Plan, aside: SetAside, shortest: int = 5, advance: Advance = no_progress
) -> SurveyResult:
    """Read all documents once and count."""
    labels: Counter[str] = Counter()
    characters: list[int] = []
    words: list[int] = []
    short: list[ShortDocument] = []
    for block in read_documents(inputs, plan.columns, aside):
        lengths = np.diff(tokens_of(block.texts, plan.clean).starts).tolist()
        characters.extend(map(len, block.texts))
        words.extend(lengths)
        labels.update(block.labels)
        here = [ShortDocument(*entry) for entry in zip(block.ids, lengths, block.texts, block.labels, strict=True)]
        short = nsmallest(shortest, [*short, *here], key=lambda document: document.words)
        advance(len(block.texts))
    if not characters:
        raise DataProblem(f"No usable document: {nothing_usable(aside)}.", "Check --text and --encoding.")
    unlabelled = labels.pop("", 0)
    ordered = sorted(labels.items(), key=lambda entry: (-entry[1], entry[0]))
    return SurveyResult(len(characters), ordered, unlabelled, _lengths(characters), _lengths(words), short)


def _lengths(values: list[int]) -> Lengths:
    lower, median, upper = np.quantile(values, [0.25, 0.5, 0.75]).tolist()
    return Lengths(min(values), lower, median, float(np.mean(values)), upper, max(values))
