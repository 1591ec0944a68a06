"""The labelled corpus that training and judging start from: counted once, whatever is done with it."""

from collections.abc import Iterator
from dataclasses import dataclass

from upsort.core import plan
from upsort.core.arrays import Ints
from upsort.core.errors import DataProblem
from upsort.core.features.counting import Counts, count
from upsort.core.training import numbered
from upsort.files.documents import read_documents
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.jobs.progress import Advance, no_progress, nothing_usable


@dataclass(frozen=True)
class LabelledCorpus:
    """counts: of all documents. labels: (n,) numbers into `names`, which are sorted."""

    counts: Counts
    labels: Ints
    names: tuple[str, ...]

    @property
    def documents(self) -> int:
        """Number of documents."""
        return int(self.labels.size)


def read_labelled_corpus(
    inputs: Inputs, choices: plan.Plan, aside: SetAside, advance: Advance = no_progress
) -> LabelledCorpus:
    """Read, clean and count all usable labelled documents. Raises DataProblem when there is none."""
    labels: list[str] = []

    def texts() -> Iterator[str]:
        for block in read_documents(inputs, choices.columns, aside, need_label=True):
            labels.extend(block.labels)
            yield from block.texts
            advance(len(block.texts))

    counts = count(texts(), choices.clean)
    if not labels:
        raise DataProblem(
            f"No usable document: {nothing_usable(aside)}.", "Check --text, --label and --encoding against the table."
        )
    names, numbers = numbered(labels)
    return LabelledCorpus(counts, numbers, names)
