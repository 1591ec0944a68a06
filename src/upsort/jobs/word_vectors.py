"""Making word vectors from the documents at hand."""

from pathlib import Path

import numpy as np

from upsort.core.features.counting import BLOCK_CHARACTERS, TermCounting
from upsort.core.features.making_vectors import make_vectors
from upsort.core.records import record
from upsort.core.text.cleaning import cleaner
from upsort.engine.cutting import Tokenising, cut_blocks
from upsort.files.document_blocks import large_blocks
from upsort.files.documents import DocumentReader
from upsort.files.resources import resources_for
from upsort.files.vectors import write_vectors
from upsort.jobs.work import RunContext

_SHOWN = 8
_NEAREST = 5


@record(frozen=True)
class MadeVectors:
    """How many words have a vector, and for a few of the commonest the words that are nearest by cosine."""

    documents: int
    words: int
    nearest: dict[str, list[str]]


def make_word_vectors(work: RunContext, output: Path, dimensions: int) -> MadeVectors:
    """Read the documents, factorise their words' co-occurrences, write the vectors to `output`."""
    cleaning = cleaner(work.plan.clean, resources_for(work.plan.clean))
    counting = TermCounting(work.plan.features, forms=cleaning.forms)
    blocks = large_blocks(
        DocumentReader(work.plan.columns, cleaning=cleaning).blocks(work.inputs, work.rejects), BLOCK_CHARACTERS
    )
    for block, cut in cut_blocks(blocks, lambda block: [block.texts], Tokenising(cleaning, cleaning.memory())):
        for part in cut:
            counting.add(part)
        work.advance(len(block.documents))
    tokens = counting.tokens()
    words, vectors = make_vectors(tokens, dimensions)
    write_vectors(output, words, vectors)
    place = {word: number for number, word in enumerate(words)}
    totals = np.bincount(tokens.codes, minlength=len(tokens.words))
    common = [tokens.words[code] for code in np.argsort(-totals, kind="stable").tolist() if len(tokens.words[code]) > 4]
    nearest = {}
    for word in [word for word in common if word in place][:_SHOWN]:
        order = np.argsort(-(vectors @ vectors[place[word]]), kind="stable")[1 : _NEAREST + 1]
        nearest[word] = [words[number] for number in order.tolist()]
    return MadeVectors(tokens.starts.size - 1, len(words), nearest)
