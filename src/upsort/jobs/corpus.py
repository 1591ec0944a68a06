"""The labelled corpus that training and judging start from: counted once, whatever is done with it."""

from collections import deque
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from itertools import islice
from pathlib import Path

from upsort.core import plan
from upsort.core.arrays import Ints
from upsort.core.documents import Documents, regrouped
from upsort.core.errors import DataProblem
from upsort.core.features.counting import BLOCK_CHARACTERS, counts_of
from upsort.core.features.measured import Measured, of_counts
from upsort.core.features.measuring import Measuring, prefixes
from upsort.core.features.vectors import vectors_of_terms
from upsort.core.text.cleaning import Cleaner, cleaner
from upsort.core.text.word_steps import Resources
from upsort.core.training import numbered
from upsort.engine.processes import cleaned_tokens
from upsort.files.documents import read_documents
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

    Terms in fewer documents than `at_least` (the plan's bound) are left out at once, unless a vocabulary is given.
    """
    measuring = Measuring(choices.columns, choices.features)
    held: deque[Documents] = deque()

    def parts() -> Iterator[list[str]]:
        for block in regrouped(documents, BLOCK_CHARACTERS):
            held.append(block)
            yield from block.parts

    tokens = cleaned_tokens(parts(), cleaning, workers)
    for first in tokens:
        block = held.popleft()
        measuring.add(block, [first, *islice(tokens, len(block.parts) - 1)])
    if not measuring.cells:
        return of_counts(counts_of(()))
    if at_least is None:
        at_least = 1 if resources.vocabulary or choices.features.hash_bits else choices.features.in_at_least
    measured = measuring.measured(at_least)
    if not choices.features.vectors_file:
        return measured
    begins = prefixes(choices.columns, choices.features)
    wanted = frozenset(term.removeprefix(begin) for term in measured.terms for begin in begins)
    words, vectors = read_vectors(Path(choices.features.vectors_file), wanted)
    return replace(measured, vectors=vectors_of_terms(measured.terms, words, vectors, begins))


@dataclass(frozen=True)
class LabelledCorpus:
    """measured: all documents. labels: (n,) numbers into `names`, which are sorted. resources: of the cleaning."""

    measured: Measured
    labels: Ints
    names: tuple[str, ...]
    resources: Resources

    @property
    def documents(self) -> int:
        """Number of documents."""
        return int(self.labels.size)


def read_labelled_corpus(
    inputs: Inputs, choices: plan.Plan, aside: SetAside, advance: Advance = no_progress, workers: int = 1
) -> LabelledCorpus:
    """Read, clean and count all usable labelled documents. Raises DataProblem when there is none.

    workers: processes to clean and tokenise in; the result is the same for any number.
    """
    labels: list[str] = []
    resources = resources_for(choices.clean, choices.features)
    cleaning = cleaner(choices.clean, resources, choices.features.within_sentences)

    def documents() -> Iterator[Documents]:
        for block in read_documents(
            inputs, choices.columns, aside, need_label=True, cleaning=cleaning, apart=choices.features.apart
        ):
            labels.extend(block.labels)
            yield block.documents
            advance(len(block.documents))

    measured = measured_of(documents(), cleaning, choices, resources, workers)
    if not labels:
        raise DataProblem(
            f"No usable document: {nothing_usable(aside)}.", "Check --text, --label and --encoding against the table."
        )
    names, numbers = numbered(labels)
    if len(names) > _MOST_LABELS_UNASKED and 2 * len(names) > len(labels):
        raise DataProblem(
            f"The column {choices.columns.label!r} has {len(names):,} different values in {len(labels):,} documents: "
            "that is no label.",
            "Name another column with --label, or merge labels with upsort gather.",
        )
    return LabelledCorpus(measured, numbers, names, resources)
