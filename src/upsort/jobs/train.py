"""Training a sorter and saving it."""

from dataclasses import dataclass
from pathlib import Path

from upsort.core.features.vocabulary import too_common
from upsort.core.judging.intervals import Rate, wilson
from upsort.core.plan import Plan
from upsort.core.sorter import Sorter
from upsort.core.training import fit
from upsort.files.set_aside import SetAside
from upsort.files.sorter_file import save_sorter
from upsort.files.sources import Inputs
from upsort.files.writing import check_writable
from upsort.jobs.corpus import read_labelled_corpus
from upsort.jobs.progress import Advance, no_progress


@dataclass(frozen=True)
class TrainResult:
    """The sorter, where it was saved, and its accuracy on the documents it was trained on.

    too_common: terms left out because more than features.in_at_most of the documents hold them: the corpus's own stop words,
    commonest first. without_tokens: documents that cleaning left without any.
    """

    sorter: Sorter
    path: Path
    size: int
    training_accuracy: Rate
    too_common: list[str]
    without_tokens: int


def train(
    inputs: Inputs, plan: Plan, output: Path, aside: SetAside, advance: Advance = no_progress, workers: int = 1
) -> TrainResult:
    """Train on all usable labelled documents of `inputs` and write the sorter to `output`."""
    check_writable(output)
    corpus = read_labelled_corpus(inputs, plan, aside, advance, workers)
    sorter, _ = fit(corpus.measured, corpus.labels, corpus.names, plan, corpus.resources)
    size = save_sorter(sorter, output)
    return TrainResult(
        sorter,
        output,
        size,
        wilson(sorter.trained.right, sorter.trained.documents),
        too_common(corpus.measured.counts, corpus.measured.terms, plan.features),
        int((corpus.measured.tokens == 0).sum()),
    )
