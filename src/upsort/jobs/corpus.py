"""The labelled corpus that training and judging start from: counted once, whatever is done with it."""

from collections.abc import Iterator
from dataclasses import dataclass

from upsort.core import plan
from upsort.core.arrays import Ints
from upsort.core.errors import DataProblem
from upsort.core.features.counting import Counts, count, counts_of, in_blocks
from upsort.core.features.ngrams import terms_of
from upsort.core.text.cleaning import cleaner
from upsort.core.text.word_steps import Resources
from upsort.core.training import numbered
from upsort.engine.processes import cleaned_tokens
from upsort.files.documents import read_documents
from upsort.files.resources import resources_for
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.jobs.progress import Advance, no_progress, nothing_usable

_MOST_LABELS_UNASKED = 20


@dataclass(frozen=True)
class LabelledCorpus:
    """counts: of all documents. labels: (n,) numbers into `names`, which are sorted. resources: of the cleaning."""

    counts: Counts
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

    def texts() -> Iterator[str]:
        for block in read_documents(inputs, choices.columns, aside, need_label=True, cleaning=cleaning):
            labels.extend(block.labels)
            yield from block.texts
            advance(len(block.texts))

    features = choices.features
    if features.units == "letters":
        counts = count(texts(), cleaning, features)
    else:
        blocks = cleaned_tokens(in_blocks(texts()), cleaning, workers)
        counts = counts_of(terms_of(block, features) for block in blocks)
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
    return LabelledCorpus(counts, numbers, names, resources)
