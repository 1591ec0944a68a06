"""The labelled corpus that training and judging start from: counted once, whatever is done with it."""

from collections import deque
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from itertools import islice
from pathlib import Path

import numpy as np

from upsort.core import plan
from upsort.core.arrays import Bools, Ints
from upsort.core.documents import Documents, regrouped
from upsort.core.errors import DataProblem
from upsort.core.features.counting import BLOCK_CHARACTERS, counts_of
from upsort.core.features.measured import Measured, of_counts
from upsort.core.features.measuring import Measuring, prefixes
from upsort.core.features.vectors import vectors_of_terms
from upsort.core.text.cleaning import Cleaner, cleaner
from upsort.core.text.word_steps import Resources
from upsort.core.training import Labelled, numbered
from upsort.engine.processes import cut_words
from upsort.files.documents import as_number, read_documents
from upsort.files.resources import resources_for
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.files.vectors import read_vectors
from upsort.jobs.progress import Advance, no_progress, nothing_usable

_MOST_LABELS_UNASKED = 20


def measured_of(
    documents: Iterable[Documents],
    cleaning: Cleaner,
    choices: plan.Plan,
    resources: Resources,
    workers: int = 1,
    at_least: int | None = None,
) -> Measured:
    """Clean, count and measure documents by a plan, word vectors included.

    Terms in fewer documents than `at_least` (the plan's bound) are left out at once, unless a vocabulary is given or the
    classifier keeps the counts of all.
    """
    measuring = Measuring(choices.columns, choices.features, cleaning.forms)
    held: deque[Documents] = deque()

    def parts() -> Iterator[list[str]]:
        for block in regrouped(documents, BLOCK_CHARACTERS):
            held.append(block)
            yield from block.parts

    tokens = cut_words(parts(), cleaning, workers, measuring.memory_of(cleaning))
    for first in tokens:
        block = held.popleft()
        measuring.add(block, [first, *islice(tokens, len(block.parts) - 1)])
    if not measuring.cells:
        return of_counts(counts_of(()))
    if at_least is None:
        whole = resources.vocabulary or choices.features.hash_bits or choices.classifier.kind in plan.NAIVE_BAYES_KINDS
        at_least = 1 if whole else choices.features.in_at_least
    measured = measuring.measured(at_least, workers)
    if not choices.features.vectors_file:
        return measured
    begins = prefixes(choices.columns, choices.features)
    wanted = frozenset(term.removeprefix(begin) for term in measured.terms for begin in begins)
    words, vectors = read_vectors(Path(choices.features.vectors_file), wanted)
    return replace(measured, vectors=vectors_of_terms(measured.terms, words, vectors, begins))


@dataclass(frozen=True)
class Answer:
    """One label column. rows: (m,) the documents that have a label there. documents: those, with their labels."""

    name: str
    rows: Ints
    documents: Labelled


@dataclass(frozen=True)
class LabelledCorpus:
    """answers: one for each label column. resources: of the cleaning. ids, dates, folds: (n,) of all documents.

    texts: of all documents, where they were asked to be kept.
    """

    measured: Measured
    answers: tuple[Answer, ...]
    resources: Resources
    ids: list[str]
    dates: list[str]
    folds: list[str]
    texts: list[str]

    @property
    def documents(self) -> int:
        """Number of documents."""
        return self.measured.documents


def read_labelled_corpus(
    inputs: Inputs,
    choices: plan.Plan,
    aside: SetAside,
    advance: Advance = no_progress,
    workers: int = 1,
    keep_texts: bool = False,
    at_least: int | None = None,
) -> LabelledCorpus:
    """Read, clean and count all usable labelled documents. Raises DataProblem when there is none.

    workers: processes to clean and tokenise in; the result is the same for any number. at_least: as in `measured_of`.
    """
    columns = choices.columns
    labels: list[list[str]] = [[] for _ in columns.answers]
    ids: list[str] = []
    dates: list[str] = []
    folds: list[str] = []
    groups: list[str] = []
    weights: list[str] = []
    texts: list[str] = []
    resources = resources_for(choices.clean, choices.features, choices.decide)
    cleaning = cleaner(choices.clean, resources, choices.features.within_sentences)

    def documents() -> Iterator[Documents]:
        for block in read_documents(
            inputs, columns, aside, need_label=True, cleaning=cleaning, apart=choices.features.apart
        ):
            for held, cells in zip(labels, (block.labels, *block.also), strict=True):
                held.extend(cells)
            ids.extend(block.ids)
            dates.extend(block.dates)
            folds.extend(block.folds)
            groups.extend(block.groups)
            weights.extend(block.weights)
            if keep_texts:
                texts.extend(block.texts)
            yield block.documents
            advance(len(block.documents))

    measured = measured_of(documents(), cleaning, choices, resources, workers, at_least)
    if cleaning.forms is not None and cleaning.forms.counted:
        resources = replace(resources, full_forms=cleaning.forms.full_forms())
    if not ids:
        raise DataProblem(
            f"No usable document: {nothing_usable(aside)}.", "Check --text, --label and --encoding against the table."
        )
    row_weights = np.array([as_number(cell) for cell in weights], dtype=np.float64) if columns.row_weight else None
    group_numbers = numbered(groups)[1] if columns.group else None
    if group_numbers is not None:  # documents of no group stand for themselves
        alone = np.array([not group for group in groups])
        group_numbers[alone] = group_numbers.max() + 1 + np.arange(int(alone.sum()))
    answers = []
    for name, cells in zip(columns.answers, labels, strict=True):
        rows = np.array([place for place, cell in enumerate(cells) if cell], dtype=np.int64)
        own = [cells[place] for place in rows.tolist()]
        if not own:
            raise DataProblem(f"No document has a label in column {name!r}.", "Check --label.")
        names, numbers, sets = _labels_of(own, columns.label_separator, name)
        labelled = Labelled(
            measured if rows.size == measured.documents else measured.rows(rows),
            numbers,
            names,
            row_weights[rows] if row_weights is not None else None,
            group_numbers[rows] if group_numbers is not None else None,
            sets,
        )
        answers.append(Answer(name, rows, labelled))
    return LabelledCorpus(measured, tuple(answers), resources, ids, dates, folds, texts)


def _labels_of(cells: list[str], separator: str, column: str) -> tuple[tuple[str, ...], Ints, Bools | None]:
    """The names of labels, the number of each document's label, and where cells may hold several, which each has."""
    if not separator:
        names, numbers = numbered(cells)
        if len(names) > _MOST_LABELS_UNASKED and 2 * len(names) > len(cells):
            raise DataProblem(
                f"The column {column!r} has {len(names):,} different values in {len(cells):,} documents: "
                "that is no label.",
                "Name another column with --label, or merge labels with upsort gather.",
            )
        return names, numbers, None
    held = [set_of_labels(cell, separator) for cell in cells]
    names = tuple(sorted({label for labels in held for label in labels}))
    sets = np.array([[name in labels for name in names] for labels in held], dtype=bool).reshape(len(held), len(names))
    return names, np.argmax(sets, axis=1).astype(np.int64), sets


def set_of_labels(cell: str, separator: str) -> set[str]:
    """The labels in a cell."""
    return {label.strip() for label in cell.split(separator) if label.strip()}
